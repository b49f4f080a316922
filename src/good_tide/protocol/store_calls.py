"""The stores of a job: opening and choosing them, who may read them, which machines use them, and their
room."""

from __future__ import annotations

from typing import ClassVar, Generic

import msgspec

from good_tide.core.filling import Curve, FullIn
from good_tide.core.identifiers import SnapshotId, StoreId
from good_tide.core.parts import By, Taking
from good_tide.core.settings import Room, StoreUse
from good_tide.protocol.contract import Answer, JobCall
from good_tide.protocol.setup_calls import MadeView


class StoreCall(JobCall[Answer], Generic[Answer], frozen=True):
    """Something that is asked of one of a job's stores."""

    store: StoreId


class Unlocked(msgspec.Struct, frozen=True):
    """The store is open. ``not_remembered``: why the passphrase could not be remembered, as a sentence."""

    not_remembered: str = ""


class Unlock(JobCall[Unlocked], frozen=True):
    """Open the job's store with a passphrase, to be remembered or not."""

    may_block: ClassVar[bool] = True
    passphrase: str
    remember: bool = False


class DropStore(StoreCall[None], frozen=True):
    """Take a store out of the job; the store itself stays as it is."""

    may_block: ClassVar[bool] = True


class LookInto(StoreCall[None], frozen=True):
    """Show history from this store."""


class UseStores(JobCall[None], frozen=True):
    """Whether snapshots go to all stores or to one in turn."""

    use: StoreUse


class CarryHistory(JobCall[None], frozen=True):
    """Begin to carry all snapshots from one of the job's stores to another."""

    may_block: ClassVar[bool] = True
    source: StoreId
    target: StoreId


class SlotView(msgspec.Struct, frozen=True):
    """One way to open a store."""

    number: int
    kind: str
    hint: str


class ListSlots(StoreCall[list[SlotView]], frozen=True):
    """The ways to open the store."""

    may_block: ClassVar[bool] = True


class ChangePassphrase(StoreCall[MadeView], frozen=True):
    """Another passphrase in place of the old one."""

    may_block: ClassVar[bool] = True
    old: str
    new: str
    hint: str = ""
    remember: bool = False


class AddPassphrase(StoreCall[MadeView], frozen=True):
    """A further passphrase."""

    may_block: ClassVar[bool] = True
    new: str
    hint: str = ""


class AddRecoveryKey(StoreCall[MadeView], frozen=True):
    """A further recovery key."""

    may_block: ClassVar[bool] = True


class RevokeSlot(StoreCall[MadeView], frozen=True):
    """One of the ways to open the store no longer opens it."""

    may_block: ClassVar[bool] = True
    number: int


class EjectDisk(StoreCall[str], frozen=True):
    """Take the disk of the store away safely; the answer says what became of it, as a sentence."""

    may_block: ClassVar[bool] = True


class MachineView(msgspec.Struct, frozen=True):
    """A machine's job as a store knows it. ``late`` in nanoseconds, 0 when it is in time; ``rhythm`` in
    words, empty where not known; ``week``: its snapshots on each of the last days, today's last; ``retired``:
    when it was said to take no more, 0: it does."""

    machine: str
    job: str
    last: int
    late: int
    snapshots: int
    rhythm: str = ""
    mine: bool = False
    week: tuple[int, ...] = ()
    files: int = 0
    gaps: int = 0
    retired: int = 0


class RetireMachine(StoreCall[list[MachineView]], frozen=True):
    """Say of a machine's job that it takes no more snapshots into the store, or that it is watched again; the
    answer is all machines."""

    may_block: ClassVar[bool] = True
    machine: str
    of_job: str
    retired: bool


class ReadFleet(StoreCall[list[MachineView]], frozen=True):
    """All machines that use the store, those that are late first."""

    may_block: ClassVar[bool] = True


class RoomView(msgspec.Struct, frozen=True):
    """Room of a store. ``usable``: bytes that may still be added; ``curve`` by the end of each coming week;
    ``full`` in days.

    :param short: how much is missing to keep limit and reserve.
    """

    room: Room
    usable: int
    short: int = 0
    full: FullIn | None = None
    curve: Curve | None = None


class ReadRoom(StoreCall[RoomView], frozen=True):
    """Room of the store, with a forecast from this machine's snapshots."""

    may_block: ClassVar[bool] = True


class KeepRoom(JobCall[None], frozen=True):
    """Keep what the stores of the job may take."""

    may_block: ClassVar[bool] = True
    room: Room


class HeldSnapshot(msgspec.Struct, frozen=True):
    """A snapshot of a store.

    :param pin: the pin's label; None: it is not pinned.
    :param stays: why it is never released, such as “is pinned”; empty: it may be.
    :param alone: bytes that only this snapshot needs.
    """

    id: SnapshotId
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


class ReadHeldHistory(StoreCall[HeldHistory], frozen=True):
    """All snapshots of the store with what each holds alone, and what takes the room."""

    may_block: ClassVar[bool] = True


class ReleaseView(msgspec.Struct, frozen=True):
    """What releasing some snapshots would do; ``stays``: how many of them are pinned or the newest, and
    stay."""

    releases: int
    stays: int
    gives_back: int


class PlanRelease(JobCall[ReleaseView], frozen=True):
    """What releasing snapshots by hand would do. No store: of the one that is looked into."""

    may_block: ClassVar[bool] = True
    snapshots: tuple[SnapshotId, ...]
    store: StoreId | None = None


class ReleaseSnapshots(StoreCall[None], frozen=True):
    """Begin to release snapshots, and to give their room back."""

    may_block: ClassVar[bool] = True
    snapshots: tuple[SnapshotId, ...]


class PinSnapshots(StoreCall[None], frozen=True):
    """Pin snapshots of the store, or take their pins away."""

    may_block: ClassVar[bool] = True
    snapshots: tuple[SnapshotId, ...]
    on: bool = True
    label: str = ""


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


class PlanPurge(StoreCall[PurgeView], frozen=True):
    """What taking a pattern out of all history of the store would touch."""

    may_block: ClassVar[bool] = True
    pattern: str


class Purge(StoreCall[None], frozen=True):
    """Begin to take a pattern out of all history, and every trace of it out of the store."""

    may_block: ClassVar[bool] = True
    pattern: str
