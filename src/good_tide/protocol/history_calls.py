"""Looking back: what was in a folder and when, one version of a path, names found anywhere in time."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.core.differences import Counts, Differences, What
from good_tide.core.findings import Findings
from good_tide.core.history import Lifeline
from good_tide.core.identifiers import HistoryId, SnapshotId
from good_tide.core.name_query import NameQuery
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
