"""What is remembered of each job's runs between starts of the agent, in the person's state folder.

One small file, written whole. The command line changes it too (a pause), so it is read anew whenever it
changed.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec

from good_tide.core.identifiers import JobId, StoreId
from good_tide.core.planning import JobRecord
from good_tide.operations.records.kept_file import KeptFile

_FILE = "rhythm.json"


class _Records(msgspec.Struct, omit_defaults=True):
    """``paused_until`` in nanoseconds since 1970 UTC, 0: not paused; ``away`` by job: since when its disk is
    away; ``reported`` by job: when its last report was sent; ``swept`` by store: when it was last swept;
    ``released``: stores of which something was released since."""

    paused_until: int = 0
    jobs: dict[JobId, JobRecord] = msgspec.field(default_factory=dict, name="books")
    away: dict[JobId, int] = {}
    reported: dict[JobId, int] = {}
    swept: dict[StoreId, int] = {}
    released: list[StoreId] = []


class RunRecords:
    """What is remembered of all jobs' runs, and of sweeps of their stores."""

    def __init__(self, state: Path) -> None:
        self._file = KeptFile(state / _FILE, _Records)

    def record(self, job: JobId) -> JobRecord | None:
        """A job's record, None for one that is new."""
        return self._file.read().jobs.get(job)

    def update(self, job: JobId, change: Callable[[JobRecord | None], JobRecord]) -> JobRecord:
        """Keep a job's record as it becomes by a change of what it is now. Returns it."""
        with self._file.changing() as records:
            made = records.jobs[job] = change(records.jobs.get(job))
            return made

    def keep(self, job: JobId, record: JobRecord) -> None:
        """Keep a job's record."""
        self.update(job, lambda known: record)

    def forget(self, jobs: set[JobId]) -> None:
        """Forget all jobs but these."""
        known = self._file.read()
        if not (set(known.jobs) | set(known.away)) - jobs:
            return
        with self._file.changing() as records:
            records.jobs = {name: record for name, record in records.jobs.items() if name in jobs}
            records.away = {name: since for name, since in records.away.items() if name in jobs}

    def take_over(self, name: str, job: JobId) -> None:
        """What was kept under a job's name, by a version that knew no identities, is kept under its
        identity."""
        called = JobId(name)
        with self._file.changing() as records:
            if called in records.jobs:
                records.jobs[job] = records.jobs.pop(called)
            for kept in (records.away, records.reported):
                if called in kept:
                    kept[job] = kept.pop(called)

    @property
    def paused_until(self) -> int:
        """Until when nothing runs by itself; 0: not paused."""
        return self._file.read().paused_until

    def pause(self, until: int) -> bool:
        """Let nothing run by itself until a moment; 0: go on. Whether that is kept: another process knows
        of it only then."""
        with self._file.changing() as records:
            records.paused_until = until
        return self._file.kept

    def reported(self, job: JobId) -> int:
        """When a job's last report was sent; 0: never."""
        return self._file.read().reported.get(job, 0)

    def note_reported(self, job: JobId, when: int) -> None:
        """Note that a report was sent."""
        with self._file.changing() as records:
            records.reported[job] = when

    def swept(self, store: StoreId) -> int:
        """When this machine last swept a store; 0: never."""
        return self._file.read().swept.get(store, 0)

    def has_released(self, store: StoreId) -> bool:
        """Whether something of a store was released since its last sweep."""
        return store in self._file.read().released

    def note_released(self, store: StoreId) -> None:
        """Note that something of a store was released."""
        with self._file.changing() as records:
            if store not in records.released:
                records.released.append(store)

    def note_swept(self, store: StoreId, when: int, waits: bool) -> None:
        """Note that a store was swept; ``waits``: part of what was released could not be given back yet."""
        with self._file.changing() as records:
            records.swept[store] = when
            records.released = [one for one in records.released if one != store or waits]

    def away_since(self, job: JobId) -> int:
        """Since when a job's disk is away; 0: it is here."""
        return self._file.read().away.get(job, 0)

    def note_away(self, job: JobId, since: int) -> None:
        """Note that a job's disk is away since a moment; 0: it is here."""
        if self.away_since(job) == since:
            return
        with self._file.changing() as records:
            if since:
                records.away[job] = since
            else:
                records.away.pop(job, None)
