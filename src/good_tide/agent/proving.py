"""Stores prove themselves by themselves: in quiet times, behind everything else."""

from __future__ import annotations

import logging

from good_tide.agent.job_session import JobSession
from good_tide.agent.sessions import Sessions
from good_tide.agent.worker import Worker
from good_tide.core.clock import SECOND
from good_tide.core.errors import PlaceError
from good_tide.core.hours import Hours
from good_tide.core.identifiers import StoreId
from good_tide.core.planning import Conditions, hindered_by
from good_tide.core.progress import Steering, WorkKind
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
        hours = Hours.of(session.job.rhythm.allowed)
        return hours.is_open(now, local_zone()) and session.stores.place_of(ref) is not None

    def _begin(self, session: JobSession, ref: StoreRef) -> None:
        self._not_before[ref.store] = self._context.clock.now() + _AGAIN

        def stores_of(job: Job) -> JobStores:
            other = self._sessions.find(job.id)
            return other.stores if other is not None else session.stores

        def work(steering: Steering) -> WorkEnded:
            store = session.stores.store(ref)
            proof = prove(self._context, store, session.job.read_back_days, stores_of, steering)
            _log.info("%s was proven: %s", ref.store, "; ".join(proof_words(proof)))
            return WorkEnded(WorkKind.PROOF)

        try:
            self._worker.start(WorkKind.PROOF, work, (session.job,), behind=True, gives_way=True)
        except PlaceError:  # other work began this very moment
            return
