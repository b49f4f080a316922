"""Which chunks lean on which: what is needed besides, and what is lost with what is lost.

Of a chunk that lies somewhere without leaning on others, the places where it leans are of no account.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator

import numpy as np

from good_tide.core.identifiers import ChunkId
from good_tide.storage.chunk_keys import Keys, are_among, each_id, keys_of
from good_tide.storage.packs import PackTable
from good_tide.storage.store import Store


def leaning_places(store: Store) -> Iterator[tuple[PackTable, int]]:
    """Where chunks lie that lean on others: the pack and the number in it."""
    for table in list(store.index.packs()):
        for number in table.leaning_numbers():
            yield table, number


def stands_alone(store: Store, identity: ChunkId) -> bool:
    """Whether a chunk lies somewhere without leaning on others, and is not known to be damaged there."""
    return any(
        not place.bases and not store.damage.is_bad(place.pack, place.number)
        for place in store.index.locations(identity)
    )


def with_bases(store: Store, needed: Keys, lost: Collection[ChunkId]) -> Keys:
    """Keys of needed chunks, and of those that they lean on, rising. Of what lost ones lean on only the lost:
    as long as that is known, it is known too that what leans on it is lost."""
    leaning = []
    for table, number in leaning_places(store):
        identity, bases = table.chunk_id(number), each_id(table.bases_of(number))
        if not stands_alone(store, identity):
            wanted = [base for base in bases if identity not in lost or base in lost]
            leaning.append((keys_of(identity)[0], keys_of(b"".join(wanted))))
    while leaning:
        own = np.array([key for key, _ in leaning], dtype=np.uint64)
        found = are_among(own, needed)
        more = [bases for (_, bases), is_needed in zip(leaning, found.tolist(), strict=True) if is_needed]
        if not more:
            break
        needed = np.union1d(needed, np.concatenate(more))
        leaning = [one for one, is_needed in zip(leaning, found.tolist(), strict=True) if not is_needed]
    return needed


def leaning_on(store: Store, chunks: Collection[ChunkId]) -> set[ChunkId]:
    """The chunks that lean on some of these, or on one that does, wherever they lie."""
    return _closed(store, chunks, lambda _: True)


def lost_with(store: Store, lost: Collection[ChunkId]) -> set[ChunkId]:
    """The chunks that cannot be read because all that they lean on is among the lost."""
    return _closed(store, lost, lambda identity: not store.has_all(identity)) if lost else set()


def _closed(store: Store, chunks: Collection[ChunkId], counts: Callable[[ChunkId], bool]) -> set[ChunkId]:
    places = [
        (table.chunk_id(number), list(each_id(table.bases_of(number))))
        for table, number in leaning_places(store)
    ]
    found: set[ChunkId] = set()
    grew = True
    while grew:
        before = len(found)
        found.update(
            identity
            for identity, bases in places
            if identity not in found
            and any(base in chunks or base in found for base in bases)
            and counts(identity)
        )
        grew = len(found) > before
    return found
