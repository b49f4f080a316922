"""Rhythm and planning: rules against a slow model, and two years of a workstation under a simulated clock."""

from __future__ import annotations

import unittest

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.planning import (
    CLOCK_SLACK,
    LOOK_AGAIN,
    Conditions,
    Decision,
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
    SHORTEST_MINUTES,
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

    def test_since_when_it_is_due_and_when_to_look_again(self) -> None:
        """Every hour; the machine's share of the spread is seven minutes."""
        spread, usual = 7 * MINUTE, Rhythm()
        two, one = JobRecord(served=at("2026-11-25T12:10")), JobRecord(served=at("2026-11-25T13:30"))
        served = JobRecord(served=at("2026-11-25T14:07"))
        failed = JobRecord(
            served=at("2026-11-25T13:30"),
            failures=1,
            failed=self.now - MINUTE,
            failing_since=self.now - MINUTE,
        )
        night = Rhythm(allowed=("daily 22:00-06:00",))
        since_two, since_one = at("2026-11-25T13:07"), at("2026-11-25T14:07")
        for case, rhythm, record, facts, expected in (
            ("two are due", usual, two, Facts(True), Decision(Occasion.TIME, None, since_two)),
            ("one is due", usual, one, Facts(True), Decision(Occasion.TIME, None, since_one)),
            (
                "none was ever taken",
                usual,
                JobRecord(),
                Facts(True),
                Decision(Occasion.TIME, None, since_one),
            ),
            ("served", usual, served, Facts(True), Decision(look=at("2026-11-25T15:07"))),
            (
                "paused",
                usual,
                one,
                Facts(True, paused_until=self.now + 1),
                Decision(None, Wait.PAUSED, since_one, self.now + 1),
            ),
            (
                "pause over",
                usual,
                one,
                Facts(True, paused_until=self.now),
                Decision(Occasion.TIME, None, since_one),
            ),
            (
                "paused, not due",
                usual,
                served,
                Facts(True, paused_until=self.now + 3 * HOUR),
                Decision(look=self.now + 3 * HOUR),
            ),
            (
                "what waited for its disk is brought when it comes",
                usual,
                served,
                Facts(True, self.now - 2 * MINUTE, held=True),
                Decision(Occasion.DISK, None, self.now - 2 * MINUTE),
            ),
            (
                "nothing waited for it",
                usual,
                served,
                Facts(True, self.now - 2 * MINUTE),
                Decision(look=at("2026-11-25T15:07")),
            ),
            (
                "by hand",
                Rhythm(rules=()),
                served,
                Facts(True, self.now - 2 * MINUTE, held=True),
                Decision(),
            ),
            ("disk away", usual, one, Facts(False), Decision(None, Wait.DISK, since_one)),
            (
                "settling",
                usual,
                one,
                Facts(True, self.now),
                Decision(None, Wait.SETTLING, since_one, self.now + MINUTE),
            ),
            (
                "failed",
                usual,
                failed,
                Facts(True),
                Decision(None, Wait.RETRY, since_one, self.now + 4 * MINUTE),
            ),
            (
                "failed, another disk",
                usual,
                failed,
                Facts(True, self.now - 1),
                Decision(None, Wait.SETTLING, since_one, self.now - 1 + MINUTE),
            ),
            ("hours", night, one, Facts(True), Decision(None, Wait.HOURS, since_one, at("2026-11-25T22:00"))),
            (
                "busy",
                usual,
                one,
                Facts(True, conditions=Conditions(load=9.0)),
                Decision(None, Wait.BUSY, since_one, self.now + LOOK_AGAIN, since_one + 2 * HOUR),
            ),
            (
                "busy, for less than it may wait",
                Rhythm(considerate=Considerate(load_at_most_minutes=84)),
                two,
                Facts(True, conditions=Conditions(load=9.0)),
                Decision(None, Wait.BUSY, since_two, self.now + MINUTE, self.now + MINUTE),
            ),
            (
                "busy, for as long as it may wait",
                Rhythm(considerate=Considerate(load_at_most_minutes=83)),
                two,
                Facts(True, conditions=Conditions(load=9.0)),
                Decision(Occasion.TIME, None, since_two),
            ),
            (
                "not busy",
                usual,
                one,
                Facts(True, conditions=Conditions(load=1.5)),
                Decision(Occasion.TIME, None, since_one),
            ),
        ):
            with self.subTest(case):
                self.assertEqual(decide(rhythm, record, facts, self.now, spread, ZONE), expected)

    def test_a_disk_that_comes_is_an_occasion_once(self) -> None:
        rhythm, came = Rhythm(rules=(), on_disk=True), self.now - 2 * HOUR
        before, after = JobRecord(served=came - 1), JobRecord(served=came)
        self.assertEqual(
            decide(rhythm, before, Facts(True, came), self.now, 0, ZONE), Decision(Occasion.DISK, None, came)
        )
        self.assertEqual(decide(rhythm, after, Facts(True, came), self.now, 0, ZONE), Decision())
        self.assertEqual(decide(rhythm, before, Facts(False, came), self.now, 0, ZONE), Decision())

    def test_what_cannot_be_watched_is_looked_at_by_the_clock(self) -> None:
        for minutes, expected in ((30, 30), (1, SHORTEST_MINUTES)):
            rhythm = Rhythm(rules=(), on_change=True, at_most_minutes=minutes)
            record, facts = JobRecord(served=self.now), Facts(True, unwatched=True)
            look = self.now + expected * MINUTE
            self.assertEqual(decide(rhythm, record, facts, self.now, 0, ZONE), Decision(look=look))
            self.assertEqual(
                decide(rhythm, record, facts, look, 0, ZONE), Decision(Occasion.CHANGE, None, look)
            )

    def test_a_clock_that_was_set_back(self) -> None:
        slack = CLOCK_SLACK
        for served, tried, expected in (
            (slack, slack, (slack, slack)),
            (slack + 1, 5, (0, 0)),
            (-5, slack + 1, (-5, 0)),
            (slack + 1, -5, (0, -5)),
        ):
            record = JobRecord(served=self.now + served, failed=self.now + tried)
            brought = after_clock(record, self.now)
            self.assertEqual((brought.served - self.now, brought.failed - self.now), expected)

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
