"""Looking back: what was in a folder and when, one version of a path, names found anywhere in time."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.core.comparing import Comparison
from good_tide.core.differences import Counts, Differences, What
from good_tide.core.entries import Kind
from good_tide.core.findings import Findings
from good_tide.core.history import Lifeline
from good_tide.core.identifiers import HistoryId, SnapshotId
from good_tide.core.name_query import NameQuery
from good_tide.core.previews import Preview
from good_tide.protocol.contract import JobCall


class FolderView(msgspec.Struct, frozen=True):
    """The lifelines of a folder's contents; of the covered folders for the empty path. Their spans count the
    snapshots of ``history``.

    :param lost: identities of versions whose content is lost, by what is known.
    """

    path: bytes
    lifelines: tuple[Lifeline, ...]
    history: HistoryId
    lost: frozenset[bytes] = frozenset()


class ReadFolder(JobCall[FolderView], frozen=True):
    """What ever was in a folder; the covered folders for the empty path."""

    may_block: ClassVar[bool] = True
    path: bytes


class Detail(msgspec.Struct, frozen=True):
    """One version of one path.

    :param with_disk: compared with what is on the disk now; None for what is no file.
    :param with_mark: compared with the moment that was asked for; None: none was.
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
    with_before: Comparison | None = None
    with_mark: Comparison | None = None
    elsewhere: tuple[bytes, ...] = ()


class ReadDetail(JobCall[Detail], frozen=True):
    """A path in a snapshot, which was taken at ``time``; compared with another snapshot, if one is named."""

    may_block: ClassVar[bool] = True
    path: bytes
    snapshot: SnapshotId
    time: int = 0
    against: SnapshotId | None = None


class FoundView(msgspec.Struct, frozen=True):
    """What was found in all of history; spans count the snapshots of ``history``, ``lost`` as in
    ``FolderView``."""

    findings: Findings
    history: HistoryId
    lost: frozenset[bytes] = frozenset()


class FindNames(JobCall[FoundView], frozen=True):
    """Names that were ever in a snapshot, by any of their parts (``core.name_query``); at most so many."""

    may_block: ClassVar[bool] = True
    query: NameQuery
    most: int


class DifferencesView(msgspec.Struct, frozen=True):
    """What differs from one moment to another; ``more`` items are not sent."""

    differences: Differences
    counts: dict[What, Counts]
    more: int = 0


class ReadDifferences(JobCall[DifferencesView], frozen=True):
    """What differs in a path, or in all that is covered for an empty one, from a snapshot, which was taken at
    ``time``, to another one; or to what is on the disk now for none."""

    may_block: ClassVar[bool] = True
    path: bytes
    snapshot: SnapshotId
    time: int = 0
    against: SnapshotId | None = None
    against_time: int = 0


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


class PinSnapshot(JobCall[None], frozen=True):
    """Pin a snapshot of the job, or take its pin away."""

    may_block: ClassVar[bool] = True
    snapshot: SnapshotId
    on: bool = True
    label: str = ""


class ReadGaps(JobCall[list[str]], frozen=True):
    """What a snapshot of the job left out, a line each."""

    may_block: ClassVar[bool] = True
    snapshot: SnapshotId
