"""Room on a store's disk: how much there is, what takes it, when it will be full, and making some when it gets short."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from good_tide.core.clock import SECOND
from good_tide.core.entries import Entry
from good_tide.core.entries import Kind as EntryKind
from good_tide.core.history import TidePoint
from good_tide.core.identifiers import ChunkId
from good_tide.core.kinds import KINDS
from good_tide.core.progress import Control
from good_tide.core.records import Snapshot
from good_tide.core.settings import Room
from good_tide.core.words import local, printable
from good_tide.operations.thinning import ThinPlan, pinned
from good_tide.storage.needs import Keys, all_snapshots, held_bytes, keys_of, live_chunks, needed_keys
from good_tide.storage.store import Store

By = Literal["folder", "kind", "period", "machine"]
_DAY = 86400 * SECOND
_PAST_DAYS = 26 * 7


class RoomFacts(msgspec.Struct, frozen=True):
    """Room in bytes. ``limit`` and ``reserve`` 0: none. ``short``: how much is missing to keep both, ``usable``: how much may
    still be added. ``added``: on each of the past days, oldest first."""

    stored: int
    free: int
    total: int
    limit: int
    reserve: int
    short: int
    usable: int
    added: tuple[int, ...] = ()


class Taking(msgspec.Struct, frozen=True):
    """What one part of history takes: bytes that only it needs, and bytes that others need too."""

    name: str
    only_here: int
    shared: int


def room_facts(root: Path, stored: int, room: Room, tide: Sequence[TidePoint], now: int, size: tuple[int, int] | None = None) -> RoomFacts:
    """Room of the store in a directory.

    :param size: bytes free and in all, where another than the file system tells (stand-in disks).
    :param stored: bytes of the store's files. :param tide: the snapshots of the machine, for the forecast.

    Raises:
        OSError: the disk does not tell.
    """
    if size is None:
        info = os.statvfs(root)
        size = info.f_bavail * info.f_frsize, info.f_blocks * info.f_frsize
    free, total = size
    limits = [limit for limit in (room.limit_bytes, int(room.limit_part * total)) if limit]
    limit = min(limits, default=0)
    short = max(0, room.reserve_bytes - free, stored - limit if limit else 0)
    usable = max(0, min(free - room.reserve_bytes, limit - stored if limit else free))
    return RoomFacts(stored, free, total, limit, room.reserve_bytes, short, usable, tuple(daily(tide, now)))


def daily(tide: Sequence[TidePoint], now: int) -> list[int]:
    """Stored bytes of each of the past days, oldest first; a machine's first snapshot, which brings everything, left out."""
    later = [point for point in tide if point.seq > 1]
    if not later:
        return []
    days = min(_PAST_DAYS, (now - later[0].time) // _DAY)
    added = [0] * days
    for point in later:
        ago = (now - point.time) // _DAY
        if 0 <= ago < days:
            added[days - 1 - ago] += point.stored
    return added


def plan_room(store: Store, machine: str, missing: int, floor: int, control: Control, precious: Collection[str] = ()) -> ThinPlan:
    """The fewest of a machine's oldest snapshots whose release gives so many bytes back; none that is newer than ``floor``
    (nanoseconds since 1970 UTC), pinned, ``precious`` by its name, or the newest. When that is not enough, all of them.

    Raises:
        DamageError: a snapshot, a pin or a listing cannot be read.
    """
    found, pins = all_snapshots(store), pinned(store)
    own = [snapshot for snapshot in found if snapshot.record.machine.id == machine]
    may = [
        snapshot for snapshot in own[:-1] if snapshot.record.time < floor and snapshot.name not in pins and snapshot.name not in precious
    ]
    everything = held_bytes(store, needed_keys(store, found, control))

    def gain(count: int) -> int:
        gone = {snapshot.name for snapshot in may[:count]}
        return everything - held_bytes(store, needed_keys(store, [one for one in found if one.name not in gone], control))

    low, high = 0, len(may)
    while low < high:
        middle = (low + high) // 2
        if gain(middle) >= missing:
            high = middle
        else:
            low = middle + 1
    gone = {snapshot.name for snapshot in may[:low]}
    kept = tuple(snapshot for snapshot in own if snapshot.name not in gone)
    return ThinPlan(kept, tuple(may[:low]), gain(low) if low else 0)


def taking(store: Store, by: By, control: Control) -> list[Taking]:
    """What takes the room, the largest first. Exact: a byte is counted for a part alone only if no other part needs it.

    Raises:
        DamageError: a snapshot or a listing cannot be read.
    """
    found = all_snapshots(store)
    if by in ("period", "machine"):
        groups: dict[str, list[Snapshot]] = {}
        for snapshot in found:
            when = local(snapshot.record.time)
            groups.setdefault(snapshot.record.machine.name if by == "machine" else f"{when:%Y-%m}", []).append(snapshot)
        keys = {name: needed_keys(store, own, control) for name, own in groups.items()}
    else:
        keys = _by_contents(store, found, by, control)
    names = list(keys)
    every = np.concatenate([keys[name] for name in names]) if names else np.empty(0, dtype=np.uint64)
    unique, counts = np.unique(every, return_counts=True)
    sizes = _sizes(store, unique)
    alone = counts == 1
    result = []
    for name in names:
        at = np.searchsorted(unique, keys[name])
        result.append(Taking(name, int(sizes[at][alone[at]].sum()), int(sizes[at][~alone[at]].sum())))
    return sorted(result, key=lambda one: (-one.only_here, -one.shared, one.name))


def _sizes(store: Store, keys: Keys) -> NDArray[np.int64]:
    """Stored bytes of each key; a chunk that lies in several packs counts once."""
    sizes = np.zeros(len(keys), dtype=np.int64)
    for table, live in live_chunks(store, keys):
        if live.any():
            sizes[np.searchsorted(keys, keys_of(table.ids)[live])] = np.frombuffer(table.stored, dtype="<u4")[live]
    return sizes


def _by_contents(store: Store, found: Iterable[Snapshot], by: By, control: Control) -> dict[str, Keys]:
    """Keys by folder (the covered ones and those right inside) or by kind of file. Listings belong to folders only."""
    parts: dict[str, list[bytes]] = {}
    seen: dict[str, set[ChunkId]] = {}
    for snapshot in found:
        control.checkpoint()
        for root in store.roots(snapshot.record):
            for name, entry in _parts(store, root):
                chunks = parts.setdefault(name, [])
                known = seen.setdefault(name, set())
                if by == "folder":
                    _gather(store, entry, chunks, known)
                else:
                    _gather_kinds(store, entry, parts, known)
    return {name: np.unique(keys_of(b"".join(chunks))) for name, chunks in parts.items() if chunks}


def _parts(store: Store, root: Entry) -> Iterator[tuple[str, Entry]]:
    """A covered folder's own files, and each folder right inside it."""
    for page in root.pages:
        for entry in store.page(page).entries():
            if entry.kind is EntryKind.FOLDER:
                yield f"{printable(root.name)}/{printable(entry.name)}", entry
            elif entry.extents:
                yield printable(root.name), entry


def _gather(store: Store, entry: Entry, chunks: list[bytes], known: set[ChunkId]) -> None:
    chunks += [extent.chunk for extent in entry.extents if extent.chunk is not None]
    waiting = list(entry.pages) if entry.kind is EntryKind.FOLDER else []
    while waiting:
        identity = waiting.pop()
        if identity not in known:
            known.add(identity)
            page = store.page(identity)
            chunks.append(page.chunk_ids)
            waiting += page.folder_pages()


def _gather_kinds(store: Store, entry: Entry, parts: dict[str, list[bytes]], known: set[ChunkId]) -> None:
    waiting = [entry]
    while waiting:
        one = waiting.pop()
        if one.kind is EntryKind.FOLDER:
            for page in one.pages:
                if page not in known:
                    known.add(page)
                    waiting += store.page(page).entries()
        elif one.extents:
            parts.setdefault(_kind(one.name), []).extend(extent.chunk for extent in one.extents if extent.chunk is not None)


def _kind(name: bytes) -> str:
    text = os.fsdecode(name)
    return next((word for word, kind in KINDS.items() if kind.catches(text)), "other")
