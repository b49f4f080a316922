"""What a newer text shares with an older one."""

from __future__ import annotations

import random
import unittest

import hypothesis
from hypothesis import strategies as st

from good_tide.storage.delta import LEAST, Shared, shared_stretches

SIZE = 400_000


def noise(seed: int, size: int = SIZE) -> bytes:
    return random.Random(seed).randbytes(size)


class DeltaTest(unittest.TestCase):
    def literal(self, old: bytes, new: bytes) -> int:
        """How many bytes of the newer text are not shared, after a look at each stretch."""
        end = 0
        for at, before, length in shared_stretches(old, new):
            self.assertGreaterEqual(at, end)
            self.assertGreater(length, 0)
            self.assertEqual(new[at : at + length], old[before : before + length])
            end = at + length
        self.assertLessEqual(end, len(new))
        return len(new) - sum(one.length for one in shared_stretches(old, new))

    def test_what_is_written_in_place_is_new_and_nothing_else(self) -> None:
        old = noise(1)
        new = bytearray(old)
        for at in range(10_000, SIZE, 50_000):
            new[at : at + 500] = noise(at, 500)
        self.assertLessEqual(self.literal(old, bytes(new)), 8 * 500)

    def test_what_is_inserted_removed_and_moved(self) -> None:
        old = noise(1)
        self.assertLessEqual(self.literal(old, old[:1000] + b"new" + old[1000:]), 3)
        self.assertEqual(self.literal(old, old[:1000] + old[1300:]), 0)
        self.assertEqual(self.literal(old, old + b"more"), 4)
        several = old[:50_000] + b"1" * 70 + old[50_200:200_000] + b"2" * 70 + old[200_300:]
        self.assertLessEqual(self.literal(old, several), 2 * (70 + 2 * LEAST))
        self.assertLessEqual(self.literal(old, old[SIZE // 2 :] + old[: SIZE // 2]), 2000)

    def test_a_few_lines_of_a_text(self) -> None:
        lines = [f"cue {number}: {noise(number, 12).hex()}\n" for number in range(400)]
        old = "".join(lines).encode()
        for number in range(0, 400, 40):
            lines[number] = f"cue {number}: cut\n"
        self.assertLess(self.literal(old, "".join(lines).encode()), 10 * 150)

    def test_texts_that_repeat_themselves(self) -> None:
        for old in (bytes(SIZE), b"abc" * 100_000, b"0123456789abcdef" * 20_000):
            new = bytearray(old)
            new[5000:5010] = b"something else"
            self.assertLess(self.literal(old, bytes(new)), 4 * LEAST)
            self.assertEqual(self.literal(old, old), 0)

    def test_what_shares_nothing_and_what_is_short(self) -> None:
        self.assertEqual(shared_stretches(noise(1), noise(2)), [])
        self.assertEqual(shared_stretches(b"", noise(2)), [])
        self.assertEqual(shared_stretches(noise(1), b""), [])
        self.assertEqual(shared_stretches(b"short", b"short"), [])
        text = noise(3, LEAST)
        self.assertEqual(shared_stretches(text, text), [Shared(0, 0, LEAST)])

    @hypothesis.settings(deadline=None, max_examples=200)
    @hypothesis.given(
        base=st.integers(0, 3),
        size=st.integers(0, 6000),
        edits=st.lists(
            st.tuples(st.integers(0, 6000), st.integers(0, 300), st.binary(max_size=200)), max_size=8
        ),
    )
    def test_whatever_is_edited(self, base: int, size: int, edits: list[tuple[int, int, bytes]]) -> None:
        old = bytes(size) if base == 0 else noise(base, size)
        new = bytearray(old)
        for at, removed, added in edits:
            new[at : at + removed] = added
        self.literal(old, bytes(new))
