"""Which chunks snapshots need, and where those lie: for the sweep, and for what would be gained if some
snapshots went.

Chunks are told apart by the first eight bytes of their identities: of a million, two are the same once in
10^7 stores, and both are then taken for needed.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from good_tide.core.errors import DamageError
from good_tide.core.identifiers import CHUNK_ID_BYTES, ChunkId
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot
from good_tide.storage.packs import PackTable
from good_tide.storage.store import Store

Keys = NDArray[np.uint64]
_BATCH_BYTES = 32 * 1024 * 1024


def all_snapshots(store: Store) -> list[Snapshot]:
    """All snapshots of a store; every one must be readable.

    Raises:
        DamageError: one is not: it is not known what it needs.
    """
    found, damage = store.snapshots()
    if damage or len(found) < len(store.snapshot_ids()):
        raise damage[0] if damage else DamageError("A snapshot cannot be read", "Run verify on this store")
    return found


def needed_keys(store: Store, snapshots: Iterable[Snapshot], control: Control) -> Keys:
    """Keys of all chunks that snapshots need, rising: contents, and pages of listings. Each page is read
    once.

    Raises:
        DamageError: a listing cannot be read.
    """
    keys = np.empty(0, dtype=np.uint64)
    parts: list[bytes] = []
    size = 0
    seen: set[ChunkId] = set()
    for number, snapshot in enumerate(snapshots):
        control.checkpoint()
        control.report(Progress("Marking", number))
        roots = store.roots(snapshot.record)
        waiting = [page for root in roots for page in root.pages]
        parts += waiting
        parts += [extent.chunk for root in roots for extent in root.extents if extent.chunk is not None]
        while waiting:
            identity = waiting.pop()
            if identity in seen:
                continue
            seen.add(identity)
            page = store.page(identity)
            parts.append(page.chunk_ids)
            size += len(page.chunk_ids)
            waiting += page.folder_pages()
            if size > _BATCH_BYTES:
                keys, parts, size = np.union1d(keys, keys_of(b"".join(parts))), [], 0
    return np.union1d(keys, keys_of(b"".join(parts)))


def keys_of(identities: bytes) -> Keys:
    """The keys of identities that lie one after the other."""
    return np.frombuffer(identities, dtype=">u8").reshape(-1, CHUNK_ID_BYTES // 8)[:, 0].astype(np.uint64)


def live_chunks(store: Store, needed: Keys) -> list[tuple[PackTable, NDArray[np.bool_]]]:
    """For each pack which of its chunks are among the needed. Of a chunk that lies in several packs, all
    copies are."""
    found = []
    for table in list(store.index.packs()):
        keys = keys_of(table.ids)
        at = np.minimum(np.searchsorted(needed, keys), max(0, len(needed) - 1))
        found.append((table, needed[at] == keys if len(needed) else np.zeros(len(keys), dtype=bool)))
    return found


def held_bytes(store: Store, needed: Keys) -> int:
    """Stored bytes of the needed chunks."""
    return sum(
        int(np.frombuffer(table.stored, dtype="<u4")[live].sum(dtype=np.int64))
        for table, live in live_chunks(store, needed)
    )
