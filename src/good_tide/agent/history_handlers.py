"""Everything that a window shows of a job before anything is chosen, and what is asked of its history."""

from __future__ import annotations

import contextlib
import threading
import time
from concurrent.futures import Future
from typing import NamedTuple

import msgspec

from good_tide.agent.schedule_handlers import ScheduleHandlers
from good_tide.agent.sessions import Sessions
from good_tide.agent.worker import Worker
from good_tide.core.errors import GoodTideError
from good_tide.core.identifiers import HistoryId, JobId
from good_tide.core.job_facts import StoreState
from good_tide.core.tide import NO_TIDE
from good_tide.core.translation import tr
from good_tide.core.words import printable
from good_tide.operations.context import Context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.retention.by_hand import pin_by_hand
from good_tide.operations.stores.opened import snapshot_of
from good_tide.protocol.agent_calls import JobName, Overview, ReadOverview
from good_tide.protocol.contract import Handler
from good_tide.protocol.history_calls import (
    FindNames,
    FolderView,
    FoundView,
    PinSnapshot,
    ReadFolder,
    ReadGaps,
)

_SHOWN = (StoreState.READY, StoreState.EMPTY)
_AHEAD_SECONDS = 1.0
"""So long after it was made an overview that was made ahead is given to who asks."""


class _Ahead(NamedTuple):
    """An overview that was made before somebody asked for it, and when, by the monotonic clock."""

    overview: Overview
    made: float


class _Coming(NamedTuple):
    """One that is being made, of a job; None when it cannot be made."""

    job: JobId
    ahead: Future[_Ahead | None]


class HistoryHandlers:
    """Answers about the history of jobs."""

    def __init__(
        self, context: Context, sessions: Sessions, worker: Worker, schedule: ScheduleHandlers
    ) -> None:
        self._context, self._sessions, self._worker, self._schedule = context, sessions, worker, schedule
        self._coming: _Coming | None = None

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (
            ReadOverview.by(self.overview),
            ReadFolder.by(self.folder),
            FindNames.by(self.find),
            PinSnapshot.by(self.pin),
            ReadGaps.by(self.gaps),
        )

    def begin_ahead(self) -> None:
        """Make the overview that the window which began this agent asks for as soon as it is drawn: that of
        the first job. Who asks for it meanwhile waits for it, so that nothing is read twice at the same
        time."""
        first = next(iter(self._sessions.all()), None)
        if first is not None:
            self._coming = coming = _Coming(first.job.id, Future())
            threading.Thread(target=self._make_ahead, args=(coming,), name="ahead", daemon=True).start()

    def _make_ahead(self, coming: _Coming) -> None:
        """What is wrong is said when the window asks."""
        made = None
        try:
            with contextlib.suppress(GoodTideError, OSError):
                made = _Ahead(self._made(ReadOverview(coming.job)), time.monotonic())
        finally:
            coming.ahead.set_result(made)

    def overview(self, wanted: ReadOverview) -> Overview:
        """Everything the window shows of a job; of the first one there is, if there is none with this
        identity."""
        coming = self._coming
        if coming is None or wanted.known or wanted.job not in ("", coming.job):
            return self._made(wanted)
        ahead, self._coming = coming.ahead.result(), None
        if ahead is None or not self._holds(ahead):
            return self._made(wanted)
        return msgspec.structs.replace(
            ahead.overview, now=self._context.clock.now(), work=self._worker.current
        )

    def _holds(self, ahead: _Ahead) -> bool:
        """Whether an overview that was made ahead holds still."""
        overview, age = ahead.overview, time.monotonic() - ahead.made
        if age >= _AHEAD_SECONDS or overview.state not in _SHOWN:
            return False
        return self._sessions.of(overview.job).history() == overview.history

    def _made(self, wanted: ReadOverview) -> Overview:
        sessions = self._sessions.all()
        if not sessions:
            here = self._context.here
            return Overview(StoreState.NO_JOB, now=self._context.clock.now(), machine=here.machine.name)
        session = self._sessions.find(wanted.job) or sessions[0]
        job, state = session.job, session.state()
        shown = state in _SHOWN
        history, kept, tide = session.news(wanted.known) if shown else (HistoryId(""), 0, NO_TIDE)
        return Overview(
            state=state,
            job=job.id,
            name=job.name,
            machine=session.machine.name,
            now=self._context.clock.now(),
            standing=None if session.reading else self._schedule.standing(session),
            trouble=tuple(session.damage),
            stores=session.store_views(),
            store_use=job.store_use,
            rules=job.rules,
            kinds=job.kinds,
            jobs=tuple(JobName(one.job.id, one.job.name) for one in sessions),
            reading=session.reading,
            history_read=session.read,
            covered=job.folders,
            home=job.home or home_folder(),
            history=history,
            kept=kept,
            tide=tide,
            pinned=session.pinned() if shown else {},
            work=self._worker.current,
            lost=session.lost_versions() if shown else 0,
        )

    def folder(self, wanted: ReadFolder) -> FolderView:
        """Lifelines of a folder's contents."""
        return self._sessions.of(wanted.job).folder(wanted.path)

    def find(self, wanted: FindNames) -> FoundView:
        """Names that were ever in a snapshot."""
        return self._sessions.of(wanted.job).find(wanted.query, wanted.most)

    def pin(self, wanted: PinSnapshot) -> None:
        """Pin a snapshot of a job, or take its pin away.

        Raises:
            PersonError: it is no longer kept.
        """
        session = self._sessions.of(wanted.job)
        snapshot = session.snapshot(wanted.snapshot, 0)
        pin_by_hand(self._context, session.job, session.store(), snapshot.id, wanted.on, wanted.label)

    def gaps(self, wanted: ReadGaps) -> list[str]:
        """What a snapshot of a job left out, a line each."""
        record = snapshot_of(self._sessions.of(wanted.job).store(), wanted.snapshot).record
        gaps = [f"{printable(item.path)}: {item.detail}" for item in record.missing]
        return [
            *gaps,
            *(
                tr("{path}: changed while it was read").format(path=printable(path))
                for path in record.unsteady
            ),
        ]
