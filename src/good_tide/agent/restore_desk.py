"""Restores for the window: planned, carried out, undone."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from good_tide.agent.requests import PlanRequest
from good_tide.agent.session import Session
from good_tide.agent.work import Worker
from good_tide.core.clock import Clock
from good_tide.core.errors import PersonError
from good_tide.core.progress import Silent, Steering
from good_tide.core.selection import no_longer_kept
from good_tide.core.words import count_words, printable, size_words
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Action, Existing, Plan, Wish, plan_restore
from good_tide.operations.restore.set_aside import undo
from good_tide.operations.stores.opening import Store
from good_tide.protocol.messages import Finished, PlanItem, PlanView, RestoreResult

_PLAN_ITEMS_SHOWN = 2000


class _Kept(NamedTuple):
    """A plan, with the job and the store that it was made for."""

    session: Session
    store: Store
    plan: Plan


class RestoreDesk:
    """Keeps the newest plan, and has the worker carry it out."""

    def __init__(self, worker: Worker, clock: Clock) -> None:
        self._worker, self._clock = worker, clock
        self._plans: dict[int, _Kept] = {}
        self._plan_number = 0

    def plan(self, session: Session, request: PlanRequest) -> PlanView:
        """Work out a restore plan and keep it."""
        wishes = [Wish(session.snapshot(item.snapshot, item.time), item.path) for item in request.items]
        into = Path(request.into) if request.into else None
        store = session.store()
        plan = plan_restore(store, wishes, into, Existing(request.existing), Silent())
        self._plan_number += 1
        self._plans = {self._plan_number: _Kept(session, store, plan)}
        interesting = sorted(plan.steps, key=lambda step: step.action is Action.IDENTICAL)
        items = tuple(
            PlanItem(step.shown, step.action.value, step.entry.stat.size, step.note)
            for step in interesting[:_PLAN_ITEMS_SHOWN]
        )
        counts = {action: plan.count(action) for action in Action}
        return PlanView(
            self._plan_number,
            counts[Action.CREATE],
            counts[Action.REPLACE],
            counts[Action.IDENTICAL],
            counts[Action.SKIP],
            counts[Action.BLOCKED],
            plan.payload,
            items,
            plan.notes,
        )

    def restore(self, session: Session, number: int) -> None:
        """Begin to carry a plan out.

        Raises:
            PersonError: another plan was made since.
        """
        kept = self._plans.get(number)
        if kept is None or kept.session is not session:
            raise PersonError("This plan is no longer current", "Make it again")
        self._worker.start("restore", lambda steering: self._restore(kept, steering))
        self._plans.pop(number, None)

    def _restore(self, kept: _Kept, steering: Steering) -> Finished:
        present = set(kept.store.snapshot_names())
        for snapshot in {step.snapshot.name: step.snapshot for step in kept.plan.steps}.values():
            if snapshot.name not in present:
                times = [one.record.time for one in kept.store.snapshots()[0]]
                raise no_longer_kept(snapshot.record.time, times, self._clock.now())
        report = carry_out(kept.store, kept.plan, self._clock, steering)
        problems = tuple(
            f"{printable(problem.path)}: {problem.reason}"
            for problem in [*report.problems, *report.metadata_notes]
        )
        aside = tuple(str(path) for path in report.set_aside)
        result = RestoreResult(
            report.created, report.replaced, report.identical, report.skipped, report.bytes, aside, problems
        )
        words = (
            f"Restored {count_words(report.created + report.replaced, 'item')}, {size_words(report.bytes)}"
        )
        return Finished("restore", restore=result, words=words)

    def undo(self, folder: str) -> None:
        """Begin to undo a restore."""
        self._worker.start("undo", lambda steering: self._undo(Path(folder)))

    def _undo(self, folder: Path) -> Finished:
        report = undo(folder)
        words = (
            f"Undone: {count_words(report.put_back, 'thing')} put back,"
            f" {count_words(report.removed, 'restored thing')} removed"
        )
        if report.kept:
            words += f"; {count_words(len(report.kept), 'thing')} left because it was changed since"
        return Finished("undo", words=words)
