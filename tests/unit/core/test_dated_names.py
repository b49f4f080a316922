"""Dates in names."""

from __future__ import annotations

import unittest
from datetime import datetime

from good_tide.core.clock import SECOND
from good_tide.core.dated_names import moment_in


def at(year: int, month: int, day: int, hour: int = 0, minute: int = 0, second: int = 0) -> int:
    """A local time, in nanoseconds since 1970 UTC."""
    return int(datetime(year, month, day, hour, minute, second).timestamp()) * SECOND


class DatedNamesTest(unittest.TestCase):
    def test_dates_as_people_write_them(self) -> None:
        for name, when in {
            "2024-03-01": (2024, 3, 1, 12),
            "Office 2024-03-01": (2024, 3, 1, 12),
            "office_2024_03_01.tar.gz": (2024, 3, 1, 12),
            "backup20240301": (2024, 3, 1, 12),
            "20240301-0915": (2024, 3, 1, 9, 15),
            "2024-03-01T09:15:30": (2024, 3, 1, 9, 15, 30),
            "2024-03-01 09.15": (2024, 3, 1, 9, 15),
            "2024-03-01_09-15-30.tar": (2024, 3, 1, 9, 15, 30),
            "20240301_091530": (2024, 3, 1, 9, 15, 30),
            "Kopie vom 01.03.2024": (2024, 3, 1, 12),
            "01.03.2024, 18.30": (2024, 3, 1, 18, 30),
            "2024-03-01 at 18h30": (2024, 3, 1, 18, 30),
            "2024-03-01 v2": (2024, 3, 1, 12),
        }.items():
            with self.subTest(name):
                self.assertEqual(moment_in(name), at(*when))

    def test_what_is_no_date_is_none(self) -> None:
        for name in (
            "Office",
            "2024",
            "2024-03",
            "03-01-2024",  # the 3rd of January, or the 1st of March
            "03/01/2024",
            "2024-02-30",
            "2024-13-01",
            "120240301",
            "202403011",
            "2024-03-01 to 2024-03-08",
            "",
        ):
            with self.subTest(name):
                self.assertIsNone(moment_in(name))


if __name__ == "__main__":
    unittest.main()
