"""Keeps the rhythm of all jobs: looks, from time to time and whenever something happened, what is to be done,
and begins it."""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable, Iterable

import msgspec

from good_tide.agent.session import Session
from good_tide.agent.watcher import Watcher
from good_tide.core.clock import SECOND, Clock
from good_tide.core.errors import GoodTideError
from good_tide.core.planning import Around, Decision, Facts, Occasion
from good_tide.operations.records.run_records import Books
from good_tide.operations.schedule.standing import Standings
from good_tide.system.surroundings import Surroundings

_LONGEST_SLEEP = 30.0
"""Seconds until the next look, so that a machine that slept, or a clock that was set, is noticed soon."""


class Keeper:
    """Begins runs when they are due. One thread; ``tick`` is one look.

    :param sessions: the jobs of this machine.
    :param start: begins a run; False when other work is being done.
    :param looked: called after each look that found something changed, and every half minute.
    """

    def __init__(
        self,
        sessions: Callable[[], Iterable[Session]],
        standings: Standings,
        books: Books,
        clock: Clock,
        surroundings: Surroundings,
        watcher: Watcher,
        start: Callable[[Session, Occasion], bool],
        looked: Callable[[], None],
    ) -> None:
        self._sessions, self._standings, self._books, self._clock = sessions, standings, books, clock
        self._surroundings, self._watcher, self._start, self._looked = surroundings, watcher, start, looked
        self._came: dict[str, int] = {}
        self._here: dict[tuple[str, str], bool] = {}
        self._poked, self._ended = threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._run, name="rhythm", daemon=True)

    def begin(self) -> None:
        """Keep the rhythm from now on."""
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
        self._watcher.look(session.job for session in self._sessions())
        looks = []
        for session in list(self._sessions()):
            decision = self.decision(session)
            if decision.run is not None and self._start(session, decision.run):
                decision = Decision()
            if decision.look is not None:
                looks.append(decision.look)
        now = self._clock.now()
        return max(0.0, min((look - now for look in looks), default=int(_LONGEST_SLEEP * SECOND)) / SECOND)

    def decision(self, session: Session) -> Decision:
        """What is to be done for a job. What the machine is doing besides is asked only when a run would
        begin."""
        job = session.job
        facts = self.facts(session)
        decision = self._standings.decision(job, facts)
        if decision.run is not None:
            decision = self._standings.decision(
                job, msgspec.structs.replace(facts, around=self._surroundings.around())
            )
        return decision

    def around(self) -> Around:
        """What the machine is doing besides."""
        return self._surroundings.around()

    def facts(self, session: Session) -> Facts:
        """What is known of a job now. Notes when its disk went and came."""
        job, now = session.job, self._clock.now()
        here = False
        for ref in job.stores:
            this = session.folder_of(ref) is not None
            if this and self._here.get((job.name, ref.path)) is False:
                self._came[job.name] = now
            self._here[job.name, ref.path] = this
            here = here or this
        if here and self._books.away_since(job.name):
            self._came[job.name] = now
        if here:
            self._books.note_away(job.name, 0)
        elif job.stores and not self._books.away_since(job.name):
            self._books.note_away(job.name, now)
        return Facts(
            here,
            self._came.get(job.name, 0),
            self._standings.holds(job),
            self._watcher.newest(job.name),
            self._books.paused_until,
            unwatched=self._watcher.falls_back(job.name),
        )

    def keep_due(self) -> list[Session]:
        """Jobs with something due now, whatever it waits for but the disk; for the end of the day."""
        found = []
        for session in list(self._sessions()):
            try:
                facts = msgspec.structs.replace(self.facts(session), paused_until=0)
            except GoodTideError:
                continue
            if self._standings.decision(session.job, facts).due is not None or self._watcher.newest(
                session.job.name
            ):
                found.append(session)
        return found
