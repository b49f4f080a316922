"""What a new chunk leans on: chunks of the store that hold earlier versions of what is in it."""

from __future__ import annotations

from collections.abc import Sequence

from good_tide.core.errors import DamageError, PlaceError
from good_tide.core.identifiers import ChunkId
from good_tide.storage.chunk_keys import each_id
from good_tide.storage.packed import BASES_LIMIT, MOST_BASES, Base
from good_tide.storage.store import Store

_TIMES, _LEAST_ROOM = 64, 1024 * 1024
"""What a chunk leans on has at most so many times its bytes, as who reads the one reads the other, and at
least so many."""


def bases_near(store: Store, size: int, near: Sequence[ChunkId]) -> list[Base]:
    """Chunks that a new one may lean on: of those near it the ones that lean on nothing themselves, and what
    the others lean on. None where that cannot be read now.

    :param size: bytes of the new one. :param near: the nearest first.
    """
    chosen: list[ChunkId] = []
    room = min(BASES_LIMIT, max(_LEAST_ROOM, _TIMES * size))
    for identity in near if store.leans else ():
        for base in _standing(store, identity):
            place = store.place_of(base)
            fits = place is not None and not place.bases and place.plain <= room
            if place is not None and fits and base not in chosen:
                chosen.append(base)
                room -= place.plain
        if len(chosen) >= MOST_BASES:
            break
    try:
        return [Base(base, store.read_chunk(base)) for base in chosen[:MOST_BASES]]
    except (DamageError, PlaceError):  # it is stored by itself; whoever looks for damage tells of it
        return []


def _standing(store: Store, identity: ChunkId) -> list[ChunkId]:
    place = store.place_of(identity)
    return [] if place is None else list(each_id(place.bases)) or [identity]
