"""Words of restoring that everybody shares."""

from __future__ import annotations

import enum

import msgspec

from good_tide.core.identifiers import JobId, SnapshotId, StoreId


class Existing(enum.StrEnum):
    """What happens to a thing that stands where another is restored."""

    SET_ASIDE = "set-aside"
    SKIP = "skip"
    KEEP_BOTH = "keep-both"


class Extent(enum.StrEnum):
    """How much of what was chosen is brought back."""

    ALL = "all"
    MISSING = "missing"
    """Only what is not there now."""
    CHANGED = "changed"
    """Only what is there and is another."""
    EXACTLY = "exactly"
    """All of it, and what is strange to that moment is set aside."""


class Action(enum.StrEnum):
    """What a restore does with one item."""

    CREATE = "create"
    IDENTICAL = "identical"
    REPLACE = "replace"
    SKIP = "skip"
    BLOCKED = "blocked"
    ASIDE = "aside"
    """What is there now was not there then, and is set aside."""


SET_ASIDE = "Set aside "
"""So begin the folders in which restores keep what they replaced."""


def is_set_aside(name: bytes) -> bool:
    """Whether a folder is called as those are."""
    return name.startswith(SET_ASIDE.encode())


class PlanItem(msgspec.Struct, array_like=True, frozen=True):
    """One item of a restore plan, by its number in it; ``counts`` and ``size`` in bytes to be written are of
    it and all below it."""

    number: int
    path: bytes
    action: Action
    folder: bool
    note: str
    counts: dict[Action, int]
    size: int


class Wished(msgspec.Struct, frozen=True, array_like=True):
    """A path that was to be brought back, from a snapshot."""

    path: bytes
    snapshot: SnapshotId


class RestoreRequest(msgspec.Struct, frozen=True, omit_defaults=True):
    """What a restore was to do, so that it can be planned again.

    :param into: the folder to restore to; empty: where everything was.
    :param homes: paths of homes as they were, and as they are here.
    :param owners: names of users and groups as they were, and as they are here.
    :param without: items, by the paths they would have had, that were taken out, with all below them.
    """

    wished: tuple[Wished, ...]
    into: str = ""
    existing: Existing = Existing.SET_ASIDE
    extent: Extent = Extent.ALL
    homes: tuple[tuple[bytes, bytes], ...] = ()
    owners: dict[str, str] = {}
    without: tuple[bytes, ...] = ()


class RestoreState(enum.StrEnum):
    """What became of a restore."""

    RUNNING = "running"
    DONE = "done"
    CUT_OFF = "cut off"
    """Stopped, or its disk went, or the machine: what it had brought is there, and it can go on."""
    UNDONE = "undone"
    LET_GO = "let go"
    """What it set aside was deleted, because somebody said so."""


class RestoreNote(msgspec.Struct, frozen=True, omit_defaults=True):
    """What is remembered of a restore. Times in nanoseconds since 1970 UTC.

    :param place: where its store was, as the person named it.
    :param targets: the folders it restored to.
    :param folders: where it set things aside, and where its records are; all of it is undone by them.
    :param carried_by: the process that carries it out, and when that began (``good_tide.system.processes``).
    """

    id: str
    job: JobId
    store: StoreId
    place: str
    began: int
    request: RestoreRequest
    state: RestoreState = RestoreState.RUNNING
    ended: int = 0
    why: str = ""
    created: int = 0
    replaced: int = 0
    strange: int = 0
    targets: tuple[str, ...] = ()
    folders: tuple[str, ...] = ()
    carried_by: tuple[int, tuple[str, int]] | None = None
