"""Files with parity: any damage within the reach is mended, and lengths follow from sizes."""

from __future__ import annotations

import os
import random
import unittest
from functools import partial

from good_tide.storage.failing_disk import OneFile
from good_tide.storage.stripes import Shape, Striped, is_whole, mended, read_striped, shape_for, shape_of_file

HEAD = b"GDTD\2\1\0\1"
SECTOR = 4096
MIB = 1 << 20


def made(body: bytes) -> bytes:
    """The file that holds some bytes, and zeros up to what a file of its shape holds."""
    striped = Striped(len(body))
    striped.buffer[:] = body.ljust(striped.shape.length, b"\0")
    return bytes(striped.file(HEAD))


def harmed(data: bytes, rng: random.Random, most: int) -> bytes:
    """A file that lost bytes of as many units as its reach is, ``most``: in bursts of sectors, single
    sectors, flipped bits, or all of these; set to zero, to noise, or to what stood elsewhere."""
    bad, shape = bytearray(data), shape_of_file(len(data))
    assert shape is not None
    units = max(1, SECTOR // shape.unit)
    while most >= units:
        at = rng.randrange(0, len(data))
        run = min(rng.choice((1, 1, 3, 40)) * units, most)
        kind = rng.randrange(3)
        if kind == 0:
            bad[at] ^= 1 << rng.randrange(8)
            most -= 1
            continue
        begin = at // SECTOR * SECTOR
        end = min(len(data), begin + run * shape.unit)
        bad[begin:end] = bytes(end - begin) if kind == 1 else rng.randbytes(end - begin)
        most -= run + units
    return bytes(bad)


def reach(shape: Shape) -> int:
    """How many units may be lost: 3 % of all."""
    return (shape.code.data + shape.code.parity) * 3 // 100


class StripesTest(unittest.TestCase):
    def test_bytes_come_back_and_the_size_tells_the_length(self) -> None:
        for length in (0, 1, 255, 5000, 65_536, 300_000, MIB, MIB + 1, 2 * MIB, 2 * MIB + 1, 17 * MIB + 5):
            with self.subTest(length):
                body = os.urandom(length)
                data = made(body)
                shape = shape_of_file(len(data))
                assert shape is not None
                self.assertEqual(shape, shape_for(length))
                body = body.ljust(shape.length, b"\0")
                self.assertTrue(is_whole(data, len(data)))
                file = OneFile("pack", data)
                stretches = [(random.randrange(length + 1), random.randrange(200_000)) for _ in range(20)]
                for begin, count in [(0, len(body) + 9), *stretches]:
                    part = read_striped(partial(file.read, "pack"), len(data), begin, count)
                    self.assertTrue(part == body[begin : begin + count])

    def test_no_two_shapes_have_one_size(self) -> None:
        shapes = {shape_for(length) for length in range(0, 18 * MIB, 1000)}
        self.assertEqual(len({shape.size for shape in shapes}), len(shapes))
        self.assertTrue(all(shape_for(shape.length) == shape for shape in shapes))
        by_size = sorted(shapes, key=lambda shape: shape.size)
        self.assertEqual(by_size, sorted(shapes, key=lambda shape: shape.length))

    def test_a_full_pack_costs_less_than_four_percent(self) -> None:
        for length in (16 * MIB, 32 * MIB, 60 * MIB):
            self.assertLess(shape_for(length).size, length * 1.04)

    def test_random_damages_of_all_sizes_of_files_are_mended(self) -> None:
        rng = random.Random(11)
        for length, tries in ((700, 100), (60_000, 100), (300_000, 40), (MIB + 900, 8), (5 * MIB, 8)):
            body = rng.randbytes(length)
            data = made(body)
            shape = shape_for(length)
            for number in range(tries):
                bad = harmed(data, rng, max(SECTOR // shape.unit, reach(shape)))
                with self.subTest(length=length, number=number):
                    self.assertTrue(mended(bad, HEAD, len(data)) == data)

    def test_a_sector_of_the_smallest_file_may_go_and_so_may_its_end(self) -> None:
        data = made(b"a letter")
        for begin in range(0, len(data), SECTOR):
            bad = data[:begin] + bytes(min(SECTOR, len(data) - begin)) + data[begin + SECTOR :]
            self.assertTrue(mended(bad, HEAD, len(data)) == data)
        self.assertEqual(mended(data[:-900], HEAD, len(data)), data)
        self.assertEqual(mended(data + b"more", HEAD, len(data)), data)

    def test_what_is_beyond_the_reach_is_not_made_up(self) -> None:
        body = os.urandom(300_000)
        data = made(body)
        self.assertTrue(mended(data[:200_000] + bytes(len(data) - 200_000), HEAD, len(data)) is None)
        self.assertTrue(mended(data, HEAD, 100) is None)
        self.assertFalse(is_whole(data[:-1] + bytes([data[-1] ^ 1]), len(data)))
        self.assertFalse(is_whole(data[:100] + b"?" + data[101:], len(data)))
