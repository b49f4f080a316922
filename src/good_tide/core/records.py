"""What a store says about its snapshots."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated

import msgspec

from good_tide.core.entries import Reason
from good_tide.core.identifiers import MachineId, SnapshotId

Count = Annotated[int, msgspec.Meta(ge=0, le=(1 << 63) - 1)]
"""A number that a store may hold: not negative, and no larger than 63 bits."""
_NO_GAPS = frozenset(reason.value for reason in Reason if not reason.is_gap)
_Name = Annotated[str, msgspec.Meta(max_length=1024)]


class LeftOut(msgspec.Struct, frozen=True):
    """One thing that is not in a snapshot: its absolute path, why (a ``Reason`` value), and the system's
    words."""

    path: bytes
    reason: str
    detail: str = ""


class Machine(msgspec.Struct, frozen=True):
    """The workstation a snapshot is of. ``id`` stays when the name changes."""

    id: Annotated[MachineId, msgspec.Meta(max_length=1024)]
    name: _Name


class Tally(msgspec.Struct, frozen=True):
    """Counts of a snapshot. Bytes are plain bytes, except ``stored_bytes``: what it added to the store's
    files."""

    files: Count = 0
    folders: Count = 0
    bytes: Count = 0
    changed_files: Count = 0
    new_bytes: Count = 0
    stored_bytes: Count = 0
    seconds: float = 0.0


class HeavyFile(msgspec.Struct, frozen=True):
    """A large file that was read whole though little of it had changed. Bytes."""

    path: bytes
    read: Count
    new: Count


class SnapshotRecord(msgspec.Struct, frozen=True):
    """A snapshot as it is stored, but for its name.

    :param time: when it was taken, nanoseconds since 1970 UTC.
    :param roots: a page (``rooted``) whose entries are the covered folders under their absolute paths.
    :param rules: the rules of coverage that held, a line each.
    :param owners: names of the user and group numbers that occur, as ``u1000`` and ``g100``.
    :param job: the job that took it, as the text of a job file without its stores; empty: it was taken by
        hand, or by an earlier version.
    """

    time: Count
    machine: Machine
    roots: bytes
    tally: Tally = Tally()
    label: str = ""
    left_out: tuple[LeftOut, ...] = ()
    unsteady: tuple[bytes, ...] = ()
    owners: dict[str, str] = {}
    rules: tuple[str, ...] = ()
    version: int = 1
    job: str = ""
    heavy: tuple[HeavyFile, ...] = ()

    @property
    def missing(self) -> tuple[LeftOut, ...]:
        """What was left out that a person would want back; without files that changed while they were
        read."""
        return tuple(item for item in self.left_out if item.reason not in _NO_GAPS)


class Brief(msgspec.Struct, frozen=True):
    """What is known of a snapshot before it is read; ``gaps`` as ``Snapshot.gaps``.

    :param folders: the absolute paths of the covered folders; None: those have to be read.
    """

    id: SnapshotId
    time: Count
    machine: Machine
    tally: Tally = Tally()
    label: str = ""
    gaps: Count = 0
    folders: tuple[bytes, ...] | None = None


class Snapshot:
    """A snapshot: its name in the store, and what it says of itself.

    One of which only the brief is known reads its record when that is first asked for.
    """

    __slots__ = ("_read", "_record", "brief")

    def __init__(
        self, brief: Brief, record: SnapshotRecord | None, read: Callable[[], SnapshotRecord] | None = None
    ) -> None:
        self.brief, self._record, self._read = brief, record, read

    @classmethod
    def of(cls, name: SnapshotId, record: SnapshotRecord) -> Snapshot:
        """A snapshot that was read."""
        gaps = len(record.missing) + len(record.unsteady)
        return cls(Brief(name, record.time, record.machine, record.tally, record.label, gaps), record)

    @property
    def record(self) -> SnapshotRecord:
        """All that is stored of it.

        Raises:
            DamageError: it is read now, and not intact. NotInPlaceError: it is no longer there.
        """
        if self._record is None:
            assert self._read is not None
            self._record = self._read()
        return self._record

    @property
    def id(self) -> SnapshotId:
        """Its name in the store."""
        return self.brief.id

    @property
    def time(self) -> int:
        """When it was taken, nanoseconds since 1970 UTC."""
        return self.brief.time

    @property
    def machine(self) -> Machine:
        """The workstation it is of."""
        return self.brief.machine

    @property
    def tally(self) -> Tally:
        """What is in it, in numbers."""
        return self.brief.tally

    @property
    def label(self) -> str:
        """What a person called it."""
        return self.brief.label

    @property
    def gaps(self) -> int:
        """How many things that a person would want back are missing."""
        return self.brief.gaps

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Snapshot) and self.id == other.id and self.time == other.time

    def __hash__(self) -> int:
        return hash(self.brief.id)

    def __repr__(self) -> str:
        return f"Snapshot({self.brief})"


class StoreHistory(msgspec.Struct, frozen=True):
    """The snapshots of one machine, or of one job of it, in a store. Times in nanoseconds since 1970 UTC.

    :param job: what its job was called; empty where its snapshots do not tell.
    :param people: to whom the covered folders belonged.
    :param complete: the newest snapshot that lacks nothing a person would want back; the newest of all, where
        there is none.
    """

    machine: Machine
    job: str
    people: tuple[str, ...]
    folders: tuple[bytes, ...]
    snapshots: int
    newest: int
    complete: SnapshotId
    complete_time: int
    lacks: int = 0
