"""Rhythm and planning: rules against a slow model, and two years of a workstation under a simulated clock."""

from __future__ import annotations

import unittest
from datetime import datetime

from hypothesis import given
from hypothesis import strategies as st

from good_tide.core.clock import SECOND
from good_tide.core.hours import Hours, day_words, days_of
from tests.support.moments import BERLIN, MINUTE, ZONE, at


class HoursTest(unittest.TestCase):
    def test_words_and_cells(self) -> None:
        hours = Hours.of(["mon-fri 08:00-20:00", "sat 22:00-06:00"])
        self.assertEqual(hours.texts(), ("mon-fri 08:00-20:00", "sat 22:00-24:00", "sun 00:00-06:00"))
        self.assertEqual(Hours.of(hours.texts()).parts, hours.parts)
        self.assertEqual([hours.part_of_cell(0, hour) for hour in (7, 8, 19, 20)], [0, 1, 1, 0])
        self.assertEqual(Hours.of(["daily 08:30-09:00"]).part_of_cell(3, 8), 0.5)
        self.assertEqual(Hours.of_cells([(day, hour) for day in range(7) for hour in range(24)]).parts, ())
        self.assertEqual(day_words(days_of("sat,sun")), "on weekends")
        self.assertEqual(hours.words(), "only Mon–Fri 08:00 to 20:00, Sat 22:00 to 24:00, Sun 00:00 to 06:00")

    @given(
        st.sets(st.tuples(st.integers(0, 6), st.integers(0, 23)), min_size=1, max_size=100),
        st.integers(0, 400 * 24 * 60),
    )
    def test_open_hours_against_each_minute(self, cells: set[tuple[int, int]], minutes: int) -> None:
        hours = Hours.of(Hours.of_cells(cells).texts())
        moment = at("2026-01-01T00:00") + minutes * MINUTE

        def is_in(time: int) -> bool:
            wall = datetime.fromtimestamp(time // SECOND, BERLIN)
            return (wall.weekday(), wall.hour) in cells

        found = hours.next_open(moment, ZONE)
        assert found is not None
        self.assertTrue(is_in(found))
        self.assertEqual(hours.is_open(moment, ZONE), is_in(moment))
        for probe in range(moment, found, 30 * MINUTE):
            self.assertFalse(is_in(probe), "an earlier open moment was passed over")
