"""How well a store is, pack by pack, and what its damage costs."""

from __future__ import annotations

from good_tide.core.damage import Damage
from good_tide.core.identifiers import ChunkId
from good_tide.core.pack_states import PackState, PackView
from good_tide.core.progress import Control
from good_tide.operations.context import Context
from good_tide.operations.integrity.affected import Affected
from good_tide.operations.integrity.reading_back import packs_read
from good_tide.storage.needs import harmful, lost_chunks
from good_tide.storage.packed import pack_file
from good_tide.storage.store import Store


def pack_views(context: Context, store: Store) -> list[PackView]:
    """All packs of a store, those that are known longest first.

    Raises:
        PlaceError: the disk gives nothing any more.
    """
    store.refresh()
    kept = packs_read(context.here.records, store.header.store).read()
    found = []
    for table in store.index.packs():
        name = table.pack.hex()
        read = kept.packs.get(name, 0)
        state = PackState.WHOLE if read else PackState.UNREAD
        if name in kept.mended:
            state = PackState.MENDED
        if table.pack in store.damage.packs:
            state = PackState.LOST if lost_chunks(store, [table.pack]) else PackState.DAMAGED
        found.append(PackView(name, int(table.room().sum()), kept.seen.get(name, 0) or read, read, state))
    return sorted(found, key=lambda one: (one.since == 0, one.since, one.name))


def known_costs(store: Store, control: Control) -> list[Damage]:
    """What the damage that is known costs. Without any nothing is read.

    Raises:
        PlaceError: the disk gives nothing any more. StoppedError: it was stopped.
    """
    if not harmful(store):
        return []
    lost: dict[ChunkId, str] = {
        chunk: pack_file(pack) for pack in store.damage.packs for chunk in lost_chunks(store, [pack])
    }
    affected = Affected(store, lost, control)
    snapshots, damaged = store.snapshots()
    for error in damaged:
        affected.note(error)
    affected.look(snapshots)
    return list(affected.found.values())
