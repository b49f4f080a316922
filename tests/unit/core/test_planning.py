"""Rhythm and planning: rules against a slow model, and two years of a workstation under a simulated clock."""

from __future__ import annotations

import unittest

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.planning import (
    Facts,
    JobRecord,
    Occasion,
    Wait,
    after_clock,
    began,
    decide,
    ended,
    failed,
    retry_at,
)
from good_tide.core.rhythm import (
    Considerate,
    Rhythm,
    spread_share,
)
from tests.support.moments import DAY, HOUR, MINUTE, ZONE, at


def plan(rhythm: Rhythm, record: JobRecord, now: int, **facts: object) -> tuple[Occasion | None, Wait | None]:
    made = decide(rhythm, record, msgspec.convert({"disk_here": True, **facts}, Facts), now, 0, ZONE)
    return made.run, made.wait


class PlanningTest(unittest.TestCase):
    now = at("2026-11-25T14:30")

    def test_what_a_due_run_waits_for(self) -> None:
        due = JobRecord(served=self.now - 2 * HOUR)
        usual, night = Rhythm(), Rhythm(allowed=("daily 22:00-06:00",))
        for case, rhythm, facts, expected in (
            ("nothing", usual, {}, (Occasion.TIME, None)),
            ("disk away", usual, {"disk_here": False}, (None, Wait.DISK)),
            ("disk away, holding area", usual, {"disk_here": False, "holding": True}, (Occasion.TIME, None)),
            ("disk just came", usual, {"disk_came": self.now - 59 * SECOND}, (None, Wait.SETTLING)),
            ("disk settled", usual, {"disk_came": self.now - 60 * SECOND}, (Occasion.TIME, None)),
            ("paused", usual, {"paused_until": self.now + 1}, (None, Wait.PAUSED)),
            ("hours", night, {}, (None, Wait.HOURS)),
            ("battery", usual, {"conditions": {"battery": 24.0}}, (None, Wait.BATTERY)),
            ("battery enough", usual, {"conditions": {"battery": 25.0}}, (Occasion.TIME, None)),
            ("metered", usual, {"conditions": {"metered": True}}, (None, Wait.METERED)),
            ("presenting", usual, {"conditions": {"presenting": True}}, (None, Wait.PRESENTING)),
            ("busy", usual, {"conditions": {"load": 1.6}}, (None, Wait.BUSY)),
            (
                "does not mind",
                Rhythm(considerate=Considerate(battery_below=0, metered=False, presenting=False, load=False)),
                {"conditions": {"battery": 3.0, "metered": True, "presenting": True, "load": 9.0}},
                (Occasion.TIME, None),
            ),
            ("by hand only", Rhythm(rules=()), {}, (None, None)),
        ):
            with self.subTest(case):
                self.assertEqual(plan(rhythm, due, self.now, **facts), expected)

    def test_files_that_come_to_rest(self) -> None:
        rhythm, record = Rhythm(rules=(), on_change=True), JobRecord(served=self.now - 20 * MINUTE)
        self.assertEqual(plan(rhythm, record, self.now, changed=self.now - 19 * SECOND), (None, None))
        self.assertEqual(
            plan(rhythm, record, self.now, changed=self.now - 20 * SECOND), (Occasion.CHANGE, None)
        )
        lately = JobRecord(served=self.now - 9 * MINUTE)
        self.assertEqual(plan(rhythm, lately, self.now, changed=self.now - MINUTE), (None, None))
        look = decide(rhythm, lately, Facts(True, changed=self.now - MINUTE), self.now, 0, ZONE).look
        self.assertEqual(look, self.now + MINUTE, "at most so often")

    def test_a_disk_that_comes(self) -> None:
        rhythm = Rhythm(rules=(), on_disk=True)
        self.assertEqual(
            plan(rhythm, JobRecord(served=self.now - HOUR), self.now, disk_came=self.now - 2 * MINUTE),
            (Occasion.DISK, None),
        )
        self.assertEqual(
            plan(rhythm, JobRecord(served=self.now - MINUTE), self.now, disk_came=self.now - 2 * MINUTE),
            (None, None),
        )

    def test_failures_are_tried_again_more_and_more_seldom(self) -> None:
        record, waits = JobRecord(served=self.now - 2 * HOUR), []
        for _ in range(6):
            record = failed(began(record, self.now), self.now, "no room", "free some")
            waits.append((retry_at(record) - self.now) // MINUTE)
        self.assertEqual(waits, [5, 10, 20, 40, 60, 60])
        self.assertEqual(plan(Rhythm(), record, self.now + MINUTE), (None, Wait.RETRY))
        self.assertEqual(
            plan(Rhythm(), record, self.now + 2 * MINUTE, disk_came=self.now + SECOND), (Occasion.TIME, None)
        )
        self.assertEqual(ended(record, self.now, True).failures, 0)

    def test_a_clock_that_was_far_ahead(self) -> None:
        ahead = JobRecord(served=self.now + 400 * DAY)
        self.assertEqual(plan(Rhythm(), after_clock(ahead, self.now), self.now + HOUR), (Occasion.TIME, None))
        slightly = JobRecord(served=self.now + 2 * SECOND)
        self.assertEqual(after_clock(slightly, self.now), slightly)

    def test_fifty_machines_begin_apart_and_each_steadily(self) -> None:
        shares = [spread_share(f"machine {number}", "Office", 240) for number in range(50)]
        self.assertEqual(shares, [spread_share(f"machine {number}", "Office", 240) for number in range(50)])
        self.assertTrue(all(0 <= share < 240 * SECOND for share in shares))
        busiest = max(sum(abs(one - other) < 5 * SECOND for one in shares) for other in shares)
        self.assertLess(busiest, 12)
        start = next(Rhythm().starts(self.now, shares[0], ZONE))
        self.assertEqual((start - shares[0]) % HOUR, 0)
