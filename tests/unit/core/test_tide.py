"""Snapshots by columns are the same snapshots."""

from __future__ import annotations

import unittest

import msgspec

from good_tide.core.history import TidePoint
from good_tide.core.identifiers import SnapshotId
from good_tide.core.tide import NO_TIDE, Tide


def point(number: int) -> TidePoint:
    counts = [number + place for place in range(10)]
    return TidePoint(number, SnapshotId(f"{number:032x}"), number * 10**9, f"no. {number}", *counts)


POINTS = [point(number) for number in range(1, 8)]


class TideTest(unittest.TestCase):
    def setUp(self) -> None:
        self.tide = Tide.of(POINTS)

    def test_each_snapshot_is_what_was_put_in(self) -> None:
        self.assertEqual(Tide.__struct_fields__, TidePoint.__struct_fields__)
        self.assertEqual(list(self.tide), POINTS)
        self.assertEqual((len(self.tide), self.tide[0], self.tide[-1]), (7, POINTS[0], POINTS[-1]))
        with self.assertRaises(IndexError):
            self.tide[7]

    def test_it_goes_over_the_wire(self) -> None:
        self.assertEqual(msgspec.json.decode(msgspec.json.encode(self.tide), type=Tide), self.tide)

    def test_parts_make_the_whole(self) -> None:
        first, later = self.tide[:4], self.tide[4:]
        self.assertEqual((list(first), list(later)), (POINTS[:4], POINTS[4:]))
        self.assertEqual(first.then(later), self.tide)
        self.assertIs(self.tide.then(NO_TIDE), self.tide)
        self.assertEqual(NO_TIDE.then(self.tide), self.tide)
        self.assertEqual(len(first), 4, "what is put together is another one")

    def test_one_without_snapshots_is_none(self) -> None:
        self.assertFalse(NO_TIDE)
        self.assertEqual((list(NO_TIDE), Tide.of([])), ([], NO_TIDE))

    def test_snapshots_are_found_by_name(self) -> None:
        self.assertEqual(self.tide[2:].seq_of(POINTS[4].name), 5)
        self.assertEqual(self.tide.seq_of(SnapshotId("another")), 0)
        self.assertEqual(self.tide.seqs_of({POINTS[1].name, POINTS[6].name, SnapshotId("another")}), {2, 7})
