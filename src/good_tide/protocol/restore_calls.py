"""Bringing back: planned, carried out, undone."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.core.identifiers import PlanId, SnapshotId
from good_tide.core.restoring import Action, Existing, Extent, PlanItem, RestoreNote
from good_tide.protocol.contract import Call, JobCall


class PickedItem(msgspec.Struct, frozen=True):
    """One thing on the restore list: a path, from a snapshot, which was taken at ``time``."""

    path: bytes
    snapshot: SnapshotId
    time: int = 0


class PlanItems(msgspec.Struct, frozen=True):
    """What is directly below an item of a plan; ``more`` are not sent."""

    items: tuple[PlanItem, ...]
    more: int = 0


class PlanView(msgspec.Struct, frozen=True):
    """A restore plan: how many things would be created and so on, and what stands at its top."""

    plan: PlanId
    counts: dict[Action, int]
    bytes: int
    top: PlanItems
    notes: tuple[str, ...]


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


class ReadPlanItems(JobCall[PlanItems], frozen=True):
    """What is directly below an item of a plan, or at its top for none; only what has an action, or something
    below it that has."""

    plan: PlanId
    above: int | None = None
    only: Action | None = None


class Restore(JobCall[None], frozen=True):
    """Begin to carry a plan out, without some of its items and all below them."""

    plan: PlanId
    without: tuple[bytes, ...] = ()


class RestoreMade(msgspec.Struct, frozen=True):
    """A restore that was made here. ``files`` and ``size`` in bytes are what it has set aside and is still
    there; ``there`` the folders by which it can be undone."""

    note: RestoreNote
    files: int = 0
    size: int = 0
    there: tuple[str, ...] = ()


class RestoresView(msgspec.Struct, frozen=True):
    """The restores that are remembered, newest first."""

    restores: tuple[RestoreMade, ...]


class ReadRestores(Call[RestoresView], frozen=True):
    """The restores that are remembered."""

    may_block: ClassVar[bool] = True


class GoOnRestoring(Call[None], frozen=True):
    """Begin to go on with a restore that was cut off."""

    may_block: ClassVar[bool] = True
    restore: str


class LetRestoreGo(Call[None], frozen=True):
    """Delete what a restore set aside."""

    may_block: ClassVar[bool] = True
    restore: str


class UndoRestore(Call[None], frozen=True):
    """Begin to undo a restore, by the folders in which it set things aside, or has its records."""

    folders: tuple[str, ...]
