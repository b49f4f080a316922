"""The store: chunking, keys, and its invariants, each with something that tries to break it."""

from __future__ import annotations

import random
import sys
import threading

import numpy as np

from good_tide.core.identifiers import PackId
from good_tide.storage.index import ChunkIndex
from good_tide.storage.packs import PackTable
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
