"""Chunks that lean on others, written anew so that they stand by themselves: where what they lean on would
stay for their sake alone, or must go."""

from __future__ import annotations

import contextlib
from collections.abc import Collection

import numpy as np

from good_tide.core.errors import DamageError
from good_tide.core.identifiers import ChunkId
from good_tide.core.progress import Control, Progress
from good_tide.core.translation import tr
from good_tide.storage.chunk_keys import Keys, are_among, keys_of
from good_tide.storage.envelope import FileKind
from good_tide.storage.folders import INDEX_FOLDER
from good_tide.storage.index import encode_tables
from good_tide.storage.leaning import leaning_places, stands_alone
from good_tide.storage.packed import prepare
from good_tide.storage.packs import PACK_BYTES, Holds, PackWriter
from good_tide.storage.store import Store


class _Group:
    """Chunks that lean on some of the same, of which nothing else needs anything."""

    def __init__(self) -> None:
        self.leaning: dict[ChunkId, int] = {}
        """The chunks, and how many bytes each takes as it lies."""
        self.bases: set[int] = set()
        """Keys of what nothing else needs."""

    def take(self, other: _Group) -> None:
        self.leaning.update(other.leaning)
        self.bases |= other.bases


def set_upright(store: Store, chunks: Collection[ChunkId], owner: str, control: Control) -> int:
    """Write chunks anew so that they lean on nothing; how many bytes of packs that made. Those that cannot be
    read stay as they are.

    Raises:
        PlaceError: the disk does not take them; what was written counts.
    """
    holds = {table.chunk_id(number): Holds(table.holds) for table, number in leaning_places(store)}
    total = 0
    for kind in Holds:
        own = [chunk for chunk in chunks if holds.get(chunk) is kind]
        writer, written = PackWriter(store.place, store.keys, kind, owner, store.layout), 0
        for number, identity in enumerate(own):
            control.checkpoint()
            control.report(Progress(tr("Copying what is needed"), number, len(own)))
            with contextlib.suppress(DamageError):  # noted where it was found
                writer.add(prepare(identity, store.read_chunk(identity)))
                written += 1
            if written and (writer.size >= PACK_BYTES or number == len(own) - 1):
                tables = [writer.finish()]
                file = store.write_sealed(FileKind.INDEX, INDEX_FOLDER, encode_tables(tables), owner)
                store.know_index(file.name, tables)
                total += writer.size
                writer, written = PackWriter(store.place, store.keys, kind, owner, store.layout), 0
    return total


def worth_setting_upright(store: Store, needed: Keys) -> list[ChunkId]:
    """The chunks that would take less by themselves than what they lean on, which nothing else needs.

    :param needed: keys of what snapshots need themselves, rising.
    """
    rooms: dict[int, int] = {}
    groups: dict[int, _Group] = {}
    for table, number in leaning_places(store):
        identity = table.chunk_id(number)
        bases = keys_of(table.bases_of(number))
        idle = bases[~are_among(bases, needed)].tolist()
        if not idle or not are_among(keys_of(identity), needed).all() or stands_alone(store, identity):
            continue
        joined = _Group()
        joined.leaning[identity] = table.stored_length(number)
        joined.bases.update(idle)
        for other in {id(groups[base]): groups[base] for base in idle if base in groups}.values():
            joined.take(other)
        groups.update(dict.fromkeys(joined.bases, joined))
    if not groups:
        return []
    every = np.array(sorted(groups), dtype=np.uint64)
    for table in store.index.packs():
        keys = keys_of(table.ids)
        found = are_among(keys, every)
        if found.any():
            rooms.update(zip(keys[found].tolist(), table.room()[found].tolist(), strict=True))
    each = {id(group): group for group in groups.values()}.values()
    return [
        identity
        for group in each
        if _pays(store, group, sum(rooms.get(base, 0) for base in group.bases))
        for identity in group.leaning
    ]


def _pays(store: Store, group: _Group, idle: int) -> bool:
    """Whether chunks would grow by less than so many idle bytes, were they to stand by themselves."""
    grown = 0
    for identity, stored in group.leaning.items():
        if grown + stored >= idle:  # by itself it takes at least twice as much
            return False
        try:
            grown += len(prepare(identity, store.read_chunk(identity)).body) - stored
        except DamageError:
            return False
    return grown < idle
