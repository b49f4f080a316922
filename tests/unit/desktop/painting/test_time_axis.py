"""The agent over its socket, and the timeline's model."""

from __future__ import annotations

from itertools import pairwise

from good_tide.core.words import local
from good_tide.desktop.painting.time_axis import TimeAxis, day_words
from tests.support.base import (
    HOUR,
    T0,
    GoodTideTest,
)


class AxisTest(GoodTideTest):
    def test_zoom_keeps_the_time_under_the_pointer_and_stays_within_history(self) -> None:
        axis = TimeAxis(T0, T0 + 24 * 70 * HOUR)
        axis.width = 800
        before = axis.time(300)
        axis.zoom(0.1, 300)
        self.assertAlmostEqual(axis.time(300), before, delta=HOUR)
        for _ in range(60):
            axis.zoom(0.5, 200)
        self.assertEqual(round((axis.end - axis.start) / 1e9), 300)
        axis.pan(1e9)
        self.assertEqual(axis.start, axis.first)
        for _ in range(60):
            axis.zoom(3, 200)
        self.assertEqual((axis.start, axis.end), (axis.first, axis.last))

    def test_ticks_never_crowd_and_lie_on_whole_local_units(self) -> None:
        axis = TimeAxis(T0, T0 + 24 * 70 * HOUR)
        axis.width = 700
        for _ in range(14):
            xs = [axis.x(tick.time) for tick in axis.ticks()]
            self.assertTrue(all(second - first > 60 for first, second in pairwise(xs)), xs)
            axis.zoom(0.55, 350)

    def test_a_long_history_has_months_and_years_with_their_numbers(self) -> None:
        for years, first, apart in (
            (1, "Oct 2026", 91),
            (6, "2027", 365),
            (40, "2030", 3652),
            (30, "2030", 5 * 365),
        ):
            axis = TimeAxis(T0, T0 + years * 365 * 24 * HOUR)
            axis.width = 700
            ticks = list(axis.ticks())
            self.assertEqual(ticks[0].label, first)
            gaps = [(later.time - before.time) / (24 * HOUR) for before, later in pairwise(ticks)]
            self.assertTrue(all(abs(gap - apart) < 4 for gap in gaps), gaps)

    def test_a_day_has_its_year_below_a_picture_of_more_than_one(self) -> None:
        when = local(T0)
        self.assertEqual((day_words(when, 70), day_words(when, 800)), ("21 Sep", "Sep 2026"))
