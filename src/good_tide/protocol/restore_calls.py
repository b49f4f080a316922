"""Bringing back: planned, carried out, undone."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.core.identifiers import PlanId, SnapshotId
from good_tide.core.restoring import Action, Existing, Extent
from good_tide.protocol.contract import Call, JobCall


class PickedItem(msgspec.Struct, frozen=True):
    """One thing on the restore list: a path, from a snapshot, which was taken at ``time``."""

    path: bytes
    snapshot: SnapshotId
    time: int = 0


class PlanItem(msgspec.Struct, array_like=True, frozen=True):
    """One line of a restore plan."""

    path: bytes
    action: Action
    size: int
    note: str


class PlanView(msgspec.Struct, frozen=True):
    """A restore plan: how many things would be created and so on. Only the first items are listed."""

    plan: PlanId
    create: int
    replace: int
    identical: int
    skip: int
    blocked: int
    bytes: int
    items: tuple[PlanItem, ...]
    notes: tuple[str, ...]
    aside: int = 0


class PlanRestore(JobCall[PlanView], frozen=True):
    """What restoring some things would do, and where to; empty: to where they were.

    :param homes: paths of homes as they were, and as they are here: what was below one goes below the other.
    """

    may_block: ClassVar[bool] = True
    items: tuple[PickedItem, ...]
    into: str = ""
    existing: Existing = Existing.SET_ASIDE
    extent: Extent = Extent.ALL
    homes: tuple[tuple[bytes, bytes], ...] = ()


class Restore(JobCall[None], frozen=True):
    """Begin to carry a plan out."""

    plan: PlanId


class UndoRestore(Call[None], frozen=True):
    """Begin to undo a restore, by the folders in which it set things aside, or has its records."""

    folders: tuple[str, ...]
