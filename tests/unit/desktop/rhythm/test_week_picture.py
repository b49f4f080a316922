"""Past snapshots by weekday and hour: as the calendar has them, whatever clocks are changed meanwhile."""

from __future__ import annotations

from collections import Counter

from good_tide.core.history import TidePoint
from good_tide.core.identifiers import SnapshotId
from good_tide.core.tide import NO_TIDE, Tide
from good_tide.core.words import local
from good_tide.desktop.rhythm.week_picture import _Past
from tests.support.base import HOUR, T0, GoodTideTest


class PastTest(GoodTideTest):
    def test_each_lies_in_its_hour_of_its_day(self) -> None:
        counts = [0] * 10
        tide = Tide.of(
            TidePoint(number, SnapshotId(str(number)), T0 + number * 5 * HOUR, "", *counts)
            for number in range(3000)
        )
        when = [local(time) for time in tide.time]
        past = _Past.of(tide)
        self.assertEqual(past.counts, Counter((one.weekday(), one.hour) for one in when))
        self.assertEqual(past.weeks, len({one.isocalendar()[:2] for one in when}))
        self.assertEqual(_Past.of(NO_TIDE), (Counter(), 1))
