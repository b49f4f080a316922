"""What goes over the wire, and how much of it."""

from __future__ import annotations

import unittest

from good_tide.core.history import TidePoint, known_parts, still_holds
from good_tide.core.identifiers import JobId, SnapshotId
from good_tide.core.job_facts import StoreState
from good_tide.core.tide import Tide
from good_tide.protocol.agent_calls import Overview, ReadOverview
from good_tide.protocol.wire import Reply, call_line, raw, reply_line

TWO_YEARS = 2 * 365 * 24


def point(number: int) -> TidePoint:
    return TidePoint(
        number,
        SnapshotId(f"{number:032x}"),
        number * 3600 * 10**9,
        "",
        30_000,
        1 << 35,
        90_000,
        0,
        3,
        40,
        1,
        5,
        6,
        7,
    )


class OverviewTest(unittest.TestCase):
    def test_of_two_years_of_hours_only_the_newest_goes_over_the_wire(self) -> None:
        tide = tuple(point(number) for number in range(1, TWO_YEARS + 1))

        def size(overview: Overview) -> int:
            return len(reply_line(Reply(1, result=raw(overview))))

        self.assertGreater(size(Overview(StoreState.READY, tide=Tide.of(tide))), 1_000_000)
        known = known_parts([one.name for one in tide])
        self.assertLess(len(call_line(ReadOverview(JobId("0ff1ce"), known), 1)), 4000)
        now = [*(one.name for one in tide), point(TWO_YEARS + 1).name]
        kept = still_holds(known, now)
        self.assertEqual(kept, TWO_YEARS)
        self.assertLess(
            size(Overview(StoreState.READY, kept=kept, tide=Tide.of([point(TWO_YEARS + 1)]))), 2000
        )
