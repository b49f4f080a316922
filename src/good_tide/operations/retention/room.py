"""Room on a store's disk: how much there is, what takes it, when it will be full, and making some when it
gets short."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Collection
from pathlib import Path
from typing import get_args

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.identifiers import MachineId, SnapshotId
from good_tide.core.parts import By, Taking
from good_tide.core.progress import Control
from good_tide.core.settings import Room
from good_tide.core.tide import NO_TIDE, Tide
from good_tide.core.translation import tr
from good_tide.core.words import local, printable
from good_tide.operations.context import Context
from good_tide.operations.retention.thinning import ThinPlan, always_kept, pinned
from good_tide.operations.stores.opening import open_ledger
from good_tide.storage.ledger import LISTING, OTHER, Label, Ledger
from good_tide.storage.store import Store
from good_tide.storage.summaries import known_snapshots

_DAY = 86400 * SECOND
PAST_DAYS = 26 * 7
"""So much of the past the forecast looks at."""
_KIND_WORDS = {LISTING: tr("listings of folders"), OTHER: "other"}


class RoomFacts(msgspec.Struct, frozen=True):
    """Room in bytes. ``limit`` and ``reserve`` 0: none. ``short``: how much is missing to keep both,
    ``usable``: how much may still be added. ``added``: on each of the past days, oldest first."""

    stored: int
    free: int
    total: int
    limit: int
    reserve: int
    short: int
    usable: int
    added: tuple[int, ...] = ()


def room_facts(stored: int, room: Room, tide: Tide, now: int, size: tuple[int, int]) -> RoomFacts:
    """Room of a store.

    :param size: bytes free and in all where it is.
    :param stored: bytes of the store's files. :param tide: the snapshots of the machine, for the forecast.
    """
    free, total = size
    limits = [limit for limit in (room.limit_bytes, int(room.limit_part * total)) if limit]
    limit = min(limits, default=0)
    short = max(0, room.reserve_bytes - free, stored - limit if limit else 0)
    usable = max(0, min(free - room.reserve_bytes, limit - stored if limit else free))
    return RoomFacts(stored, free, total, limit, room.reserve_bytes, short, usable, tuple(daily(tide, now)))


def store_room(context: Context, store: Store, room: Room, tide: Tide = NO_TIDE) -> RoomFacts:
    """Room of an open store.

    :param tide: the snapshots of the machine, for the forecast.

    Raises:
        PlaceError: the disk does not tell.
    """
    disk = context.disk_of(store.place.where)
    size = (disk.free, disk.total) if disk is not None and disk.total else store.place.room()
    return room_facts(store.place.total_bytes(), room, tide, context.clock.now(), size)


def daily(tide: Tide, now: int) -> list[int]:
    """Stored bytes of each of the past days, oldest first; a machine's first snapshot, which brings
    everything, left out."""
    later = tide[1:] if tide and tide.seq[0] == 1 else tide
    if not later:
        return []
    days = min(PAST_DAYS, (now - later.time[0]) // _DAY)
    added = [0] * days
    for time, stored in zip(later.time, later.stored, strict=True):
        ago = (now - time) // _DAY
        if 0 <= ago < days:
            added[days - 1 - ago] += stored
    return added


def plan_room(
    store: Store,
    machine: MachineId,
    missing: int,
    floor: int,
    control: Control,
    cache: Path,
    precious: Collection[SnapshotId] = (),
) -> ThinPlan:
    """The fewest of a machine's oldest snapshots whose release gives so many bytes back; none that is newer
    than ``floor`` (nanoseconds since 1970 UTC), and none that always stays (``always_kept``). When that is
    not enough, all of them.

    :param precious: names of snapshots that stay for what they hold.

    Raises:
        DamageError: a pin cannot be read.
    """
    found = known_snapshots(store)[0]
    fast = always_kept(found, pinned(store), precious)
    own = [snapshot for snapshot in found if snapshot.machine.id == machine]
    may = [snapshot for snapshot in own if snapshot.time < floor and snapshot.id not in fast]
    ledger = open_ledger(store, cache, control)

    def gain(count: int) -> int:
        return ledger.gain({snapshot.id for snapshot in may[:count]})

    least = bisect_left(range(len(may)), missing, key=gain)
    gone = {snapshot.id for snapshot in may[:least]}
    kept = tuple(snapshot for snapshot in own if snapshot.id not in gone)
    return ThinPlan(kept, tuple(may[:least]), gain(least))


def taking(store: Store, by: By, control: Control, cache: Path) -> list[Taking]:
    """What takes the room, the largest first. Exact: a byte is counted for a part alone only if no other part
    needs it.

    Raises:
        PlaceError: the disk gives nothing any more.
    """
    return parts_of(store, open_ledger(store, cache, control), by)


def parts_of(store: Store, ledger: Ledger, by: By) -> list[Taking]:
    """What takes the room, by a ledger that is up to date (``taking``)."""
    if by == "folder":
        parts = ledger.by_label(_folder)
    elif by == "kind":
        parts = ledger.by_label(lambda label: _KIND_WORDS.get(label.kind, label.kind))
    else:
        records = {snapshot.id: snapshot.record for snapshot in known_snapshots(store)[0]}
        parts = ledger.by_snapshot(
            {
                name: one.machine.name if by == "machine" else f"{local(one.time):%Y-%m}"
                for name, one in records.items()
            }
        )
    found = [Taking(name, alone, shared) for name, (alone, shared) in parts.items()]
    return sorted(found, key=lambda one: (-one.only_here, -one.shared, one.name))


def all_parts(store: Store, ledger: Ledger) -> dict[By, tuple[Taking, ...]]:
    """What takes the room, looked at in every way."""
    return {by: tuple(parts_of(store, ledger, by)) for by in get_args(By)}


def _folder(label: Label) -> str:
    return printable(label.root) + (f"/{printable(label.inside)}" if label.inside else "")
