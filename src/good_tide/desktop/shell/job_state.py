"""What the window knows of the job that it shows, and how it is kept up to date."""

from __future__ import annotations

import msgspec
from PySide6.QtCore import QObject, QTimer, Signal

from good_tide.core.history import known_parts
from good_tide.core.identifiers import JobId
from good_tide.core.job_facts import JobFacts, StoreState
from good_tide.core.status import Mood, State, Status, status
from good_tide.core.tide import NO_TIDE, Tide
from good_tide.core.translation import tr
from good_tide.core.work_words import work_words
from good_tide.desktop.link import AgentLink
from good_tide.protocol.agent_calls import (
    DisksChanged,
    HistoryChanged,
    Overview,
    ReadOverview,
    StandingsChanged,
    Work,
    WorkEnded,
    WorkGoesOn,
)

_REFRESH_MS = 60_000
_CATCH_UP_MS = 500

__all__ = [tr("JobState"), tr("Progress"), tr("WorkKind")]

_TAKES = (StoreState.READY, StoreState.EMPTY, StoreState.CATCHING_UP, StoreState.REPLACED)
"""States in which a snapshot can be taken: where the store was replaced, it is kept on this machine."""


class JobState(QObject):
    """Asks for the overview, tells of it, and takes in what the agent tells by itself.

    ``changed``: there is another overview. ``switched``: of another job, or its store is in another state.
    ``work_changed``: what the agent does. ``ended``: some work ended (``WorkEnded``).
    """

    changed = Signal()
    switched = Signal()
    work_changed = Signal()
    status_changed = Signal()
    ended = Signal(object)

    def __init__(self, link: AgentLink, parent: QObject) -> None:
        super().__init__(parent)
        self._link = link
        self.overview = Overview(StoreState.UNKNOWN)
        self._wanted = JobId("")
        self._tide = NO_TIDE
        link.hear(WorkGoesOn, self._goes_on)
        link.hear(WorkEnded, self._ended)
        link.hear(StandingsChanged, self._take_standings)
        link.hear(HistoryChanged, self._history_changed)
        link.hear(DisksChanged, lambda note: self.ask())
        timer = QTimer(self, interval=_REFRESH_MS)
        timer.timeout.connect(self.ask)
        timer.start()

    def ask(self) -> None:
        """Bring everything up to date. Of a history that is known only what is new is asked for."""
        known = self._tide
        call = ReadOverview(self._wanted, known_parts(known.name))
        self._link.ask(call, lambda answer: self._take(answer, known), in_order=True)

    def show_job(self, job: JobId) -> None:
        """Show another job."""
        self._wanted = job
        self.ask()

    def _take(self, answer: Overview, known: Tide) -> None:
        if answer.job != self._wanted and self._wanted in {job.id for job in answer.jobs}:
            return  # another job was chosen meanwhile, and its answer is on its way
        before = self.overview
        held = known if answer.kept == len(known) else known[: answer.kept]
        self._tide = held.then(answer.tide)
        self.overview = msgspec.structs.replace(answer, tide=self._tide, kept=0)
        self._link.job = self._wanted = answer.job
        if answer.state is StoreState.CATCHING_UP:
            QTimer.singleShot(_CATCH_UP_MS, self.ask)
        self.changed.emit()
        if (before.state, before.job) != (answer.state, answer.job):
            self.switched.emit()

    def _with(self, **changes: object) -> None:
        self.overview = msgspec.structs.replace(self.overview, **changes)

    def _goes_on(self, note: WorkGoesOn) -> None:
        self._with(work=note.work)
        self.work_changed.emit()
        self.status_changed.emit()

    def _ended(self, note: WorkEnded) -> None:
        self._with(work=None)
        self.work_changed.emit()
        self.ended.emit(note)
        self.ask()

    def _history_changed(self, note: HistoryChanged) -> None:
        if note.job in ("", self.overview.job):
            self.ask()

    def _take_standings(self, note: StandingsChanged) -> None:
        """How the jobs stand now; another snapshot than that known asks for everything anew."""
        mine = next((one for one in note.standings if one.job == self.overview.job), None)
        if mine is None or self.overview.reading:
            return
        newer = self.overview.standing is None or mine.last != self.overview.standing.last
        self._with(standing=mine)
        self.status_changed.emit()
        if newer:
            self.ask()

    @property
    def work(self) -> Work | None:
        """What the agent does."""
        return self.overview.work

    @property
    def may_take(self) -> bool:
        """Whether a snapshot can be taken now."""
        return self.overview.state in _TAKES and self.work is None and not self.overview.reading

    def status(self) -> Status:
        """What the agent says, or what follows from the store alone where it keeps no rhythm: no job yet, or
        opened only to read."""
        overview, work = self.overview, self.work
        if work is not None:
            known = overview.standing.status if overview.standing is not None else None
            detail = known.detail if known is not None else ""
            return Status(State.RUNNING, f"{work_words(work.what, work.paused)}.", detail, Mood.WORKING)
        if overview.standing is not None:
            return overview.standing.status
        last, store = overview.tide[-1] if overview.tide else None, overview.store
        return status(
            JobFacts(
                state=overview.state,
                by_hand=True,
                disk=store.disk if store is not None else "",
                last=last.time if last is not None else 0,
                gaps=last.gaps if last is not None else 0,
                free=store.disk_free if store is not None and store.present else None,
            ),
            overview.now,
        )
