"""Keeps the rhythm of all jobs: looks, from time to time and whenever something happened, what is to be done,
and begins it."""

from __future__ import annotations

import logging
import sys
import threading
from collections.abc import Callable

import msgspec

from good_tide.agent.folder_watching import FolderWatching
from good_tide.agent.job_session import JobSession
from good_tide.agent.sessions import Sessions
from good_tide.core.clock import SECOND
from good_tide.core.errors import GoodTideError
from good_tide.core.identifiers import JobId, StoreId
from good_tide.core.planning import Conditions, Decision, Facts, Occasion
from good_tide.operations.context import Context
from good_tide.operations.schedule.standing import Standings
from good_tide.system.surroundings import Surroundings

_log = logging.getLogger(__name__)

_LONGEST_SLEEP = 30.0
"""Seconds until the next look, so that a machine that slept, or a clock that was set, is noticed soon."""


class Scheduler:
    """Begins runs when they are due. One thread; ``tick`` is one look.

    :param start: begins a run; False when other work is being done.
    :param looked: called at each look, before anything is begun.
    :param idle: called at each look that began nothing.
    """

    def __init__(
        self,
        context: Context,
        sessions: Sessions,
        surroundings: Surroundings,
        watching: FolderWatching,
        start: Callable[[JobSession, Occasion], bool],
        looked: Callable[[], None],
        idle: Callable[[], None] = lambda: None,
    ) -> None:
        self._sessions, self._surroundings, self._watching = sessions, surroundings, watching
        self._standings, self._records, self._clock = Standings(context), context.records, context.clock
        self._start, self._looked, self._idle = start, looked, idle
        self._lock = threading.Lock()
        """Of what is remembered of disks between looks; several threads ask how a job stands."""
        self._came: dict[JobId, int] = {}
        self._here: dict[tuple[JobId, StoreId], bool] = {}
        self._poked, self._ended = threading.Event(), threading.Event()
        self._rest = 0.0
        self._thread = threading.Thread(target=self._run, name="rhythm", daemon=True)

    def begin(self, rest: float = 0.0) -> None:
        """Keep the rhythm from now on.

        :param rest: seconds before the first look, unless something happens.
        """
        self._rest = rest
        self._thread.start()

    def end(self) -> None:
        """Begin nothing any more."""
        self._ended.set()
        self._poked.set()
        if self._thread.ident is not None:
            self._thread.join(10)

    def poke(self) -> None:
        """Look now: something happened."""
        self._poked.set()

    def _run(self) -> None:
        self._poked.wait(self._rest)
        while not self._ended.is_set():
            self._poked.clear()
            try:
                seconds = self.tick()
            except Exception:  # a fault in one look must not end the rhythm for good
                threading.excepthook(threading.ExceptHookArgs((*sys.exc_info(), threading.current_thread())))
                seconds = _LONGEST_SLEEP
            self._poked.wait(min(max(seconds, 0.05), _LONGEST_SLEEP))

    def tick(self) -> float:
        """Look at all jobs, and begin what is due. Returns the seconds until something will be due."""
        self._looked()
        self._watching.look(session.job for session in self._sessions.own())
        looks, begun = [], False
        for session in self._sessions.own():
            decision = self.decision(session)
            if decision.run is not None and self._start(session, decision.run):
                _log.info("%s is due: %s", session.job.id, decision.run)
                decision, begun = Decision(), True
            if decision.look is not None:
                looks.append(decision.look)
        if not begun:
            self._idle()
        now = self._clock.now()
        return max(0.0, min((look - now for look in looks), default=int(_LONGEST_SLEEP * SECOND)) / SECOND)

    def decision(self, session: JobSession) -> Decision:
        """What is to be done for a job. What the machine is doing besides is asked only when a run would
        begin."""
        job = session.job
        facts = self.facts(session)
        decision = self._standings.decision(job, facts)
        if decision.run is not None:
            decision = self._standings.decision(
                job, msgspec.structs.replace(facts, conditions=self._surroundings.conditions())
            )
        return decision

    def conditions(self) -> Conditions:
        """What the machine is doing besides."""
        return self._surroundings.conditions()

    def facts(self, session: JobSession) -> Facts:
        """What is known of a job now. Notes when its disk went and came."""
        job, now = session.job, self._clock.now()
        present = {ref.id: session.stores.place_of(ref) is not None for ref in job.stores}
        here = any(present.values())
        with self._lock:
            for store, this in present.items():
                if this and self._here.get((job.id, store)) is False:
                    self._came[job.id] = now
                self._here[job.id, store] = this
            if here and self._records.away_since(job.id):
                self._came[job.id] = now
            if here:
                self._records.note_away(job.id, 0)
            elif job.stores and not self._records.away_since(job.id):
                self._records.note_away(job.id, now)
            came = self._came.get(job.id, 0)
        return Facts(
            here,
            came,
            self._standings.holds(job),
            self._watching.newest(job.id),
            self._records.paused_until,
            unwatched=self._watching.falls_back(job.id),
            held=any(self._standings.held(ref) for ref in job.stores if present[ref.id]),
        )

    def keep_due(self) -> list[JobSession]:
        """Jobs with something due now, whatever it waits for but the disk; for the end of the day."""
        found = []
        for session in self._sessions.own():
            try:
                facts = msgspec.structs.replace(self.facts(session), paused_until=0)
            except GoodTideError:
                continue
            if self._standings.decision(session.job, facts).due is not None or self._watching.newest(
                session.job.id
            ):
                found.append(session)
        return found
