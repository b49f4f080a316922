"""Restores for the window: planned, carried out, undone."""

from __future__ import annotations

import itertools
import os
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import msgspec

from good_tide.agent.job_session import JobSession
from good_tide.agent.sessions import Sessions
from good_tide.agent.worker import Worker
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import JobId, PlanId
from good_tide.core.progress import Silent, Steering, WorkKind
from good_tide.core.restoring import (
    Action,
    Extent,
    PlanItem,
    RestoreNote,
    RestoreRequest,
    RestoreState,
    Wished,
)
from good_tide.core.translation import tr
from good_tide.core.words import count_words, printable, size_words
from good_tide.operations.context import Context
from good_tide.operations.restore.plan import Plan
from good_tide.operations.restore.plan_tree import TOP, PlanTree
from good_tide.operations.restore.restoring import aside_of, let_go, plan_request, restore, undo_restore
from good_tide.operations.stores.opening import Store
from good_tide.protocol.agent_calls import RestoreResult, WorkEnded
from good_tide.protocol.contract import Handler
from good_tide.protocol.restore_calls import (
    GoOnRestoring,
    LetRestoreGo,
    PlanItems,
    PlanRestore,
    PlanView,
    ReadPlanItems,
    ReadRestores,
    Restore,
    RestoreMade,
    RestoresView,
    UndoRestore,
)

_PLAN_ITEMS_SHOWN = 2000


_PLANS_KEPT = 4
"""Several windows may plan at once, and answers to one that plans again and again may come in any order."""


class _KeptPlan(NamedTuple):
    """A plan, with the job and the store that it was made for, what was asked for, and, where a restore that
    was cut off goes on, its identity."""

    session: JobSession
    store: Store
    plan: Plan
    request: RestoreRequest
    tree: PlanTree
    note: str | None = None


class RestoreHandlers:
    """Keeps the newest plans, and has the worker carry it out."""

    def __init__(self, context: Context, sessions: Sessions, worker: Worker) -> None:
        self._context, self._sessions, self._worker = context, sessions, worker
        self._plans: dict[PlanId, _KeptPlan] = {}
        self._numbers = itertools.count(1)
        self._lock = threading.Lock()

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (
            PlanRestore.by(self.plan),
            ReadPlanItems.by(self.items),
            Restore.by(self.restore),
            UndoRestore.by(self.undo),
            ReadRestores.by(self.restores),
            GoOnRestoring.by(self.go_on),
            LetRestoreGo.by(lambda wanted: self.let_go(wanted.restore)),
        )

    def plan(self, wanted: PlanRestore) -> PlanView:
        """Work out a restore plan and keep it."""
        session = self._sessions.of(wanted.job)
        for item in wanted.items:
            session.snapshot(item.snapshot, item.time)  # or it is said which one is no longer kept
        request = RestoreRequest(
            tuple(Wished(item.path, item.snapshot) for item in wanted.items),
            wanted.into,
            wanted.existing,
            wanted.extent,
            wanted.homes,
        )
        kept = self._planned(session, request)
        number = PlanId(next(self._numbers))
        with self._lock:
            self._plans[number] = kept
            for old in sorted(self._plans)[:-_PLANS_KEPT]:
                del self._plans[old]
        counts = {action: count for action in Action if (count := kept.plan.count(action))}
        top = _items(kept.tree.branches(TOP))
        return PlanView(number, counts, kept.plan.payload, top, kept.plan.notes)

    def _planned(self, session: JobSession, request: RestoreRequest) -> _KeptPlan:
        exactly = request.extent is Extent.EXACTLY and not session.reading
        store = session.store()
        plan = plan_request(self._context, store, request, session.job if exactly else None, Silent())
        return _KeptPlan(session, store, plan, request, PlanTree(plan))

    def items(self, wanted: ReadPlanItems) -> PlanItems:
        """What is below an item of a plan.

        Raises:
            PersonError: other plans were made since.
        """
        above = TOP if wanted.above is None else wanted.above
        return _items(self._kept(wanted.plan, wanted.job).tree.branches(above, wanted.only))

    def _kept(self, plan: PlanId, job: JobId) -> _KeptPlan:
        kept = self._plans.get(plan)
        if kept is None or kept.session is not self._sessions.of(job):
            raise PersonError(tr("This plan is no longer current"), tr("Make it again"))
        return kept

    def restore(self, wanted: Restore) -> None:
        """Begin to carry a plan out.

        Raises:
            PersonError: other plans were made since.
        """
        kept = self._kept(wanted.plan, wanted.job)
        kept = kept._replace(
            plan=kept.plan.without(wanted.without),
            request=msgspec.structs.replace(kept.request, without=wanted.without),
        )
        self._begin(kept)
        self._plans.pop(wanted.plan, None)

    def _begin(self, kept: _KeptPlan) -> None:
        self._worker.start(
            WorkKind.RESTORE, lambda steering: self._restore(kept, steering), (kept.session.job,)
        )

    def _restore(self, kept: _KeptPlan, steering: Steering) -> WorkEnded:
        job = kept.session.job
        report = restore(
            self._context,
            kept.store,
            kept.plan,
            kept.request,
            steering,
            job=job.id,
            place=kept.session.shown.path if kept.session.reading else job.name,
            check=True,
            note=kept.note,
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
            kept.plan.places(),
        )
        words = tr("Restored {created}, {bytes}").format(
            created=count_words(report.created + report.replaced, "item"), bytes=size_words(report.bytes)
        )
        return WorkEnded(WorkKind.RESTORE, restore=result, words=words)

    def restores(self, wanted: ReadRestores) -> RestoresView:
        """The restores that are remembered."""
        made = []
        for note in self._context.restores.all():
            aside = aside_of(note)
            there = tuple(folder for folder in note.folders if os.path.isdir(folder))
            made.append(RestoreMade(note, aside.files, aside.bytes, there))
        return RestoresView(tuple(made))

    def go_on(self, wanted: GoOnRestoring) -> None:
        """Begin to go on with a restore that was cut off.

        Raises:
            GoodTideError: there is none, or its store is not there.
        """
        note = self._note(wanted.restore)
        if note.state is not RestoreState.CUT_OFF:
            raise PersonError(tr("This restore is not cut off"), tr("See what is listed now"))
        session = self._sessions.find(note.job) or next(
            (one for one in self._sessions.all() if one.shown.id == note.store), None
        )
        if session is None:
            what = tr("The store of this restore, {place}, is not open here").format(place=note.place)
            raise PersonError(what, tr("Open it to read, and go on then"))
        self._begin(self._planned(session, note.request)._replace(note=note.id))

    def _note(self, identity: str) -> RestoreNote:
        note = self._context.restores.find(identity)
        if note is None:
            raise PersonError(tr("This restore is not remembered any more"), tr("See what is listed now"))
        return note

    def let_go(self, identity: str) -> None:
        """Delete what a restore set aside.

        Raises:
            GoodTideError: it goes on, or the disk does not allow it.
        """
        let_go(self._context, self._note(identity))

    def undo(self, wanted: UndoRestore) -> None:
        """Begin to undo a restore."""
        folders = [Path(folder) for folder in wanted.folders]
        self._worker.start(WorkKind.UNDO, lambda steering: self._undo(folders), ())

    def _undo(self, folders: list[Path]) -> WorkEnded:
        report = undo_restore(self._context, folders)
        words = tr("Undone: {put_back} put back, {removed} removed").format(
            put_back=count_words(report.put_back, "thing"),
            removed=count_words(report.removed, "restored thing"),
        )
        if report.kept:
            words += "; " + tr("{kept} left because it was changed since").format(
                kept=count_words(len(report.kept), "thing")
            )
        return WorkEnded(WorkKind.UNDO, words=words)


def _items(branches: Iterator[PlanItem]) -> PlanItems:
    """As many as are shown: what there is something to do for before what is identical, folders first."""
    found = sorted(
        branches, key=lambda one: (set(one.counts) == {Action.IDENTICAL}, not one.folder, one.path)
    )
    sent = found[:_PLAN_ITEMS_SHOWN]
    return PlanItems(
        tuple(sent),
        len(found) - len(sent),
    )
