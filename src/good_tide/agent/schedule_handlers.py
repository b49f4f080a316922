"""What happens by itself, and the questions about it: rhythm, ladder, pauses, the last run of the day,
standings."""

from __future__ import annotations

import contextlib

import msgspec

from good_tide.agent.environment import Environment
from good_tide.agent.folder_watching import FolderWatching
from good_tide.agent.job_session import JobSession
from good_tide.agent.runs import Runs
from good_tide.agent.scheduler import Scheduler
from good_tide.agent.sessions import Sessions
from good_tide.agent.worker import Worker
from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError, StoreReplacedError
from good_tide.core.job_facts import StoreState
from good_tide.core.planning import Wait
from good_tide.core.settings import Job
from good_tide.core.standing import JobStanding
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.jobs import changing
from good_tide.operations.reporting.post import Post
from good_tide.operations.schedule.pausing import pause
from good_tide.operations.schedule.standing import Doing, Standings
from good_tide.operations.stores.holding_area import area_folder, limit_bytes
from good_tide.operations.workplace import stays_installed
from good_tide.protocol.contract import Handler
from good_tide.protocol.schedule_calls import (
    EjectableDisk,
    KeepLadder,
    KeepRhythm,
    LookNow,
    PanelView,
    PauseRhythm,
    ReadPanel,
    ReadRhythm,
    ReadStandings,
    RhythmView,
    RunDue,
    TakeSnapshot,
    TryRhythm,
)
from good_tide.system.machine import local_zone

_NEXT_SHOWN = 10
_NEEDS_LOOK = frozenset((StoreState.LOCKED, StoreState.DAMAGED, StoreState.REPLACED, StoreState.CATCHING_UP))


class ScheduleHandlers:
    """Answers when jobs run and how they stand, and changes it."""

    def __init__(
        self,
        context: Context,
        environment: Environment,
        sessions: Sessions,
        worker: Worker,
        runs: Runs,
        scheduler: Scheduler,
        watching: FolderWatching,
    ) -> None:
        self._context, self._environment, self._sessions = context, environment, sessions
        self._worker, self._runs, self._scheduler, self._watching = worker, runs, scheduler, watching
        self._standings = Standings(context)

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (
            TakeSnapshot.by(self.snapshot),
            ReadStandings.by(lambda wanted: self.standings()),
            ReadPanel.by(self.panel),
            ReadRhythm.by(self.rhythm),
            TryRhythm.by(self.try_rhythm),
            KeepRhythm.by(self.keep_rhythm),
            KeepLadder.by(self.keep_ladder),
            PauseRhythm.by(self.pause),
            LookNow.by(lambda wanted: self._scheduler.poke()),
            RunDue.by(self.run_due),
        )

    def snapshot(self, wanted: TakeSnapshot) -> None:
        """Begin a snapshot of a job.

        Raises:
            PersonError: it was opened only to read.
        """
        session = self._sessions.of(wanted.job)
        if session.reading:
            raise PersonError(
                tr("This store was opened only to read"), tr("Choose a job of this machine first")
            )
        with contextlib.suppress(StoreReplacedError):  # the snapshot is kept here meanwhile
            session.store()
        self._runs.by_hand(session)

    def standing(self, session: JobSession) -> JobStanding:
        """How one job stands."""
        work = self._worker.current
        decision = self._scheduler.decision(session)
        on_battery = decision.wait is Wait.BATTERY
        doing = Doing(
            state=session.last_state if session.last_state in _NEEDS_LOOK else StoreState.UNKNOWN,
            damage=tuple(session.damage),
            working=work.what if work is not None else None,
            work_paused=work is not None and work.paused,
            decision=decision,
            locked=tuple(ref.called for ref in session.stores.locked()),
            battery=self._environment.surroundings.conditions().battery if on_battery else None,
        )
        return self._standings.standing(session.job, doing)

    def standings(self) -> list[JobStanding]:
        """How all jobs stand."""
        return [self.standing(session) for session in self._sessions.own()]

    def panel(self, wanted: ReadPanel) -> PanelView:
        """What the panel's icon shows."""
        disks: dict[str, EjectableDisk] = {}
        for session in self._sessions.own():
            for ref in session.job.stores:
                where = session.stores.place_of(ref)
                facts = self._context.disk_of(where) if where is not None else None
                if facts is not None and facts.removable:
                    disks.setdefault(facts.name, EjectableDisk(facts.name, session.job.id, ref.id))
        return PanelView(
            tuple(self.standings()),
            self._context.clock.now(),
            self._worker.current is not None,
            self._context.records.paused_until,
            tuple(disks.values()),
        )

    def rhythm(self, wanted: ReadRhythm) -> RhythmView:
        """When a job runs."""
        session = self._sessions.of(wanted.job)
        return self._view(session, session.job)

    def try_rhythm(self, wanted: TryRhythm) -> RhythmView:
        """How it would be with other settings; nothing is kept."""
        session, change = self._sessions.of(wanted.job), wanted.change
        change.rhythm.check()
        change.line.check()
        tried = msgspec.structs.replace(session.job, **msgspec.structs.asdict(change))
        return self._view(session, tried)

    def _view(self, session: JobSession, job: Job) -> RhythmView:
        here, ref = self._context.here, job.stores[0] if job.stores else None
        room = limit_bytes(job.holding, area_folder(here.holdings, ref)) if ref is not None else 0
        return RhythmView(
            job.rhythm,
            job.holding,
            job.noise,
            job.reporting,
            job.rhythm.words(),
            tuple(self._standings.next(job, _NEXT_SHOWN)),
            local_zone(),
            self._standings.spread(job) / SECOND,
            self._context.records.paused_until,
            room,
            stays=stays_installed(here),
            watching=self._watching.words(job.id),
            mail=Post(self._context).words(job),
            ladder=job.ladder,
            agreed=job.agreed,
            pinned=session.known_pinned,
            precious=job.precious,
            line=job.line,
            on_server=any(ref.over_network for ref in job.stores),
        )

    def keep_rhythm(self, wanted: KeepRhythm) -> RhythmView:
        """Keep when a job runs.

        Raises:
            PersonError: the rhythm cannot be understood.
        """
        session, change = self._sessions.of(wanted.job), wanted.change
        job = changing.change_rhythm(
            self._context,
            session.job,
            change.rhythm,
            change.holding,
            change.noise,
            change.reporting,
            change.line,
        )
        self._sessions.take(job)
        self._scheduler.poke()
        return self._view(session, job)

    def keep_ladder(self, wanted: KeepLadder) -> None:
        """Keep another ladder for a job. What it would release was shown, and is agreed to or not.

        Raises:
            PersonError: it makes no sense.
        """
        job = self._sessions.of(wanted.job).job
        self._sessions.take(
            changing.change_ladder(self._context, job, wanted.ladder, wanted.agreed, wanted.precious)
        )

    def pause(self, wanted: PauseRhythm) -> None:
        """Let nothing run by itself until a moment; 0: go on."""
        pause(self._context, wanted.until)
        self._scheduler.poke()

    def run_due(self, wanted: RunDue) -> None:
        """Run everything that is due, then let the machine sleep."""
        self._runs.run_due(self._scheduler.keep_due(), wanted.then)
