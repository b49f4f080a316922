"""Where each chunk lies: the index files of a store, merged and sorted in memory."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from good_tide.core.identifiers import CHUNK_ID_BYTES, ChunkId, PackId
from good_tide.core.translation import tr
from good_tide.storage.chunk_keys import each_id
from good_tide.storage.decoding import unpacked
from good_tide.storage.packed import Form, Packed, files_of
from good_tide.storage.packs import Holds, PackTable, checked

DEEPEST = 8
"""A chunk that leans on one that leans on others, and so on, comes about only where some of them were lost;
so many steps are followed."""


class Location(msgspec.Struct, frozen=True, gc=False):
    """Where a chunk lies. Lengths and offset in bytes; ``number`` counts the chunks of the pack from 0;
    ``size`` as in ``PackTable``."""

    pack: PackId
    number: int
    offset: int
    stored: int
    plain: int
    form: Form
    holds: Holds
    size: int = 0
    bases: bytes = b""
    """As in ``Packed``."""

    def packed(self, identity: ChunkId) -> Packed:
        """What the chunk is."""
        return Packed(identity, self.plain, self.form, self.bases)


def encode_tables(tables: Iterable[PackTable]) -> bytes:
    """Plain bytes of an index file: the tables of some packs, as MessagePack."""
    return msgspec.msgpack.encode(list(tables))


def decode_tables(plain: bytes, file: str) -> list[PackTable]:
    """The tables in an index file.

    Raises:
        DamageError: the bytes are no index.
    """
    return checked(unpacked(plain, list[PackTable], file, tr("an index")))


class _Sorted(NamedTuple):
    """The chunks of the first ``merged`` tables in the order of their identities' first eight bytes.

    One value, exchanged as a whole: a look-up in one thread never sees half of what another has just merged.
    """

    merged: int
    keys: NDArray[np.uint64]
    rows: NDArray[np.int64]
    """Number of the table, and of the chunk in it; one row a key."""


class ChunkIndex:
    """All chunks of a store. Kept as sorted arrays: about 60 bytes a chunk. Threads may add and look up at
    once."""

    def __init__(self) -> None:
        self.tables: dict[PackId, PackTable] = {}
        self.pack_files: set[str] = set()
        """The files of the known packs, in the folder of packs."""
        self._order: list[PackTable] = []
        self._sorted = _Sorted(0, np.empty(0, dtype=np.uint64), np.empty((0, 2), dtype=np.int64))
        self._merging = threading.Lock()

    def add(self, tables: Iterable[PackTable]) -> None:
        """Take in the tables of some packs; packs already known are skipped."""
        with self._merging:
            fresh: dict[PackId, PackTable] = {}
            for table in tables:
                if table.pack not in self.tables:
                    fresh.setdefault(table.pack, table)
            self.pack_files.update(files_of(b"".join(fresh)))
            self._order += fresh.values()
            self.tables.update(fresh)  # last: what is in it is found by who looks now

    def __len__(self) -> int:
        return sum(len(table) for table in self._order)

    def packs(self) -> Iterator[PackTable]:
        """The known packs."""
        return iter(self._order)

    def _merged(self) -> _Sorted:
        """The sorted chunks of all tables, those added since the last look-up merged in."""
        known = self._sorted
        if known.merged == len(self._order):
            return known
        with self._merging:
            known = self._sorted
            fresh = self._order[known.merged :]
            ids = np.frombuffer(b"".join([table.ids for table in fresh]), dtype=">u8")
            keys = ids.reshape(-1, CHUNK_ID_BYTES // 8)[:, 0].astype(np.uint64)
            counts = np.array([len(table.squeezed) for table in fresh], dtype=np.int64)
            numbers = np.repeat(np.arange(known.merged, known.merged + len(fresh)), counts)
            inside = np.arange(len(keys)) - np.repeat(np.cumsum(counts) - counts, counts)
            all_keys = np.concatenate([known.keys, keys])
            all_rows = np.concatenate([known.rows, np.stack((numbers, inside), axis=1)])
            order = np.argsort(all_keys, kind="stable")
            self._sorted = _Sorted(known.merged + len(fresh), all_keys[order], all_rows[order])
            return self._sorted

    def locations(self, identity: ChunkId) -> Iterator[Location]:
        """Every place where a chunk lies."""
        for table, number in self._places(identity):
            yield location_in(table, number)

    def _places(self, identity: ChunkId) -> Iterator[tuple[PackTable, int]]:
        """The table of each pack that a chunk lies in, and its number there."""
        _, keys, rows = self._merged()
        key = np.uint64(int.from_bytes(identity[:8], "big"))
        at = int(np.searchsorted(keys, key))
        while at < len(keys) and keys[at] == key:
            table_number, number = rows[at].tolist()
            table = self._order[table_number]
            if table.ids[number * CHUNK_ID_BYTES : (number + 1) * CHUNK_ID_BYTES] == identity:
                yield table, number
            at += 1

    def find(
        self,
        identity: ChunkId,
        avoided: frozenset[PackId] = frozenset(),
        is_bad: Callable[[PackId, int], bool] | None = None,
    ) -> Location | None:
        """Where a chunk lies, but for the packs ``avoided`` and where ``is_bad`` says that it is damaged; or
        None. What it leans on there must be found likewise; a place where it leans on nothing comes first."""
        return self._find(identity, avoided, is_bad, DEEPEST)

    def _find(
        self,
        identity: ChunkId,
        avoided: frozenset[PackId],
        is_bad: Callable[[PackId, int], bool] | None,
        depth: int,
    ) -> Location | None:
        for found in sorted(self.locations(identity), key=lambda one: bool(one.bases)):
            if found.pack in avoided or (is_bad is not None and is_bad(found.pack, found.number)):
                continue
            if not found.bases:
                return found
            if depth and all(
                self._find(base, avoided, is_bad, depth - 1) is not None for base in each_id(found.bases)
            ):
                return found
        return None

    def following(self, identity: ChunkId, most: int) -> list[ChunkId]:
        """The chunks that lie behind one in its pack: what was taken in after it, and is likely to be read
        after it."""
        place = next(self._places(identity), None)
        if place is None:
            return []
        table, number = place
        numbers = range(number + 1, min(number + 1 + most, len(table)))
        return [ChunkId(table.ids[at * CHUNK_ID_BYTES : (at + 1) * CHUNK_ID_BYTES]) for at in numbers]

    def known(self, keys: NDArray[np.uint64]) -> NDArray[np.bool_]:
        """For keys of chunks (the first eight bytes of their identities, big-endian) whether each lies
        anywhere."""
        own = self._merged().keys
        if not len(own):
            return np.zeros(len(keys), dtype=bool)
        at: NDArray[np.intp] = np.minimum(np.searchsorted(own, keys), len(own) - 1)
        found: NDArray[np.bool_] = own[at] == keys
        return found

    def __contains__(self, identity: ChunkId) -> bool:
        return self.find(identity) is not None


def location_in(table: PackTable, number: int) -> Location:
    """Where a chunk of a pack lies, by its number."""
    at = slice(number * 4, number * 4 + 4)
    stored = np.frombuffer(table.stored, dtype="<u4", count=number)
    return Location(
        pack=table.pack,
        number=number,
        offset=8 + int(stored.sum(dtype=np.int64)),
        stored=int.from_bytes(table.stored[at], "little"),
        plain=int.from_bytes(table.plain[at], "little"),
        form=Form(table.squeezed[number]),
        holds=Holds(table.holds),
        size=table.size,
        bases=table.bases_of(number),
    )
