"""Where chunks lie: each found exactly, whatever looks like it, and while others are added."""

from __future__ import annotations

import random
import sys
import threading

import msgspec
import numpy as np

from good_tide.core.errors import DamageError
from good_tide.core.identifiers import ChunkId, PackId
from good_tide.storage.index import ChunkIndex, Location, decode_tables, encode_tables
from good_tide.storage.packed import Form
from good_tide.storage.packs import Holds, PackTable
from tests.support.base import GoodTideTest


class ChunkIndexTest(GoodTideTest):
    def test_threads_find_every_chunk_while_others_add(self) -> None:
        def table(number: int) -> PackTable:
            ids = random.Random(number).randbytes(32 * 40)
            lengths = np.full(40, 100, dtype="<u4").tobytes()
            return PackTable(PackId(number.to_bytes(16, "big")), 0, ids, lengths, lengths, bytes(40))

        tables = [table(number) for number in range(300)]
        index = ChunkIndex()
        index.add(tables[:1])
        missed: list[int] = []

        def look(seed: int) -> None:
            chance = random.Random(seed)
            while not finished.is_set():
                there = chance.randrange(len(index.tables))
                if index.find(next(tables[there].chunk_ids())) is None:
                    missed.append(there)

        finished = threading.Event()
        interval = sys.getswitchinterval()
        sys.setswitchinterval(1e-6)
        self.addCleanup(sys.setswitchinterval, interval)
        threads = [threading.Thread(target=look, args=(seed,)) for seed in range(4)]
        for thread in threads:
            thread.start()
        try:
            for one in tables[1:]:
                index.add([one])
                index.find(next(one.chunk_ids()))
        finally:
            finished.set()
            for thread in threads:
                thread.join()
        self.assertEqual(missed, [])
        self.assertEqual(len(index), 300 * 40)

    def test_each_chunk_is_where_it_was_written(self) -> None:
        tables = [
            _table(b"a", 0, [(70_000, 90_000, 1), (5, 5, 0), (2**32 - 1, 12, 0)]),
            _table(b"b", 1, [(300, 400, 1)]),
        ]
        index = ChunkIndex()
        index.add(tables)
        index.add(tables)
        a, b = (table.pack for table in tables)
        first, second, third = tables[0].chunk_ids()
        self.assertEqual(index.following(first, 9), [second, third])
        self.assertEqual(index.following(first, 1), [second])
        self.assertEqual(index.following(third, 9), [], "another pack has nothing to do with it")
        self.assertEqual(index.following(ChunkId(bytes(32)), 9), [])
        expected = [
            Location(a, 0, 8, 70_000, 90_000, Form.SQUEEZED, Holds.DATA),
            Location(a, 1, 70_008, 5, 5, Form.AS_IS, Holds.DATA),
            Location(a, 2, 70_013, 2**32 - 1, 12, Form.AS_IS, Holds.DATA),
            Location(b, 0, 8, 300, 400, Form.SQUEEZED, Holds.TREE),
        ]
        found = [index.find(identity) for table in tables for identity in table.chunk_ids()]
        self.assertEqual(found, expected)
        self.assertEqual((len(index), [table.pack for table in index.packs()]), (4, [a, b]))
        self.assertEqual(index.tables, {a: tables[0], b: tables[1]})

    def test_chunks_whose_identities_begin_alike_are_told_apart(self) -> None:
        first = bytes(range(8))
        identities = [ChunkId(first + bytes([number]) * 24) for number in range(5)]
        index = ChunkIndex()
        for number, identity in enumerate(identities):
            index.add([_table(bytes([number]), 0, [(10 + number, 10, 0)], [identity])])
            self.assertTrue(identity in index)
        self.assertEqual(
            [found.stored if (found := index.find(one)) else 0 for one in identities], [10, 11, 12, 13, 14]
        )
        self.assertFalse(ChunkId(first + b"x" * 24) in index)
        self.assertFalse(ChunkId(b"\xff" * 32) in index)

    def test_a_chunk_in_several_packs_is_found_in_one_that_is_not_avoided(self) -> None:
        chunk = ChunkId(b"c" * 32)
        tables = [_table(bytes([number]), 0, [(10 + number, 10, 0)], [chunk]) for number in range(3)]
        index = ChunkIndex()
        index.add(tables)
        packs = [table.pack for table in tables]
        for left in packs:
            found = index.find(chunk, frozenset(packs) - {left})
            self.assertEqual(found.pack if found else None, left)
        self.assertIsNone(index.find(chunk, frozenset(packs)))

    def test_tables_whose_columns_contradict_each_other_are_damage(self) -> None:
        good = [_table(b"a", 0, [(70, 90, 1), (5, 5, 0)]), _table(b"b", 1, []), _table(b"c", 1, [(3, 4, 1)])]
        self.assertEqual(decode_tables(encode_tables(good), "index/1"), good)
        self.assertEqual(decode_tables(encode_tables([]), "index/1"), [])
        last = good[2]
        for wrong in (
            {"pack": PackId(b"short")},
            {"holds": 7},
            {"ids": last.ids + b"x"},
            {"stored": last.stored * 2},
            {"plain": b""},
            {"squeezed": b"\2"},
            {"squeezed": b"\0\1"},
        ):
            tables = [*good[:2], msgspec.structs.replace(last, **wrong)]
            with self.subTest(wrong=wrong), self.assertRaises(DamageError):
                decode_tables(encode_tables(tables), "index/1")


def _table(
    name: bytes, holds: int, chunks: list[tuple[int, int, int]], identities: list[ChunkId] | None = None
) -> PackTable:
    """A pack's table of chunks, each with its stored and plain length and whether it is compressed."""
    ids = identities or [ChunkId(name * 16 + bytes([number]) * 16) for number in range(len(chunks))]
    stored, plain = (b"".join(chunk[column].to_bytes(4, "little") for chunk in chunks) for column in (0, 1))
    return PackTable(
        PackId(name * 16), holds, b"".join(ids), stored, plain, bytes(chunk[2] for chunk in chunks)
    )
