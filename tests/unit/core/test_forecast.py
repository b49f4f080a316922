"""The forecast: honest over simulated histories, and silent where it knows too little."""

from __future__ import annotations

import math
import unittest

import numpy as np

from good_tide.core.forecast import curve, days_left, full_in

_PAST, _FUTURE = 84, 900
_GIB = 1 << 30


def history(kind: str, chance: np.random.Generator) -> np.ndarray[tuple[int], np.dtype[np.float64]]:
    """Bytes added on each day: quiet week-ends, and a character."""
    days = _PAST + _FUTURE
    weekday = np.array([1, 1.1, 0.9, 1, 1.2, 0.15, 0.1])[np.arange(days) % 7]
    added = chance.lognormal(0, 0.6, days) * weekday * _GIB
    if kind == "bursts":
        added += (chance.random(days) < 0.02) * chance.lognormal(2.2, 0.7, days) * _GIB
    elif kind == "growing":
        added *= 1 + 0.01 * np.arange(days) / 7
    elif kind == "wandering":
        added *= np.exp(np.cumsum(chance.normal(0, 0.06, days // 7 + 1)).repeat(7)[:days])
    return np.asarray(added, dtype=np.float64)


class ForecastTest(unittest.TestCase):
    def test_the_true_day_lies_in_the_range_about_four_times_of_five(self) -> None:
        for kind in ("steady", "bursts", "growing", "wandering"):
            with self.subTest(kind):
                chance, hits, tries = np.random.default_rng(1), 0, 60
                for number in range(tries):
                    added = history(kind, chance)
                    free = int(added[:_PAST].mean() * 7 * (12 if number % 2 else 30))
                    true = int((np.cumsum(added[_PAST:]) < free).sum()) + 1
                    found = full_in([int(day) for day in added[:_PAST]], free)
                    assert found is not None and found.low is not None
                    hits += found.low <= true <= (found.high or math.inf)
                self.assertGreaterEqual(hits / tries, 0.65)
                self.assertLessEqual(hits / tries, 0.95)

    def test_weekdays_alone_are_told_to_the_week(self) -> None:
        week = [100, 100, 100, 100, 100, 0, 0]
        found = full_in([day * _GIB for day in week * 10], 5000 * _GIB)
        assert (
            found is not None and found.low is not None and found.mid is not None and found.high is not None
        )
        self.assertLess(found.high - found.low, 3)
        self.assertAlmostEqual(found.mid, 68, delta=4)

    def test_it_says_nothing_where_it_knows_too_little(self) -> None:
        self.assertIsNone(full_in([5] * 13, 1000))
        self.assertIsNone(full_in([0] * 80, 1000))
        found = full_in([1] * 80, 1 << 50)
        assert found is not None
        self.assertEqual((found.low, found.mid, found.high), (None, None, None))

    def test_the_same_past_says_the_same_and_the_curve_rises(self) -> None:
        past = [int(day) for day in history("bursts", np.random.default_rng(3))[:_PAST]]
        self.assertEqual(full_in(past, 100 * _GIB), full_in(past, 100 * _GIB))
        found = curve(past, 20)
        assert found is not None
        self.assertEqual((len(found.low), list(found.mid)), (20, sorted(found.mid)))
        self.assertTrue(
            all(low <= mid <= high for low, mid, high in zip(found.low, found.mid, found.high, strict=True))
        )

    def test_one_great_day_does_not_speak_for_all(self) -> None:
        past = [_GIB] * 84
        past[40] = 400 * _GIB
        found = full_in(past, 200 * _GIB)
        assert found is not None and found.high is not None
        self.assertGreater(found.high, 120)

    def test_days_left_is_the_middle_or_the_pace_of_a_short_past(self) -> None:
        self.assertEqual(days_left((5,) * 80, 100), 20)
        self.assertIsNone(days_left((5,) * 80, 1 << 40))
        self.assertIsNone(days_left((5, 5), 100))
        self.assertIsNone(days_left((0, 0, 0), 100))
        self.assertEqual(days_left((5, 5, 5, 5, 5, 5, 5, 5, 5, 900), 100), 20)
