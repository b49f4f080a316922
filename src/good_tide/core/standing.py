"""How jobs and their stores stand, as it is shown, printed and sent."""

from __future__ import annotations

import msgspec

from good_tide.core.identifiers import JobId
from good_tide.core.status import Status


class StoreStanding(msgspec.Struct, frozen=True):
    """One of a job's stores: whether it is found now, bytes free on its ``disk`` and days until it is full,
    None where not known; when a snapshot last came into it from here (nanoseconds since 1970 UTC, 0: never),
    what has proven that it can be read, and what somebody should look at, each with what to do."""

    name: str
    present: bool
    free: int | None = None
    full_in_days: float | None = None
    last: int = 0
    proven: str = ""
    trouble: tuple[tuple[str, str], ...] = ()
    disk: str = ""
    why: str = ""
    """Why its server cannot be used now; empty for disks, and when it can."""


class JobStanding(msgspec.Struct, frozen=True):
    """How a job, which is called ``name``, stands. Times in nanoseconds since 1970 UTC, 0: never."""

    job: JobId
    name: str
    status: Status
    last: int = 0
    next: int = 0
    stores: tuple[StoreStanding, ...] = ()
