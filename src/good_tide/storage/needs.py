"""Which chunks snapshots need, and where those lie: for the sweep, and for what would be gained if some
snapshots went.

Chunks are told apart by their keys (``chunk_keys``); two with the same are both taken for needed.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable

import numpy as np
from numpy.typing import NDArray

from good_tide.core.identifiers import ChunkId, PackId, PageId, chunk_of
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot
from good_tide.storage.chunk_keys import Keys, are_among, each_id, keys_of
from good_tide.storage.damage import pack_of
from good_tide.storage.leaning import leaning_places, lost_with, stands_alone, with_bases
from good_tide.storage.packed import pack_file
from good_tide.storage.packs import PackTable
from good_tide.storage.store import Store

_BATCH_BYTES = 32 * 1024 * 1024


def all_snapshots(store: Store) -> list[Snapshot]:
    """All snapshots of a store; every one must be readable, but for those that are known to be lost for good.

    Raises:
        DamageError: one is not: it is not known what it needs.
    """
    store.damage.refresh()
    found, damage = store.snapshots()
    known = store.damage.files
    for error in damage:
        if error.file not in known or not known[error.file].lost:
            raise error
    return found


def lost_chunks(store: Store, among: Collection[PackId] | None = None) -> frozenset[ChunkId]:
    """Chunks that lie nowhere whole as far as is known, or lean on such ones.

    :param among: damaged packs to look into; None: all.
    """
    lost: set[ChunkId] = set()
    for pack, numbers in store.damage.packs.items():
        table = store.index.tables.get(pack)
        if table is not None and (among is None or pack in among):
            ids = list(table.chunk_ids())
            own = [ids[number] for number in numbers if number < len(ids)] if numbers else ids
            lost.update(one for one in own if not store.has_all(one))
    return frozenset(lost | lost_with(store, lost))


def known_lost(store: Store) -> frozenset[ChunkId]:
    """Chunks that lie nowhere whole, and of which repair has found that they are lost for good."""
    final = {pack for pack in store.damage.packs if store.damage.files[pack_file(pack)].lost}
    return lost_chunks(store, final) if final else frozenset()


def needed_keys(store: Store, snapshots: Iterable[Snapshot], control: Control) -> Keys:
    """As ``needed_themselves``, and what those chunks lean on."""
    return with_bases(store, needed_themselves(store, snapshots, control), known_lost(store))


def needed_themselves(store: Store, snapshots: Iterable[Snapshot], control: Control) -> Keys:
    """Keys of all chunks that snapshots need, rising: contents, and pages of listings. Each page is read
    once; of those that are known to be lost for good nobody needs what they named.

    Raises:
        DamageError: a listing cannot be read.
    """
    keys = np.empty(0, dtype=np.uint64)
    parts: list[bytes] = []
    size = 0
    lost = known_lost(store)
    seen: set[PageId] = set()
    for number, snapshot in enumerate(snapshots):
        control.checkpoint()
        control.report(Progress("Marking", number))
        roots = store.roots(snapshot.record)
        waiting = [page for root in roots for page in root.pages]
        parts += [extent.chunk for root in roots for extent in root.extents if extent.chunk is not None]
        while waiting:
            identity = waiting.pop()
            if identity in seen or chunk_of(identity) in lost:
                continue
            seen.add(identity)
            page = store.page(identity)
            parts.append(page.chunk_ids)
            size += len(page.chunk_ids)
            waiting += page.folder_pages()
            if size > _BATCH_BYTES:
                keys, parts, size = np.union1d(keys, keys_of(b"".join(parts))), [], 0
    return np.union1d(keys, keys_of(b"".join(parts)))


def live_chunks(store: Store, needed: Keys) -> list[tuple[PackTable, NDArray[np.bool_]]]:
    """For each pack which of its chunks are among the needed. Of a chunk that lies in several packs, all
    copies are, but for those that lean on others where there is one that does not, and for damaged ones of
    which there is a whole one, or of which it is known that there is no other, unless something leans on it:
    as long as that is known, it is known too that what leans on it is lost."""
    found = []
    lost = known_lost(store)
    bases = (
        {base for table, number in leaning_places(store) for base in each_id(table.bases_of(number))}
        if lost
        else set()
    )
    for table in list(store.index.packs()):
        keys = keys_of(table.ids)
        live = are_among(keys, needed)
        if table.pack in store.damage.packs:
            for number, identity in enumerate(table.chunk_ids()):
                if store.damage.is_bad(table.pack, number):
                    useless = identity in lost and identity not in bases
                    live[number] &= not useless and not store.has_all(identity)
        for number in table.leaning_numbers():
            live[number] &= not stands_alone(store, table.chunk_id(number))
        found.append((table, live))
    return found


def held_bytes(store: Store, needed: Keys) -> int:
    """Stored bytes of the needed chunks."""
    return sum(int(table.room()[live].sum()) for table, live in live_chunks(store, needed))


def harmful(store: Store) -> list[str]:
    """The damaged files of a store that may cost something: packs with content that is nowhere else,
    snapshots, pins."""
    found = []
    for file in store.damage.files:
        pack = pack_of(file)
        if pack is not None:
            if lost_chunks(store, [pack]):
                found.append(file)
        elif file.startswith(("snapshots/", "pins/")):
            found.append(file)
    return found
