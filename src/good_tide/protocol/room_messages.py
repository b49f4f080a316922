"""What the agent and its clients say to each other about the room that history takes, and about taking things
out of it.

Times are nanoseconds since 1970 UTC, sizes stored bytes. ``folder`` is that of one of the job's stores.
"""

from __future__ import annotations

import msgspec

from good_tide.core.ledger import By, Taking


class HeldSnapshot(msgspec.Struct, frozen=True):
    """A snapshot of a store.

    :param pin: the pin's label; None: it is not pinned.
    :param stays: why it is never released, such as “is pinned”; empty: it may be.
    :param alone: bytes that only this snapshot needs.
    """

    name: str
    time: int
    machine: str
    label: str = ""
    pin: str | None = None
    stays: str = ""
    alone: int = 0


class HeldHistory(msgspec.Struct, frozen=True):
    """All snapshots of a store, of all machines, oldest first; ``total``: bytes that they need together."""

    snapshots: tuple[HeldSnapshot, ...]
    total: int
    parts: dict[By, tuple[Taking, ...]]


class SomeRequest(msgspec.Struct):
    """Snapshots of a store by their names."""

    folder: str
    names: tuple[str, ...]


class PinSomeRequest(msgspec.Struct):
    """Snapshots of a store, to be pinned or not."""

    folder: str
    names: tuple[str, ...]
    on: bool = True
    label: str = ""


class PatternRequest(msgspec.Struct):
    """What is to be taken out of all history of a store."""

    folder: str
    pattern: str


class ReleaseView(msgspec.Struct, frozen=True):
    """What releasing some snapshots would do; ``stays``: how many of them are pinned or the newest, and
    stay."""

    releases: int
    stays: int
    gives_back: int


class PurgeView(msgspec.Struct, frozen=True):
    """What taking a pattern out would touch: how many snapshots, paths with how many versions of each, and
    how many paths more.

    :param stands: a machine's newest snapshot holds it, so that its next one will again.
    """

    pattern: str
    snapshots: int
    paths: tuple[tuple[bytes, int], ...]
    more: int
    gives_back: int
    stands: bool = False
