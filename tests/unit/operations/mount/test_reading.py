"""Reading files of the past, and disks that hang."""

from __future__ import annotations

import os
import random
import threading
import time
import unittest
from unittest import mock

from good_tide.core.entries import Extent
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import ChunkId
from good_tide.operations.mount import reading
from good_tide.operations.mount.patience import Patient
from good_tide.operations.mount.reading import ChunkCache, OpenFile


def chunk(number: int) -> ChunkId:
    return ChunkId(bytes([number]) * 32)


class ReadingTest(unittest.TestCase):
    def setUp(self) -> None:
        self.chunks = {chunk(number): os.urandom(10_000) for number in range(8)}
        self.read: list[ChunkId] = []

    def cache(self, patience: float = 5) -> ChunkCache:
        made = ChunkCache(self.take, patience)
        self.addCleanup(made.close)
        return made

    def take(self, wanted: ChunkId) -> bytes:
        self.read.append(wanted)
        return self.chunks[wanted]

    def test_any_part_of_a_file_is_as_it_is(self) -> None:
        chance = random.Random(3)
        extents = [
            Extent(None if number == 3 else chunk(number), number * 10, 500 + number) for number in range(8)
        ]
        whole = b"".join(
            bytes(one.length)
            if one.chunk is None
            else self.chunks[one.chunk][one.offset : one.offset + one.length]
            for one in extents
        )
        file = OpenFile(extents, self.cache())
        for _ in range(300):
            begin, size = chance.randrange(len(whole) + 50), chance.randrange(2000)
            self.assertEqual(file.read(size, begin), whole[begin : begin + size])
        self.assertEqual(OpenFile([], self.cache()).read(10, 0), b"")

    def test_who_reads_all_files_of_a_folder_is_read_ahead_for(self) -> None:
        order = [chunk(number) for number in range(8)]

        def following(one: ChunkId, most: int) -> list[ChunkId]:
            at = order.index(one) + 1
            return order[at : at + most]

        cache = ChunkCache(self.take, 5, following)
        self.addCleanup(cache.close)
        cache.get(chunk(5))
        cache.get(chunk(0))
        self.assertEqual(self.read, [chunk(5), chunk(0)], "one by chance is no order")
        cache.get(chunk(1))
        ends = time.monotonic() + 5
        while len(self.read) < 6 and time.monotonic() < ends:
            time.sleep(0.01)
        self.assertEqual(set(self.read[3:]), {chunk(2), chunk(3), chunk(4)})

    def test_who_reads_on_is_read_ahead_for_and_memory_is_bounded(self) -> None:
        cache = self.cache()
        file = OpenFile([Extent(chunk(number), 0, 10_000) for number in range(8)], cache)
        self.assertEqual(file.read(100, 0), self.chunks[chunk(0)][:100])
        ends = time.monotonic() + 5
        while len(set(self.read)) < 8 and time.monotonic() < ends:
            time.sleep(0.01)
        self.assertEqual(len(set(self.read)), 8, "what comes next was read")
        with mock.patch.object(reading, "KEPT_BYTES", 30_000):
            for number in range(8):
                file.read(10_000, number * 10_000)
            self.assertLessEqual(cache._bytes, 30_000)

    def test_what_is_read_ahead_for_who_reads_beginnings_only_is_counted_too(self) -> None:
        self.chunks = {chunk(number): bytes(10_000) for number in range(200)}
        cache = self.cache()
        with mock.patch.object(reading, "KEPT_BYTES", 50_000):
            for begin in range(0, 200, 4):
                extents = [Extent(chunk(number), 0, 10_000) for number in range(begin, begin + 4)]
                OpenFile(extents, cache).read(1, 0)
            ends = time.monotonic() + 5
            while not all(one.done() for one in list(cache._kept.values())) and time.monotonic() < ends:
                time.sleep(0.01)
            cache.get(chunk(199))
        self.assertLessEqual(sum(len(one.result()) for one in cache._kept.values()), 50_000)

    def test_a_lost_chunk_is_asked_for_again_and_a_hanging_disk_is_waited_for_once(self) -> None:
        failing = mock.Mock(side_effect=[DamageError("lost"), b"found"])
        cache = ChunkCache(failing, 5)
        with self.assertRaises(DamageError):
            cache.get(chunk(1))
        self.assertEqual(cache.get(chunk(1)), b"found")
        cache.close()
        go = threading.Event()
        hanging = ChunkCache(lambda wanted: (go.wait(20) and b"late") or b"", 0.2)
        self.addCleanup(hanging.close)
        begin = time.monotonic()
        for number in range(8):
            with self.assertRaises(TimeoutError):
                hanging.get(chunk(number))
        self.assertLess(time.monotonic() - begin, 1, "only the first waits")
        go.set()
        ends = time.monotonic() + 5
        found = b""
        while not found and time.monotonic() < ends:
            try:
                found = hanging.get(chunk(1))
            except TimeoutError:
                time.sleep(0.01)
        self.assertEqual(found, b"late", "and when it answers again, so does this")

    def test_patience_ends_once(self) -> None:
        go = threading.Event()
        patient = Patient(0.2)
        self.assertEqual(patient(lambda: 5), 5)
        begin = time.monotonic()
        for _ in range(5):
            with self.assertRaises(TimeoutError):
                patient(lambda: go.wait(20))
        self.assertLess(time.monotonic() - begin, 1)
        go.set()
        ends = time.monotonic() + 5
        answer = None
        while answer is None and time.monotonic() < ends:
            try:
                answer = patient(lambda: 6)
            except TimeoutError:
                time.sleep(0.01)
        self.assertEqual(answer, 6)
        with self.assertRaises(DamageError):
            patient(lambda: (_ for _ in ()).throw(DamageError("lost")))
