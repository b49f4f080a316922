"""Where each chunk lies: the index files of a store, merged and sorted in memory."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import msgspec
import numpy as np
from numpy.typing import NDArray

from good_tide.core.errors import DamageError
from good_tide.core.identifiers import CHUNK_ID_BYTES, ChunkId, PackId
from good_tide.storage.packs import Holds, PackTable


class Location(msgspec.Struct, frozen=True, gc=False):
    """Where a chunk lies. Lengths and offset in bytes; ``number`` counts the chunks of the pack from 0."""

    pack: PackId
    number: int
    offset: int
    stored: int
    plain: int
    squeezed: bool
    holds: Holds


def encode_tables(tables: Iterable[PackTable]) -> bytes:
    """Plain bytes of an index file: the tables of some packs, as MessagePack."""
    return msgspec.msgpack.encode(list(tables))


def decode_tables(plain: bytes, file: str) -> list[PackTable]:
    """The tables in an index file.

    Raises:
        DamageError: the bytes are no index.
    """
    try:
        return [table.checked() for table in msgspec.msgpack.decode(plain, type=list[PackTable])]
    except msgspec.MsgspecError as error:
        raise DamageError(f"{file} is not an index", "Run verify on this store", file) from error


class ChunkIndex:
    """All chunks of a store. Kept as sorted arrays: about 60 bytes a chunk."""

    def __init__(self) -> None:
        self.tables: dict[PackId, PackTable] = {}
        self._order: list[PackTable] = []
        self._keys: NDArray[np.uint64] = np.empty(0, dtype=np.uint64)
        self._rows: NDArray[np.int64] = np.empty((0, 2), dtype=np.int64)
        self._sorted = 0

    def add(self, tables: Iterable[PackTable]) -> None:
        """Take in the tables of some packs; packs already known are skipped."""
        for table in tables:
            if table.pack not in self.tables:
                self.tables[table.pack] = table
                self._order.append(table)

    def __len__(self) -> int:
        return sum(len(table) for table in self._order)

    def packs(self) -> Iterator[PackTable]:
        """The known packs."""
        return iter(self._order)

    def _sort(self) -> None:
        """Merge tables added since the last look-up into the sorted arrays."""
        fresh = self._order[self._sorted :]
        keys = [np.frombuffer(table.ids, dtype=">u8").reshape(-1, CHUNK_ID_BYTES // 8)[:, 0].astype(np.uint64) for table in fresh]
        rows = [np.stack((np.full(len(table), self._sorted + place), np.arange(len(table))), axis=1) for place, table in enumerate(fresh)]
        all_keys = np.concatenate([self._keys, *keys])
        all_rows = np.concatenate([self._rows, *rows])
        order = np.argsort(all_keys, kind="stable")
        self._keys, self._rows, self._sorted = all_keys[order], all_rows[order], len(self._order)

    def find(self, identity: ChunkId) -> Location | None:
        """Where a chunk lies, or None."""
        if self._sorted < len(self._order):
            self._sort()
        key = np.uint64(int.from_bytes(identity[:8], "big"))
        at = int(np.searchsorted(self._keys, key))
        while at < len(self._keys) and self._keys[at] == key:
            table_number, number = self._rows[at].tolist()
            table = self._order[table_number]
            if table.ids[number * CHUNK_ID_BYTES : (number + 1) * CHUNK_ID_BYTES] == identity:
                return _location(table, number)
            at += 1
        return None

    def __contains__(self, identity: ChunkId) -> bool:
        return self.find(identity) is not None


def _location(table: PackTable, number: int) -> Location:
    at = slice(number * 4, number * 4 + 4)
    stored = np.frombuffer(table.stored, dtype="<u4", count=number)
    return Location(
        pack=table.pack,
        number=number,
        offset=8 + int(stored.sum(dtype=np.int64)),
        stored=int.from_bytes(table.stored[at], "little"),
        plain=int.from_bytes(table.plain[at], "little"),
        squeezed=bool(table.squeezed[number]),
        holds=Holds(table.holds),
    )
