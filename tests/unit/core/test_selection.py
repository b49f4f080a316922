"""Values and rules, without files."""

from __future__ import annotations

from datetime import datetime

from hypothesis import given
from hypothesis import strategies as st

from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError
from good_tide.core.selection import parse_period, parse_time, short_length
from good_tide.core.words import iso, iso_all, time_words
from tests.support.base import HOUR, T0, GoodTideTest


class SelectionTest(GoodTideTest):
    def test_a_time_names_the_whole_of_what_it_says(self) -> None:
        noon = parse_time("2026-11-17T12:00+01:00")
        for text, length in (
            ("2026-11-17T12:00:00.123456789+01:00", 1),
            ("2026-11-17T12:00:00.5+01:00", 10**8),
            ("2026-11-17T12:00:00+01:00", 10**9),
            ("2026-11-17T12:00+01:00", 60 * 10**9),
            ("2026-11-17T12+01:00", HOUR),
            ("2026-11-17", 24 * HOUR),
            ("2026-10-25", 25 * HOUR),
            ("2026-02", 28 * 24 * HOUR),
            ("2026", 365 * 24 * HOUR),
            ("2028", 366 * 24 * HOUR),
            ("2026-11-17T12:00:00.1234567+01:00", 100),
            ("2026-W47-2", 1),
            ("20261117T120000Z", 10**9),
        ):
            with self.subTest(text):
                begin, end = parse_period(text)
                self.assertEqual((begin, end - begin), (parse_time(text), length))
        for fraction, beyond in (
            ("123456789", 123_456_789),
            ("1234567", 123_456_700),
            ("12345678901", 123_456_789),
        ):
            self.assertEqual(parse_time(f"2026-11-17T12:00:00.{fraction}+01:00"), noon + beyond)
        self.assertEqual(parse_time("2026-11-17T12:00"), noon, "the test's zone is Berlin")

    def test_what_is_no_time_is_said(self) -> None:
        for text in ("", "noon", "2026-13", "2026-11-17T25:00"):
            with self.subTest(text), self.assertRaisesRegex(PersonError, f"{text} is not a time"):
                parse_time(text)

    def test_printed_times_name_only_themselves(self) -> None:
        times = [T0, T0 + 1, T0 + 999_999_999, T0 + 10**9, T0 + 5 * 10**9 + 7]
        for moment, text in zip(times, iso_all(times), strict=True):
            begin, end = parse_period(text)
            self.assertEqual([one for one in times if begin <= one < end], [moment], text)
        self.assertEqual(iso_all([T0 + 7]), [iso(T0)], "to the second, where that is enough")

    def test_local_time_follows_daylight_saving(self) -> None:
        summer, winter = parse_time("2026-10-24T12:00"), parse_time("2026-10-25T12:00")
        self.assertEqual(winter - summer, 25 * HOUR)

    def test_names_are_as_short_as_they_can_be_told_apart(self) -> None:
        for names, length in (
            ([], 12),
            (["a" * 32], 12),
            (["a" * 32, "a" * 32], 12),
            (["a" * 20 + "b" * 12, "a" * 20 + "c" * 12, "d" * 32], 21),
        ):
            self.assertEqual(short_length(names), length)

    @given(st.integers(0, 400 * 86400), st.booleans())
    def test_every_time_that_is_printed_is_taken_back(self, ago: int, seconds: bool) -> None:
        now = parse_time("2026-11-17T12:00")
        moment = now - ago * SECOND
        words = time_words(moment, now, seconds)
        begin, end = parse_period(words, now)
        hour = datetime.fromtimestamp(moment // SECOND).hour
        self.assertTrue(
            begin <= moment < end or hour == 2, "but for the hour that a night in autumn has twice"
        )

    def test_times_as_people_say_them(self) -> None:
        now = parse_time("2026-11-17T12:00")
        for words, written in (
            ("today", "2026-11-17"),
            ("Yesterday 9:05", "2026-11-16T09:05"),
            ("tomorrow 00:00", "2026-11-18T00:00"),
            ("10:40", "2026-11-17T10:40"),
            ("3 nov", "2026-11-03"),
            ("Tue 3 Nov, 09:00:59", "2026-11-03T09:00:59"),
            ("Mon 3 Nov 2025, 14:00", "2025-11-03T14:00"),
        ):
            with self.subTest(words):
                self.assertEqual(parse_period(words, now), parse_period(written))
        for words in ("Mon 3 Nov", "31 Feb", "today 25:00", "", "noon"):
            with self.subTest(words), self.assertRaises(PersonError):
                parse_time(words, now)
