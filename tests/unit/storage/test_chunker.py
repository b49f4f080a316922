"""The store: chunking, keys, and its invariants, each with something that tries to break it."""

from __future__ import annotations

import random

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.storage.chunker import Chunker
from tests.support.base import GoodTideTest
from tests.support.chunks import SMALL, lengths


class ChunkerTest(GoodTideTest):
    @settings(deadline=None, max_examples=60)
    @given(st.integers(0, 60_000), st.integers(0, 2**32))
    def test_chunks_cover_everything_within_their_limits(self, size: int, seed: int) -> None:
        found = lengths(random.Random(seed).randbytes(size))
        self.assertEqual(sum(found), size)
        self.assertTrue(all(SMALL.minimum <= length <= SMALL.maximum for length in found[:-1]))

    def test_an_insertion_moves_borders_along(self) -> None:
        data = random.Random(1).randbytes(400_000)

        def chunks(content: bytes) -> set[bytes]:
            at, found = 0, set()
            for length in lengths(content):
                found.add(content[at : at + length])
                at += length
            return found

        before, after = chunks(data), chunks(b"some new bytes at the front" + data)
        self.assertLess(len(after - before), 6)
        self.assertGreater(len(before), 150)

    def test_mean_length_is_near_its_aim_on_noise_and_text(self) -> None:
        noise = random.Random(2).randbytes(3_000_000)
        words = b" ".join(
            random.Random(3).choices([b"tide", b"harbour", b"lamp", b"curtain", b"of", b"the"], k=600_000)
        )
        for name, data in (("noise", noise), ("text", words)):
            with self.subTest(name):
                mean = sum(lengths(data)) / len(lengths(data))
                self.assertAlmostEqual(mean, SMALL.minimum + SMALL.mean_extra, delta=0.25 * 1536)

    def test_borders_are_keyed_and_do_not_depend_on_reading_pieces(self) -> None:
        data = random.Random(4).randbytes(200_000)
        self.assertNotEqual(lengths(data), lengths(data, b"t" * 32))
        chunker, at, found = Chunker(b"s" * 32, SMALL), 0, []
        while at < len(data):
            piece = np.frombuffer(data[at : at + 20_000], dtype=np.uint8)
            taken = list(chunker.lengths(piece, at + 20_000 >= len(data)))
            found += taken
            at += sum(taken)
        self.assertEqual(found, lengths(data))

    def test_runs_of_one_byte_end_at_the_maximum(self) -> None:
        self.assertTrue(
            all(length == SMALL.maximum for length in lengths(bytes(80_000))[:-1])
            or len(set(lengths(bytes(80_000))[:-1])) == 1
        )
