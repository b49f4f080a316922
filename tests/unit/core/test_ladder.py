"""The ladder: which snapshots stay, against an obvious slow model, and that it never matters when thinning
ran."""

from __future__ import annotations

import random
import time
import unittest
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

import hypothesis
from hypothesis import strategies as st

from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError
from good_tide.core.ladder import (
    READY,
    Ladder,
    Rung,
    Step,
    parse_rung,
    reach_back,
    words,
)
from good_tide.core.ladder_keeping import Kept, keeps, period
from tests.support.base import REPOSITORY
from tests.support.moments import BERLIN, DAY, ZONE

START = int(datetime(2025, 9, 1, 8, tzinfo=BERLIN).timestamp()) * SECOND


def by_calendar(moment: int, step: Step) -> tuple[object, ...]:
    """The period that a moment lies in, as a calendar on the wall tells it."""
    local = datetime.fromtimestamp(moment // SECOND, BERLIN)
    periods: dict[Step, tuple[object, ...]] = {
        Step.EVERY: (moment,),
        Step.HOUR: (local.date(), local.hour, local.utcoffset()),
        Step.DAY: (local.date(),),
        Step.WEEK: local.isocalendar()[:2],
        Step.MONTH: (local.year, local.month),
        Step.QUARTER: (local.year, (local.month - 1) // 3),
        Step.YEAR: (local.year,),
    }
    return periods[step]


def slow(ladder: Ladder, times: list[int], now: int, held: set[int]) -> list[bool]:
    """The rules as they are written, one snapshot at a time."""
    today = datetime.fromtimestamp(now // SECOND, BERLIN)
    found = []
    for number, moment in enumerate(times):
        stays = not ladder.rungs or number == len(times) - 1 or number in held
        for at, rung in enumerate(ladder.rungs):
            if rung.reach and moment <= int(reach_back(rung.reach, today).timestamp()) * SECOND:
                continue
            for later in ladder.rungs[at:]:
                own = by_calendar(moment, later.step)
                last = max(other for other in times if by_calendar(other, later.step) == own)
                stays = stays or moment == last
            break
        found.append(stays)
    return found


REACHES = {
    Step.EVERY: ["6h", "2d", "7d"],
    Step.HOUR: ["3d", "9d"],
    Step.DAY: ["20d", "30d"],
    Step.WEEK: ["3mo", "12mo"],
    Step.MONTH: ["2y", "5y"],
    Step.QUARTER: [""],
}


@st.composite
def ladders(draw: st.DrawFn) -> Ladder:
    """Ladders that are in order."""
    steps = draw(st.lists(st.sampled_from(list(REACHES)), min_size=1, unique=True))
    rungs = tuple(Rung(step, draw(st.sampled_from(REACHES[step]))) for step in REACHES if step in steps)
    return Ladder(rungs)


moments = st.lists(st.integers(0, 700 * 24 * 4), min_size=1, max_size=60, unique=True).map(
    lambda quarters: sorted(START + quarter * 900 * SECOND + quarter % 7 for quarter in quarters)
)


def moment(text: str, zone: str = ZONE) -> int:
    return int(datetime.fromisoformat(text).replace(tzinfo=ZoneInfo(zone)).timestamp()) * SECOND


class CalendarTest(unittest.TestCase):
    def test_periods_are_those_of_the_calendar_where_the_machine_is(self) -> None:
        """The last moment of a period, the first of the next, and the last of that."""
        for step, zone, last, first, end in (
            (Step.HOUR, "Asia/Kolkata", "2026-06-10T09:59:59", "2026-06-10T10:00:00", "2026-06-10T10:59:59"),
            (
                Step.HOUR,
                "Asia/Kathmandu",
                "2026-06-10T09:59:59",
                "2026-06-10T10:00:00",
                "2026-06-10T10:59:59",
            ),
            (Step.DAY, ZONE, "2026-10-24T23:59:59", "2026-10-25T00:00:00", "2026-10-25T23:59:59"),
            (
                Step.DAY,
                "America/New_York",
                "2026-01-09T23:59:59",
                "2026-01-10T00:00:00",
                "2026-01-10T23:59:59",
            ),
            (Step.WEEK, ZONE, "2026-01-04T23:59:59", "2026-01-05T00:00:00", "2026-01-11T23:59:59"),
            (Step.MONTH, ZONE, "2026-01-31T23:59:59", "2026-02-01T00:00:00", "2026-02-28T23:59:59"),
            (Step.MONTH, ZONE, "2026-02-28T23:59:59", "2026-03-01T00:00:00", "2026-03-31T23:59:59"),
            (Step.QUARTER, ZONE, "2026-03-31T23:59:59", "2026-04-01T00:00:00", "2026-06-30T23:59:59"),
            (Step.QUARTER, ZONE, "2026-06-30T23:59:59", "2026-07-01T00:00:00", "2026-09-30T23:59:59"),
            (Step.YEAR, ZONE, "2025-12-31T23:59:59", "2026-01-01T00:00:00", "2026-12-31T23:59:59"),
            (Step.YEAR, ZONE, "2026-12-31T23:59:59", "2027-01-01T00:00:00", "2027-12-31T23:59:59"),
        ):
            with self.subTest(f"{step} {first}"):
                number = period(moment(first, zone), step, ZoneInfo(zone))
                self.assertEqual(period(moment(last, zone), step, ZoneInfo(zone)), number - 1)
                self.assertEqual(period(moment(end, zone), step, ZoneInfo(zone)), number)

    def test_months_and_years_go_back_by_the_calendar_and_days_by_elapsed_time(self) -> None:
        for now, reach, then in (
            ("2026-03-31T12:00", "1mo", "2026-02-28T12:00"),
            ("2026-07-15T08:00", "6mo", "2026-01-15T08:00"),
            ("2028-02-29T12:00", "1y", "2027-02-28T12:00"),
            ("2026-03-30T12:00", "2d", "2026-03-28T11:00"),
            ("2026-10-26T12:00", "36h", "2026-10-25T01:00"),
        ):
            with self.subTest(f"{now} {reach}"):
                at = datetime.fromisoformat(now).replace(tzinfo=BERLIN)
                found = reach_back(reach, at)
                self.assertEqual(found, datetime.fromisoformat(then).replace(tzinfo=BERLIN))
                self.assertEqual(found.tzinfo, BERLIN)

    def test_days_end_where_the_machine_is(self) -> None:
        zone = "America/New_York"
        times = [moment(f"2026-01-{text}", zone) for text in ("09T22:00", "10T01:00", "12T12:00")]
        ladder, now = Ladder((Rung(Step.DAY),)), moment("2026-01-12T13:00", zone)
        self.assertEqual(keeps(ladder, times, now, zone).stays, (True, True, True))
        self.assertEqual(keeps(ladder, times, now, ZONE).stays, (False, True, True), "one day in Berlin")

    def test_a_snapshot_at_the_very_edge_of_a_rung_belongs_to_the_older_one(self) -> None:
        ladder = Ladder((Rung(Step.EVERY, "2d"), Rung(Step.DAY, "30d")))
        now = moment("2026-06-10T12:00:00")
        edge = now - 2 * DAY
        hour = 3600 * SECOND
        alone = keeps(ladder, [edge - 30 * hour, edge, now], now, ZONE)
        self.assertEqual(alone.stays, (True, True, True), "it is the last of its day")
        followed = keeps(ladder, [edge, edge + hour, now], now, ZONE)
        self.assertEqual(followed.stays, (False, True, True))

    def test_what_an_older_rung_will_want_stays_in_the_younger_one(self) -> None:
        ladder = Ladder((Rung(Step.WEEK, "3mo"), Rung(Step.MONTH)))
        days = ("2026-09-29", "2026-09-30", "2026-10-02", "2026-10-05")
        times = [moment(f"{day}T12:00") for day in days]
        kept = keeps(ladder, times, moment("2026-10-05T13:00"), ZONE)
        self.assertEqual(
            kept.stays, (False, True, True, True), "the last of September, though not of its week"
        )


class LadderTest(unittest.TestCase):
    @hypothesis.given(ladders(), moments, st.integers(0, 900), st.data())
    @hypothesis.settings(max_examples=150)
    def test_as_an_obvious_slow_model_has_it(
        self, ladder: Ladder, times: list[int], days: int, data: st.DataObject
    ) -> None:
        held = set(data.draw(st.lists(st.integers(0, len(times) - 1), max_size=3)))
        now = times[-1] + days * DAY // 3
        self.assertEqual(list(keeps(ladder, times, now, ZONE, held).stays), slow(ladder, times, now, held))

    @hypothesis.given(ladders(), moments, st.lists(st.integers(1, 90), max_size=12), st.integers(0, 2**32))
    @hypothesis.settings(max_examples=150)
    def test_thinning_often_seldom_or_once_ends_in_the_same_set(
        self, ladder: Ladder, times: list[int], waits: list[int], seed: int
    ) -> None:
        chance = random.Random(seed)
        end = times[-1] + 400 * DAY

        def thinned(runs: list[int]) -> set[int]:
            left: list[int] = []
            coming = list(times)
            for now in [*runs, end]:
                while coming and coming[0] <= now:
                    left.append(coming.pop(0))
                left = [moment for moment, stays in zip(left, keeps(ladder, left, now, ZONE).stays) if stays]
            return set(left)

        often = sorted(chance.randrange(START, end) for _ in range(40))
        seldom, now = [], START
        for wait in waits:
            now += wait * DAY
            seldom.append(now)
        self.assertEqual(thinned(often), thinned([]))
        self.assertEqual(thinned([run for run in seldom if run < end]), thinned([]))

    def test_the_usual_ladder_over_two_years_of_hours(self) -> None:
        times = [START + hour * 3600 * SECOND for hour in range(2 * 365 * 24)]
        kept = keeps(READY["usual"], times, times[-1], ZONE)
        ages = [(times[-1] - moment) / DAY for moment, stays in zip(times, kept.stays) if stays]
        self.assertEqual(sum(age < 2 for age in ages), 48)
        self.assertIn(sum(2 <= age < 30 for age in ages), range(27, 40))
        self.assertIn(kept.count, range(48 + 28 + 47, 48 + 45 + 62))

    def test_days_with_two_clocks_and_none(self) -> None:
        for day, hours in (
            (datetime(2026, 3, 29, tzinfo=BERLIN), 23),
            (datetime(2026, 10, 25, tzinfo=BERLIN), 25),
        ):
            begin = int(day.timestamp()) * SECOND
            times = [begin + hour * 3600 * SECOND for hour in range(hours)]
            self.assertEqual(len({period(moment, Step.DAY, BERLIN) for moment in times}), 1)
            self.assertEqual(len({period(moment, Step.HOUR, BERLIN) for moment in times}), hours)
            self.assertEqual(keeps(Ladder((Rung(Step.DAY),)), times, begin + 40 * DAY, ZONE).count, 1)

    def test_periods_rise_with_time(self) -> None:
        for step in Step:
            numbers = [period(START + hour * 3600 * SECOND, step, BERLIN) for hour in range(24 * 400)]
            self.assertEqual(numbers, sorted(numbers), step)

    def test_the_newest_and_what_is_held_never_go(self) -> None:
        times = [START + day * DAY for day in range(100)]
        ladder = Ladder((Rung(Step.DAY, "3d"),))
        self.assertEqual(
            [
                number
                for number, stays in enumerate(
                    keeps(ladder, times, times[-1] + 900 * DAY, ZONE, {7, 50}).stays
                )
                if stays
            ],
            [7, 50, 99],
        )
        self.assertEqual(keeps(READY["everything"], times, times[-1] + 9000 * DAY, ZONE).count, 100)

    def test_read_written_and_said(self) -> None:
        for text, rung in (
            ("2d every", Rung(Step.EVERY, "2d")),
            ("30 days day", Rung(Step.DAY, "30d")),
            ("12mo week", Rung(Step.WEEK, "12mo")),
            ("forever quarter", Rung(Step.QUARTER)),
            ("5 years month", Rung(Step.MONTH, "5y")),
        ):
            self.assertEqual(parse_rung(text), rung)
            self.assertEqual(parse_rung(rung.text()), rung)
        for text in ("", "2d", "2d fortnight", "0d day", "two days day", "2x day"):
            with self.subTest(text), self.assertRaises(PersonError):
                parse_rung(text)
        for rungs in (("forever day", "3mo week"), ("30d day", "2d every"), ("1mo day", "30d week")):
            with self.subTest(rungs), self.assertRaises(PersonError):
                Ladder(tuple(map(parse_rung, rungs))).check()
        for ladder in READY.values():
            ladder.check()
        self.assertEqual(
            words(READY["usual"]),
            "every one for 2 days, then one a day for 30 days, then one a week for 12 months, then one a"
            " quarter for ever",
        )

    def test_fifty_thousand_snapshots_in_a_moment_of_processor_time(self) -> None:
        times = [START + number * 3600 * SECOND for number in range(50_000)]
        keeps(READY["usual"], times[:10], times[10], ZONE)
        began = time.process_time()
        kept: Kept = keeps(READY["usual"], times, times[-1], ZONE)
        self.assertLess(time.process_time() - began, 1.0)
        self.assertLess(kept.count, 400)

    def test_months_are_those_of_the_calendar(self) -> None:
        now = datetime(2026, 3, 31, 12, tzinfo=BERLIN)
        self.assertEqual(reach_back("1mo", now).date(), datetime(2026, 2, 28).date())
        self.assertEqual(now - reach_back("2d", now), timedelta(days=2))


class WorkedExampleTest(unittest.TestCase):
    def test_the_example_in_the_documentation(self) -> None:
        text = (REPOSITORY / "docs" / "thinning.md").read_text()
        lines = text.split("```example\n")[1].split("```")[0].strip().split("\n")
        times = [
            int(datetime.fromisoformat(line.split()[0]).replace(tzinfo=BERLIN).timestamp()) * SECOND
            for line in lines
        ]
        now = int(datetime(2026, 11, 26, 12, tzinfo=BERLIN).timestamp()) * SECOND
        ladder = Ladder((parse_rung("1d every"), parse_rung("7d day"), parse_rung("forever week")))
        self.assertEqual(
            [line.split()[1] == "stays" for line in lines], list(keeps(ladder, times, now, ZONE).stays)
        )
        self.assertGreater(len(lines), 8)
