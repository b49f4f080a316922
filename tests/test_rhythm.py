"""Rhythm and planning: rules against a slow model, and two years of a workstation under a simulated clock."""

from __future__ import annotations

import itertools
import unittest
from collections.abc import Callable
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError
from good_tide.core.hours import Hours, day_words, days_of
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
    every,
    every_minutes_of,
    parse_at,
    parse_every,
    rule_words,
    spread_share,
)

ZONE = "Europe/Berlin"
BERLIN = ZoneInfo(ZONE)
MINUTE, HOUR, DAY = 60 * SECOND, 3600 * SECOND, 86400 * SECOND


def at(text: str, zone: ZoneInfo = BERLIN) -> int:
    return int(datetime.fromisoformat(text).replace(tzinfo=zone).timestamp()) * SECOND


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
            ("battery", usual, {"around": {"battery": 24.0}}, (None, Wait.BATTERY)),
            ("battery enough", usual, {"around": {"battery": 25.0}}, (Occasion.TIME, None)),
            ("metered", usual, {"around": {"metered": True}}, (None, Wait.METERED)),
            ("presenting", usual, {"around": {"presenting": True}}, (None, Wait.PRESENTING)),
            ("busy", usual, {"around": {"load": 1.6}}, (None, Wait.BUSY)),
            (
                "does not mind",
                Rhythm(considerate=Considerate(battery_below=0, metered=False, presenting=False, load=False)),
                {"around": {"battery": 3.0, "metered": True, "presenting": True, "load": 9.0}},
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


class Machine:
    """A workstation under a simulated clock: asks what to do whenever the scheduler would, and runs at
    once."""

    def __init__(self, rhythm: Rhythm, now: int) -> None:
        self.rhythm, self.now, self.record = rhythm, now, JobRecord(served=now)
        self.disk_here, self.came = True, 0
        self.runs: list[int] = []

    def decide(self) -> int | None:
        """Run what is to be run, and say when to look again."""
        self.record = after_clock(self.record, self.now)
        for _ in range(3):
            made = decide(self.rhythm, self.record, Facts(self.disk_here, self.came), self.now, 0, ZONE)
            if made.run is None:
                return made.look
            self.runs.append(self.now)
            self.record = ended(began(self.record, self.now), self.now, True)
        raise AssertionError("runs over and over at one moment")

    def live(self, until: int) -> None:
        """Awake until a moment."""
        while True:
            look = self.decide()
            if look is None or look > until:
                break
            assert look > self.now, "would spin"
            self.now = look
        self.now = until

    def sleep(self, until: int) -> None:
        self.now = until
        self.decide()


STEP = st.one_of(
    st.tuples(st.just("awake"), st.integers(1, 40 * 3600)),
    st.tuples(st.just("sleep"), st.integers(1, 5 * 86400)),
    st.tuples(st.just("pull"), st.integers(1, 3 * 86400)),
    st.tuples(st.just("ahead"), st.integers(1, 400 * 86400)),
    st.tuples(st.just("back"), st.integers(1, 400 * 86400)),
)


class TwoYearsTest(unittest.TestCase):
    def test_hourly_for_two_years_awake(self) -> None:
        begin, end = at("2027-01-01T00:00"), at("2029-01-01T00:00")
        machine = Machine(Rhythm(), begin)
        machine.live(end)
        self.assertEqual(
            len(machine.runs),
            (end - begin) // HOUR,
            "leap day and daylight saving included: one for every hour that passed",
        )
        self.assertEqual({after - before for before, after in itertools.pairwise(machine.runs)}, {HOUR})

    def test_noon_on_each_of_two_years_days(self) -> None:
        begin, end = at("2027-01-01T00:00"), at("2029-01-01T00:00")
        machine = Machine(Rhythm(rules=parse_at("daily 12:00", ZONE)), begin)
        machine.live(end)
        self.assertEqual(len(machine.runs), 731)
        self.assertEqual({datetime.fromtimestamp(run // SECOND, BERLIN).hour for run in machine.runs}, {12})

    @settings(max_examples=40)
    @given(st.lists(STEP, min_size=1, max_size=60), st.integers(0, 86400))
    def test_no_due_run_is_lost_and_none_doubled(self, steps: list[tuple[str, int]], start: int) -> None:
        rhythm = Rhythm(rules=(every(60), *parse_at("weekdays 12:30", ZONE)))
        machine = Machine(rhythm, at("2027-02-01T00:00") + start * SECOND)
        for what, seconds in steps:
            before, runs = machine.now, len(machine.runs)
            served = machine.record.served
            if what == "awake":
                machine.live(machine.now + seconds * SECOND)
                self.served_each(rhythm, max(before, served), machine, runs)
            elif what == "sleep":
                machine.sleep(machine.now + seconds * SECOND)
                self.once(rhythm, served, machine, runs)
            elif what == "pull":
                machine.disk_here = False
                machine.live(machine.now + seconds * SECOND)
                self.assertEqual(len(machine.runs), runs, "nothing can run without the disk")
                machine.disk_here, machine.came = True, machine.now
                machine.live(machine.now + 61 * SECOND)
                self.assertLessEqual(len(machine.runs), runs + 2)
                self.assertLess(machine.now - machine.record.served, HOUR + 62 * SECOND)
            else:
                machine.now += seconds * SECOND * (1 if what == "ahead" else -1)
                machine.decide()
                self.assertLessEqual(
                    len(machine.runs), runs + 1, "a clock that jumps makes up one run at most"
                )
                machine.live(machine.now + 2 * HOUR)
                self.assertTrue(
                    any(machine.now - 2 * HOUR <= run for run in machine.runs),
                    "the rhythm goes on from the new time",
                )

    def served_each(self, rhythm: Rhythm, begin: int, machine: Machine, runs: int) -> None:
        """Awake, with the disk there: each due time has its run at that very moment, and no other runs there
        are."""
        due = list(itertools.takewhile(lambda time: time <= machine.now, rhythm.due_times(begin)))
        self.assertEqual([run for run in machine.runs[runs:] if run > begin], due)

    def once(self, rhythm: Rhythm, served: int, machine: Machine, runs: int) -> None:
        missed = rhythm.next_due(served)
        expected = 1 if missed is not None and missed <= machine.now else 0
        self.assertEqual(len(machine.runs) - runs, expected, "missed runs are made up once")
