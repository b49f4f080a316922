"""How well a store is; repairing it, reading it back; and alarms."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.core.errors import Harm
from good_tide.core.identifiers import SnapshotId
from good_tide.core.pack_states import PackView
from good_tide.protocol.contract import JobCall
from good_tide.protocol.store_calls import StoreCall


class DamageView(msgspec.Struct, frozen=True):
    """One damaged store file, and what it costs: some of the paths, how many ``more``, versions and
    snapshots."""

    file: str
    what: str
    harm: Harm
    paths: tuple[bytes, ...] = ()
    more: int = 0
    versions: int = 0
    snapshots: int = 0


class HealthView(msgspec.Struct, frozen=True):
    """How well a store is. ``trouble``: what somebody should look at, each with what to do. ``lost``: repair
    found no way to mend what is damaged, and nobody has accepted that yet."""

    proven: str
    packs: tuple[PackView, ...] = ()
    damage: tuple[DamageView, ...] = ()
    trouble: tuple[tuple[str, str], ...] = ()
    lost: bool = False
    parity: bool = False


class ReadHealth(StoreCall[HealthView], frozen=True):
    """How well the store is, pack by pack."""

    may_block: ClassVar[bool] = True


class RepairStore(StoreCall[None], frozen=True):
    """Begin to mend the store from everything that may have what it lost."""

    may_block: ClassVar[bool] = True


class ProveStore(StoreCall[None], frozen=True):
    """Begin to read all of the store back, and restore files for a trial."""

    may_block: ClassVar[bool] = True


class AcceptLoss(StoreCall[None], frozen=True):
    """What is lost for good is no trouble any more."""

    may_block: ClassVar[bool] = True


class AlarmView(msgspec.Struct, frozen=True):
    """Files were destroyed, as it seems. ``before``: the last moment before it, empty where there is none;
    times in nanoseconds since 1970 UTC."""

    what: str
    since: int
    before: SnapshotId
    before_time: int
    paths: tuple[bytes, ...] = ()


class ReadAlarm(JobCall[AlarmView | None], frozen=True):
    """What rings for the job, if anything does."""


class DismissAlarm(JobCall[None], frozen=True):
    """What changed was meant, or has been put right: releasing goes on."""

    may_block: ClassVar[bool] = True
