"""Continuous mode: for each job that wants it, folders are watched, and the rhythm is told when files
changed."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable

from good_tide.core.clock import Clock
from good_tide.core.coverage import Coverage
from good_tide.core.identifiers import JobId, Nanoseconds
from good_tide.core.kinds import extended
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.operations.coverage.change_judge import ChangeJudge
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.records.journal import Journal
from good_tide.operations.snapshot.touched import Touched
from good_tide.system.watching import FolderWatch

_TELL_SECONDS = 1.0
"""A burst of changes is told of once a second."""
_BURST = 8000
"""After so many changes at once the system may have dropped some, and with them new folders: the folders are
watched anew."""


class _Watched:
    """One job that is watched."""

    def __init__(self, job: Job, judge: ChangeJudge) -> None:
        self.job, self.judge = job, judge
        self.newest = self.count = 0
        self.told = 0.0
        self.trouble = ""
        self.watch: FolderWatch | None = None
        self.touched = Touched(job.folders)
        self._lock = threading.Lock()

    def changed_at(self, now: int) -> None:
        """A file changed."""
        with self._lock:
            self.newest = now

    def taken_in(self, upto: int) -> None:
        """Everything up to a moment is in a snapshot."""
        with self._lock:
            if self.newest <= upto:
                self.newest = 0


def _watched_part(job: Job) -> tuple[object, ...]:
    """What of a job the watch of its folders depends on."""
    return job.folders, job.rules, job.kinds, job.home, job.rhythm, tuple(ref.path for ref in job.stores)


class FolderWatching:
    """Watches the folders of all jobs in continuous mode.

    :param changed: called when files of a job changed.
    """

    def __init__(
        self, clock: Clock, journal: Journal, own: tuple[str, ...], changed: Callable[[], None]
    ) -> None:
        self._clock, self._journal, self._own, self._changed = clock, journal, own, changed
        self._jobs: dict[JobId, _Watched] = {}
        self._lock = threading.RLock()
        """Of which jobs are watched. The threads that watch never take it."""

    def look(self, jobs: Iterable[Job]) -> None:
        """Begin to watch, or end it, as the jobs are now."""
        wanted = {job.id: job for job in jobs if job.rhythm.on_change}
        with self._lock:
            for identity, known in list(self._jobs.items()):
                job = wanted.get(identity)
                if job is None or _watched_part(job) != _watched_part(known.job):
                    self._end(self._jobs.pop(identity))
                    if job is not None:
                        self._begin(job, known.newest)
            for identity, job in wanted.items():
                if identity not in self._jobs:
                    self._begin(job)

    def _begin(self, job: Job, newest: int = 0) -> None:
        coverage = Coverage(
            job.parsed_rules(), job.home or home_folder(), self._clock.now(), extended(job.kinds)
        )
        ignored = (*self._own, *(ref.path for ref in job.stores))
        made = self._jobs[job.id] = _Watched(job, ChangeJudge(job.folders, coverage, job.rhythm, ignored))
        made.newest = newest
        self._watch(made)

    def _watch(self, made: _Watched) -> None:
        job = made.job

        def left(words: str) -> None:
            made.trouble = words
            if self._journal.is_news(f"watch/{job.id}"):
                self._journal.add(
                    "note",
                    job,
                    words,
                    (),
                    tr("Snapshots go on by the clock."),
                    tr("Raise fs.inotify.max_user_watches, or cover fewer folders."),
                )

        made.touched.lose()
        made.watch = FolderWatch(
            job.folders,
            lambda path: self._heard(made, path),
            left,
            lambda: made.touched.begin(self._clock.now()),
        )
        made.watch.start()

    def _heard(self, watched: _Watched, path: str) -> None:
        watched.count += 1
        watched.touched.note(path, self._clock.now())
        if not watched.judge.counts(path):
            return
        watched.changed_at(self._clock.now())
        now = time.monotonic()
        if now - watched.told >= _TELL_SECONDS:
            watched.told = now
            self._changed()

    def newest(self, job: JobId) -> int:
        """When a job's newest change was seen; 0: none since it was taken in."""
        known = self._jobs.get(job)
        return known.newest if known is not None else 0

    def taken_in(self, job: JobId, upto: int) -> None:
        """A run took in everything up to a moment."""
        with self._lock:
            known = self._jobs.get(job)
            if known is None:
                return
            known.taken_in(upto)
            if known.count > _BURST:
                self._end(known)
                self._watch(known)
            known.count = 0

    def touched(self, job: JobId, since: Nanoseconds) -> frozenset[bytes] | None:
        """Keys of the folders of a job in which something happened since a moment; None: not known."""
        known = self._jobs.get(job)
        if known is None or known.trouble or known.count > _BURST:
            return None
        return known.touched.since(since)

    def falls_back(self, job: JobId) -> bool:
        """Whether a job that wants continuous mode cannot have it."""
        known = self._jobs.get(job)
        return known is not None and bool(known.trouble)

    def words(self, job: JobId) -> str:
        """What continuous mode says of itself, as a sentence; empty where it is off."""
        known = self._jobs.get(job)
        if known is None or known.watch is None:
            return ""
        if known.trouble:
            return f"{known.trouble}."
        if not known.watch.ready.is_set():
            return tr("Beginning to watch the folders.")
        return tr("The folders are watched for changes.")

    def wait_ready(self, seconds: float) -> None:
        """Wait until everything is watched."""
        for known in list(self._jobs.values()):
            if known.watch is not None:
                known.watch.ready.wait(seconds)

    def _end(self, watched: _Watched) -> None:
        if watched.watch is not None:
            watched.watch.end()

    def end(self) -> None:
        """Watch nothing any more."""
        with self._lock:
            for known in self._jobs.values():
                self._end(known)
            self._jobs.clear()
