"""Runs by day: a day is as long as it is, and none is left out."""

from __future__ import annotations

from datetime import datetime

from good_tide.core.clock import SECOND
from good_tide.core.happenings import Run
from good_tide.core.identifiers import JobId, SnapshotId
from good_tide.core.words import local
from good_tide.desktop.journal.runs_picture import by_day
from tests.support.base import HOUR, GoodTideTest


def run(began: int) -> Run:
    return Run(JobId("0ff1ce"), "Pier", "time", began, 1.0, "done", snapshot=SnapshotId("a"), changed=1)


class ByDayTest(GoodTideTest):
    def test_days_on_which_clocks_are_changed_have_their_hours(self) -> None:
        for day, hours in (((2026, 10, 25), 25), ((2026, 3, 29), 23)):
            with self.subTest(day=day):
                noon_before = int(datetime(*day, 12).astimezone().timestamp()) * SECOND - 36 * HOUR
                runs = [run(noon_before + number * HOUR) for number in range(96)]
                for order in (runs, runs[::-1]):
                    days = by_day(order)
                    self.assertEqual(sum(one.runs for one in days), 96)
                    by_date = {local(one.start * SECOND).date(): one.runs for one in days}
                    self.assertEqual(by_date[datetime(*day).date()], hours)
                    midnights = {local(one.start * SECOND).hour for one in days}
                    self.assertEqual((midnights, len(by_date)), ({0}, len(days)))

    def test_days_without_any_are_among_them(self) -> None:
        begun = int(datetime(2026, 10, 20, 9).astimezone().timestamp()) * SECOND
        days = by_day([run(begun + 10 * 24 * HOUR), run(begun)])
        self.assertEqual([one.runs for one in days], [1, *[0] * 9, 1])
        self.assertEqual(by_day([]), [])
