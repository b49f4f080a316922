"""Rhythm and planning: rules against a slow model, and two years of a workstation under a simulated clock."""

from __future__ import annotations

import itertools
import unittest
from collections.abc import Callable
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError
from good_tide.core.hours import Hours
from good_tide.core.rhythm import (
    Considerate,
    Rhythm,
    every,
    every_minutes_of,
    parse_at,
    parse_every,
    rule_words,
)
from tests.support.moments import BERLIN, MINUTE, ZONE, at


def walls(times: list[int]) -> list[str]:
    return [datetime.fromtimestamp(time // SECOND, BERLIN).strftime("%m-%d %H:%M") for time in times]


class RulesTest(unittest.TestCase):
    def test_what_people_write_is_read_and_said_back(self) -> None:
        for text, words in (
            ("weekdays 12:30", ["on weekdays at 12:30"]),
            ("daily 09:00,17:15", ["daily at 09:00", "daily at 17:15"]),
            ("mon,wed-fri 8:05", ["on Mon, Wed–Fri at 08:05"]),
            ("sunday 00:00", ["on Sun at 00:00"]),
            ("sat-mon 23:59", ["on Mon, Sat–Sun at 23:59"]),
        ):
            with self.subTest(text):
                self.assertEqual([rule_words(rule) for rule in parse_at(text, ZONE)], words)
        for text, minutes in (("1h", 60), ("10 min", 10), ("2 hours", 120), ("90m", 90)):
            self.assertEqual(parse_every(text), minutes)
        self.assertEqual(rule_words(every(90)), "every 90 minutes")
        self.assertEqual(every_minutes_of(Rhythm(rules=(*parse_at("daily 9:00", ZONE), every(120)))), 120)
        self.assertEqual(Rhythm(rules=()).words(), "only by hand")

    def test_what_makes_no_sense_is_refused_with_a_way_out(self) -> None:
        senseless: dict[str, Callable[[], object]] = {
            "too often": lambda: parse_every("9 min"),
            "too seldom": lambda: parse_every("25h"),
            "no unit": lambda: parse_every("60"),
            "no time": lambda: parse_at("weekdays", ZONE),
            "no such time": lambda: parse_at("weekdays 25:00", ZONE),
            "no such day": lambda: parse_at("someday 12:00", ZONE),
            "empty hours": lambda: Hours.of(["mon 08:00-08:00"]),
            "no hours": lambda: Hours.of(["mon"]),
            "no rule": lambda: Rhythm(rules=("FREQ=HOURLY",)).check(),
            "seconds": lambda: Rhythm(rules=("DTSTART:20260101T000000Z\nRRULE:FREQ=SECONDLY",)).check(),
            "unknown zone": lambda: Rhythm(
                rules=("DTSTART;TZID=Nowhere/Port:20260101T000000\nRRULE:FREQ=DAILY",)
            ).check(),
            "nonsense": lambda: Rhythm(rules=("DTSTART:20260101T000000Z\nRRULE:FREQ=NEVER",)).check(),
            "battery": lambda: Rhythm(considerate=Considerate(battery_below=101)).check(),
        }
        for case, act in senseless.items():
            with self.subTest(case), self.assertRaises(PersonError) as caught:
                act()
            self.assertTrue(caught.exception.advice)

    def test_a_time_that_daylight_saving_leaves_out_or_repeats(self) -> None:
        rhythm = Rhythm(rules=parse_at("daily 02:30", ZONE))
        spring = list(itertools.islice(rhythm.due_times(at("2027-03-27T00:00")), 3))
        self.assertEqual(walls(spring), ["03-27 02:30", "03-28 03:30", "03-29 02:30"])
        autumn = list(itertools.islice(rhythm.due_times(at("2026-10-24T12:00")), 2))
        self.assertEqual(walls(autumn), ["10-25 02:30", "10-26 02:30"])
        self.assertEqual(autumn[0], at("2026-10-25T02:30"), "the first of the two half past twos")
        self.assertEqual(rhythm.last_due(spring[1]), spring[1])
        self.assertEqual(rhythm.last_due(spring[1] - 1), spring[0])

    def test_rules_of_others_are_kept(self) -> None:
        first_friday = "DTSTART;TZID=Europe/Berlin:20200103T160000\nRRULE:FREQ=MONTHLY;BYDAY=1FR"
        rhythm = Rhythm(rules=(first_friday,))
        rhythm.check()
        self.assertEqual(
            walls(list(itertools.islice(rhythm.due_times(at("2026-11-25T00:00")), 2))),
            ["12-04 16:00", "01-01 16:00"],
        )
        self.assertIn("FREQ=MONTHLY", rhythm.words())
        ended_rule = Rhythm(rules=("DTSTART:20200101T000000Z\nRRULE:FREQ=DAILY;COUNT=3",))
        self.assertIsNone(ended_rule.next_due(at("2026-01-01T00:00")))

    @settings(max_examples=60)
    @given(
        st.integers(0, 6),
        st.integers(0, 23),
        st.integers(0, 59),
        st.integers(0, 2 * 365 * 24 * 60),
        st.sampled_from(["Europe/Berlin", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kolkata"]),
    )
    def test_against_walking_through_the_days(
        self, day: int, hour: int, minute: int, start: int, zone: str
    ) -> None:
        where, begin = ZoneInfo(zone), at("2026-01-01T00:00") + start * MINUTE
        rhythm = Rhythm(
            rules=parse_at(
                f"{('mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun')[day]} {hour:02}:{minute:02}", zone
            )
        )
        expected = []
        first = datetime.fromtimestamp(begin // SECOND, where).date()
        for offset in range(-1, 40):
            date = first + timedelta(days=offset)
            time = datetime(date.year, date.month, date.day, hour, minute, tzinfo=where)
            if date.weekday() == day and int(time.timestamp()) * SECOND > begin:
                expected.append(int(time.timestamp()) * SECOND)
        found = list(itertools.islice(rhythm.due_times(begin), len(expected)))
        self.assertEqual(found, expected)
        self.assertEqual([rhythm.last_due(time) for time in found], found)

    @given(st.integers(10, 1440), st.integers(0, 10**7), st.integers(1, 500))
    def test_every_so_often_never_drifts(self, minutes: int, start: int, steps: int) -> None:
        begin = 1_700_000_000 * SECOND + start * SECOND
        times = list(itertools.islice(Rhythm(rules=(every(minutes),)).due_times(begin), steps))
        self.assertEqual(times, [times[0] + step * minutes * MINUTE for step in range(steps)])
        self.assertTrue(begin < times[0] <= begin + minutes * MINUTE)
