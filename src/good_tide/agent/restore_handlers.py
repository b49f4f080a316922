"""Restores for the window: planned, carried out, undone."""

from __future__ import annotations

import itertools
import threading
from pathlib import Path
from typing import NamedTuple

from good_tide.agent.job_session import JobSession
from good_tide.agent.sessions import Sessions
from good_tide.agent.worker import Worker
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import PlanId
from good_tide.core.progress import Silent, Steering, WorkKind
from good_tide.core.restoring import Action, Extent
from good_tide.core.words import count_words, printable, size_words
from good_tide.operations.context import Context
from good_tide.operations.coverage.selecting import job_selector
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Elsewhere, Plan, Wish, plan_restore
from good_tide.operations.restore.set_aside import UndoReport, undo
from good_tide.operations.stores.opening import Store
from good_tide.protocol.agent_calls import RestoreResult, WorkEnded
from good_tide.protocol.contract import Handler
from good_tide.protocol.restore_calls import PlanItem, PlanRestore, PlanView, Restore, UndoRestore

_PLAN_ITEMS_SHOWN = 2000


_PLANS_KEPT = 4
"""Several windows may plan at once, and answers to one that plans again and again may come in any order."""


class _KeptPlan(NamedTuple):
    """A plan, with the job and the store that it was made for."""

    session: JobSession
    store: Store
    plan: Plan


class RestoreHandlers:
    """Keeps the newest plans, and has the worker carry it out."""

    def __init__(self, context: Context, sessions: Sessions, worker: Worker) -> None:
        self._context, self._sessions, self._worker = context, sessions, worker
        self._plans: dict[PlanId, _KeptPlan] = {}
        self._numbers = itertools.count(1)
        self._lock = threading.Lock()

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return PlanRestore.by(self.plan), Restore.by(self.restore), UndoRestore.by(self.undo)

    def plan(self, wanted: PlanRestore) -> PlanView:
        """Work out a restore plan and keep it."""
        session = self._sessions.of(wanted.job)
        wishes = [Wish(session.snapshot(item.snapshot, item.time), item.path) for item in wanted.items]
        into = Path(wanted.into) if wanted.into else None
        store = session.store()
        exactly = wanted.extent is Extent.EXACTLY and not session.reading
        selector = job_selector(session.job, self._context.clock.now()) if exactly else None
        own = self._context.here.own_places
        plan = plan_restore(
            store,
            wishes,
            into,
            wanted.existing,
            Silent(),
            wanted.extent,
            selector,
            Elsewhere(wanted.homes),
            own,
        )
        number = PlanId(next(self._numbers))
        with self._lock:
            self._plans[number] = _KeptPlan(session, store, plan)
            for old in sorted(self._plans)[:-_PLANS_KEPT]:
                del self._plans[old]
        interesting = sorted(plan.steps, key=lambda step: step.action is Action.IDENTICAL)
        items = tuple(
            PlanItem(step.shown, step.action, step.entry.stat.size, step.note)
            for step in interesting[:_PLAN_ITEMS_SHOWN]
        )
        counts = {action: plan.count(action) for action in Action}
        return PlanView(
            number,
            counts[Action.CREATE],
            counts[Action.REPLACE],
            counts[Action.IDENTICAL],
            counts[Action.SKIP],
            counts[Action.BLOCKED],
            plan.payload,
            items,
            plan.notes,
            counts[Action.ASIDE],
        )

    def restore(self, wanted: Restore) -> None:
        """Begin to carry a plan out.

        Raises:
            PersonError: other plans were made since.
        """
        kept = self._plans.get(wanted.plan)
        if kept is None or kept.session is not self._sessions.of(wanted.job):
            raise PersonError("This plan is no longer current", "Make it again")
        self._worker.start(
            WorkKind.RESTORE, lambda steering: self._restore(kept, steering), (kept.session.job,)
        )
        self._plans.pop(wanted.plan, None)

    def _restore(self, kept: _KeptPlan, steering: Steering) -> WorkEnded:
        report = carry_out(
            kept.store, kept.plan, self._context.clock, steering, self._context.here.restores, check=True
        )
        problems = tuple(
            f"{printable(problem.path)}: {problem.reason}"
            for problem in [*report.problems, *report.metadata_notes]
        )
        aside = tuple(str(path) for path in report.set_aside)
        result = RestoreResult(
            report.created,
            report.replaced,
            report.identical,
            report.skipped,
            report.bytes,
            aside,
            problems,
            report.strange,
            report.checked,
            (*aside, *(str(path) for path in report.records)),
        )
        words = (
            f"Restored {count_words(report.created + report.replaced, 'item')}, {size_words(report.bytes)}"
        )
        return WorkEnded(WorkKind.RESTORE, restore=result, words=words)

    def undo(self, wanted: UndoRestore) -> None:
        """Begin to undo a restore."""
        folders = [Path(folder) for folder in wanted.folders]
        self._worker.start(WorkKind.UNDO, lambda steering: self._undo(folders), ())

    def _undo(self, folders: list[Path]) -> WorkEnded:
        report = UndoReport(kept=[])
        for folder in folders:
            done = undo(folder)
            report.put_back += done.put_back
            report.removed += done.removed
            report.kept += done.kept
        words = (
            f"Undone: {count_words(report.put_back, 'thing')} put back,"
            f" {count_words(report.removed, 'restored thing')} removed"
        )
        if report.kept:
            words += f"; {count_words(len(report.kept), 'thing')} left because it was changed since"
        return WorkEnded(WorkKind.UNDO, words=words)
