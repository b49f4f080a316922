"""Disks as places for stores: recognised, checked, found again; job files; who may read."""

from __future__ import annotations

from good_tide.core.clock import SECOND, SetClock
from good_tide.core.identifiers import Nanoseconds
from good_tide.operations.records.disk_absences import DiskAbsences
from tests.support.base import T0, GoodTideTest


class ComingsTest(GoodTideTest):
    def test_a_disk_that_goes_away_often_is_remembered_for_four_weeks(self) -> None:
        clock = SetClock(Nanoseconds(T0))
        for _ in range(4):
            DiskAbsences(self.state, clock).went(["label:Pier"])
        self.assertEqual(
            (
                DiskAbsences(self.state, clock).times("label:Pier"),
                DiskAbsences(self.state, clock).times("other"),
            ),
            (4, 0),
        )
        clock.set(Nanoseconds(T0 + 30 * 86400 * SECOND))
        self.assertEqual(DiskAbsences(self.state, clock).times("label:Pier"), 0)
        (self.state / "disks-away.json").write_text("nonsense")
        DiskAbsences(self.state, clock).went(["label:Pier"])
        self.assertEqual(DiskAbsences(self.state, clock).times("label:Pier"), 1)
