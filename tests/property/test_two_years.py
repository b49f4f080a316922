"""Rhythm and planning: rules against a slow model, and two years of a workstation under a simulated clock."""

from __future__ import annotations

import itertools
import unittest
from datetime import datetime

from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.clock import SECOND
from good_tide.core.planning import (
    Facts,
    JobRecord,
    after_clock,
    began,
    decide,
    ended,
)
from good_tide.core.rhythm import (
    Rhythm,
    every,
    parse_at,
)
from tests.support.moments import BERLIN, HOUR, ZONE, at


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
