"""What the journal holds: events, runs, and files that were left out. Times are nanoseconds since 1970
UTC."""

from __future__ import annotations

from typing import Literal

import msgspec

from good_tide.core.identifiers import JobId, SnapshotId

Level = Literal["good", "note", "trouble"]
Result = Literal["done", "gaps", "failed", "stopped"]
AGAIN_AND_AGAIN = 3
"""Runs in a row that left a file out, from which on a rule is offered."""


class Event(msgspec.Struct, frozen=True):
    """One thing that happened. ``job`` may be empty, and was called ``name``; ``detail`` is folded below
    it."""

    time: int
    level: Level
    job: JobId
    what: str
    means: str = ""
    todo: str = ""
    detail: tuple[str, ...] = ()
    name: str = ""


class Run(msgspec.Struct, frozen=True):
    """One run of a job, which was called ``name``, into one store, or a try at it. Sizes in bytes;
    ``changed`` and ``gaps`` count files; ``snapshot`` is empty where none was taken."""

    job: JobId
    store: str
    occasion: str
    began: int
    seconds: float
    result: Result
    files: int = 0
    changed: int = 0
    new_bytes: int = 0
    stored: int = 0
    gaps: int = 0
    snapshot: SnapshotId = SnapshotId("")
    words: str = ""
    name: str = ""


class LeftOutFile(msgspec.Struct, frozen=True):
    """A file that the last runs left out. ``runs``: how many in a row."""

    path: bytes
    reason: str
    detail: str
    first: int
    last: int
    runs: int


class Filter(msgspec.Struct, frozen=True):
    """Which events are wanted. Empty or 0: no limit. ``levels`` are those shown."""

    job: JobId = JobId("")
    levels: tuple[Level, ...] = ()
    text: str = ""
    since: int = 0
    until: int = 0
    most: int = 1000
