"""Looking at one file: what is in a version, how it differs from others, in which versions a phrase
stands."""

from __future__ import annotations

import enum
from typing import ClassVar

import msgspec

from good_tide.core.comparing import Comparison, Counted
from good_tide.core.entries import Kind
from good_tide.core.identifiers import HistoryId, SnapshotId
from good_tide.core.previews import Preview
from good_tide.protocol.contract import JobCall


class Detail(msgspec.Struct, frozen=True):
    """One version of one path.

    :param with_disk: whether it is what is on the disk now; None for what is no file.
    :param elsewhere: where the same content came from or went under another name.
    """

    path: bytes
    snapshot: SnapshotId
    kind: Kind
    size: int
    modified: int
    mode: int
    unsteady: bool
    preview: Preview
    with_disk: Comparison | None = None
    elsewhere: tuple[bytes, ...] = ()


class ReadDetail(JobCall[Detail], frozen=True):
    """A path in a snapshot, which was taken at ``time``. ``now`` is its path on the disk, if it is called
    otherwise today."""

    may_block: ClassVar[bool] = True
    path: bytes
    snapshot: SnapshotId
    time: int = 0
    now: bytes = b""


class Beside(enum.StrEnum):
    """What a version is compared with."""

    NOW = "now"
    """What is on the disk."""
    BEFORE = "before"
    """The version before it."""
    MARK = "mark"
    """What stood in another snapshot."""


class ComparisonView(msgspec.Struct, frozen=True):
    """How a version compares; of what was asked for."""

    path: bytes
    snapshot: SnapshotId
    beside: Beside
    comparison: Comparison


class ReadComparison(JobCall[ComparisonView], frozen=True):
    """Compare a path in a snapshot, which was taken at ``time``; with ``against``, if it is beside a mark.
    ``now`` is its path on the disk and at the mark, if it is called otherwise there."""

    may_block: ClassVar[bool] = True
    path: bytes
    snapshot: SnapshotId
    time: int
    beside: Beside
    against: SnapshotId | None = None
    now: bytes = b""


class ReadGlimpse(JobCall[Preview], frozen=True):
    """A version, shown small."""

    may_block: ClassVar[bool] = True
    path: bytes
    snapshot: SnapshotId
    time: int = 0


class ChangesView(msgspec.Struct, frozen=True):
    """How many lines each of some versions differs in from the one before it in the list; the first from
    nothing."""

    changes: tuple[Counted, ...]


class ReadChanges(JobCall[ChangesView], frozen=True):
    """How much versions of a file differ from each other: a path and a snapshot for each of them, in
    order."""

    may_block: ClassVar[bool] = True
    versions: tuple[tuple[bytes, SnapshotId], ...]


class MakeCopy(JobCall[str], frozen=True):
    """Make a copy of a version that can be read only, for the program that usually opens such files. The
    answer is where it is; it is cleared away after some days."""

    may_block: ClassVar[bool] = True
    path: bytes
    snapshot: SnapshotId
    time: int = 0


class OpenWith(JobCall[None], frozen=True):
    """Make such a copy, and let the desktop ask with which program it is opened."""

    may_block: ClassVar[bool] = True
    path: bytes
    snapshot: SnapshotId
    time: int = 0


class ShowAsFolder(JobCall[str], frozen=True):
    """Have all moments of the job's history as folders that can be read only. The answer is the folder that a
    path was at a moment, or that it was in."""

    may_block: ClassVar[bool] = True
    path: bytes
    snapshot: SnapshotId
    time: int = 0


class ContainingView(msgspec.Struct, frozen=True):
    """In which versions of a file a phrase stands, by the snapshots in which they appeared; and how many have
    no text. They count the snapshots of ``history``."""

    history: HistoryId
    first: tuple[int, ...]
    unclear: int = 0


class FindInVersions(JobCall[ContainingView], frozen=True):
    """In which versions of a file a phrase stands."""

    may_block: ClassVar[bool] = True
    path: bytes
    phrase: str
