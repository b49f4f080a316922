"""The jobs that the agent serves, each with what it keeps open of its stores."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable

from good_tide.agent.job_session import JobSession
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import JobId, StoreId
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr


class Sessions:
    """The sessions by their jobs: those of this machine, and stores that were opened only to read. Threads
    may use it at once.

    :param make: makes the session of a job that is new, and is only looked into or not.
    """

    def __init__(self, make: Callable[[Job, bool], JobSession]) -> None:
        self._make = make
        self._lock = threading.Lock()
        self._sessions: dict[JobId, JobSession] = {}

    def all(self) -> list[JobSession]:
        """All of them, in the order in which they came."""
        with self._lock:
            return list(self._sessions.values())

    def own(self) -> list[JobSession]:
        """Those of this machine's jobs."""
        return [session for session in self.all() if not session.reading]

    def find(self, job: JobId) -> JobSession | None:
        """A job's session; None if there is no such job."""
        with self._lock:
            return self._sessions.get(job)

    def of(self, job: JobId) -> JobSession:
        """A job's session.

        Raises:
            PersonError: there is no such job.
        """
        found = self.find(job)
        if found is not None:
            return found
        known = self.all()
        if not known:
            raise PersonError(tr("There is no job on this machine yet"), tr("Set one up first"))
        what = tr("This job is no longer there") if job else tr("No job is named")
        raise PersonError(
            what, tr("There are {known}").format(known=", ".join(session.job.name for session in known))
        )

    def store_of(self, job: JobId, store: StoreId) -> tuple[JobSession, StoreRef]:
        """The session of a job, and one of its stores.

        Raises:
            PersonError: there is no such job, or it no longer has the store.
        """
        session = self.of(job)
        return session, session.ref(store)

    def take(self, job: Job, reading: bool = False) -> JobSession:
        """Take in a job that was made or changed. What its session has open stays open.

        :param reading: it is a store of another machine that is opened only to read.
        """
        with self._lock:
            known = self._sessions.get(job.id)
            if known is None:
                known = self._sessions[job.id] = self._make(job, reading)
                return known
        known.take_job(job)
        return known

    def drop(self, job: JobId) -> None:
        """A job is not looked into any more."""
        with self._lock:
            self._sessions.pop(job, None)

    def take_all(self, jobs: Iterable[Job]) -> None:
        """Take in the jobs that there are now; those that are no longer there are forgotten."""
        there = {job.id: job for job in jobs}
        for job in there.values():
            known = self.find(job.id)
            if known is None or known.job != job:
                self.take(job)
        with self._lock:
            for identity in [one for one, session in self._sessions.items() if not session.reading]:
                if identity not in there:
                    del self._sessions[identity]
