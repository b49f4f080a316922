"""Stores prove themselves by themselves: in quiet times, behind everything else."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable

import msgspec

from good_tide.agent.job_session import JobSession
from good_tide.agent.sessions import Sessions
from good_tide.agent.worker import Worker
from good_tide.core.clock import SECOND
from good_tide.core.errors import PlaceError
from good_tide.core.hours import Hours
from good_tide.core.identifiers import StoreId
from good_tide.core.planning import Conditions, hindered_by
from good_tide.core.progress import Progress, Steering, WorkKind
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.context import Context
from good_tide.operations.integrity.proving import is_due, proof_words, prove
from good_tide.operations.stores.job_stores import JobStores
from good_tide.protocol.agent_calls import WorkEnded
from good_tide.system.machine import local_zone
from good_tide.system.surroundings import Surroundings

_log = logging.getLogger(__name__)
_AGAIN = 1800 * SECOND
"""After a try that failed or was stopped, the next one waits for so long."""
_LOOK_SECONDS = 5.0
_BUSY_DISK = 4e6
"""Bytes a second that other programs move, from which somebody works with the disk."""


class _InQuiet:
    """A control that ends the work as soon as the machine is no longer at leisure, or somebody else works
    with the disk. How busy the processor is does not end it: its own work would count."""

    def __init__(self, inner: Steering, at_leisure: Callable[[], bool], traffic: Callable[[], float]) -> None:
        self._inner, self._at_leisure, self._traffic = inner, at_leisure, traffic
        self._looked = time.monotonic()

    def report(self, progress: Progress) -> None:
        self._inner.report(progress)

    def checkpoint(self) -> None:
        if time.monotonic() - self._looked > _LOOK_SECONDS:
            self._looked = time.monotonic()
            if self._traffic() > _BUSY_DISK or not self._at_leisure():
                self._inner.stop()
        self._inner.checkpoint()


class Proving:
    """Begins the proof of a store when one is due, the machine is at leisure, and nothing else is being done.
    Whatever else is to be done ends it at once; it goes on where it was."""

    def __init__(
        self, context: Context, sessions: Sessions, worker: Worker, surroundings: Surroundings
    ) -> None:
        self._context, self._sessions, self._worker = context, sessions, worker
        self._surroundings = surroundings
        self._not_before: dict[StoreId, int] = {}

    def look(self) -> None:
        """Begin what is due."""
        if self._worker.occupied or self._context.records.paused_until > self._context.clock.now():
            return
        conditions: Conditions | None = None
        for session in self._sessions.own():
            for ref in session.job.stores:
                if not self._due(session, ref):
                    continue
                conditions = conditions or self._surroundings.conditions()
                if conditions.battery is not None or hindered_by(session.job.rhythm.considerate, conditions):
                    continue
                self._begin(session, ref)
                return

    def _due(self, session: JobSession, ref: StoreRef) -> bool:
        now = self._context.clock.now()
        waits = self._not_before.get(ref.store, 0) > now
        days = session.job.read_back_days
        if not ref.store or waits or not is_due(self._context, ref.store, days):
            return False
        return self._is_open(session) and session.stores.place_of(ref) is not None

    def _is_open(self, session: JobSession) -> bool:
        """Whether these are hours in which the job may run."""
        return Hours.of(session.job.rhythm.allowed).is_open(self._context.clock.now(), local_zone())

    def _at_leisure(self, session: JobSession) -> bool:
        """Whether nothing has come up since it was begun."""
        now = self._surroundings.conditions()
        considerate = msgspec.structs.replace(session.job.rhythm.considerate, load=False)
        return now.battery is None and hindered_by(considerate, now) is None and self._is_open(session)

    def _begin(self, session: JobSession, ref: StoreRef) -> None:
        self._not_before[ref.store] = self._context.clock.now() + _AGAIN

        def stores_of(job: Job) -> JobStores:
            other = self._sessions.find(job.id)
            return other.stores if other is not None else session.stores

        def work(steering: Steering) -> WorkEnded:
            store, folder = session.stores.store(ref), session.stores.present(ref).folder
            traffic = self._surroundings.traffic(folder) if folder is not None else lambda: 0.0
            control = _InQuiet(steering, lambda: self._at_leisure(session), traffic)
            proof = prove(self._context, store, session.job.read_back_days, stores_of, control)
            _log.info("%s was proven: %s", ref.store, "; ".join(proof_words(proof)))
            return WorkEnded(WorkKind.PROOF)

        try:
            self._worker.start(WorkKind.PROOF, work, (session.job,), behind=True, gives_way=True)
        except PlaceError:  # other work began this very moment
            return
