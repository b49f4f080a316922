"""The ladder: which snapshots stay, against an obvious slow model, and that it never matters when thinning
ran."""

from __future__ import annotations

import unittest
from datetime import datetime

from good_tide.core.clock import SECOND
from good_tide.core.history import TidePoint
from good_tide.core.identifiers import SnapshotId
from good_tide.core.outlook import brought, coming
from good_tide.core.tide import NO_TIDE, Tide
from tests.support.moments import BERLIN, DAY

START = int(datetime(2025, 9, 1, 8, tzinfo=BERLIN).timestamp()) * SECOND


class Outlook(unittest.TestCase):
    def test_snapshots_go_on_at_the_pace_of_the_last_weeks(self) -> None:
        hour = 3600 * SECOND
        times = [START + number * hour for number in range(100)]
        self.assertEqual(
            coming(times, times[-1] + 10 * hour), [times[-1] + number * hour for number in range(1, 10)]
        )
        self.assertEqual(coming(times[:3], times[-1]), [], "three snapshots are no pace")
        self.assertLess(len(coming(times, times[-1] + 90 * 365 * 24 * hour)), 70_000)

    def test_what_comes_brings_what_it_brought_lately(self) -> None:
        tide = Tide.of(
            TidePoint(number, SnapshotId(""), START + number * DAY, "", 1, 1, 700, 0, 0, 0, 0, 0, 0, 0)
            for number in range(10)
        )
        later = coming(tide.time, START + 100 * DAY)
        self.assertEqual(brought(tide, later, 30), 30 * 700)
        self.assertEqual(
            brought(tide, later[::2], 30), 60 * 700, "a picture with fewer, larger steps shows the same room"
        )
        self.assertEqual(brought(NO_TIDE, later, 30), 0)
        self.assertEqual(brought(tide, [], 0), 0)
