"""Values and rules, without files."""

from __future__ import annotations

import msgspec

from good_tide.core.identifiers import MachineId
from good_tide.core.job_facts import JobFacts, StoreState
from good_tide.core.planning import Wait
from good_tide.core.progress import WorkKind
from good_tide.core.records import Machine, SnapshotRecord
from good_tide.core.status import Mood, status
from good_tide.core.words import duration_words, moment_name, printable, size_words, time_words
from tests.support.base import HOUR, T0, GoodTideTest


class WordsTest(GoodTideTest):
    def test_words(self) -> None:
        cases = (
            (size_words(14541), "14.2 KiB"),
            (size_words(0), "0 B"),
            (size_words(1023), "1023 B"),
            (duration_words(7500), "2 h 5 min"),
            (duration_words(59), "59 s"),
            (time_words(T0, T0 + HOUR), "today 16:13"),
            (time_words(T0, T0 + 24 * HOUR), "yesterday 16:13"),
            (time_words(T0, T0 + 72 * HOUR), "Mon 21 Sep, 16:13"),
            (printable(b"a\nb\xff"), "a\\nb\\xff"),
        )
        for shown, expected in cases:
            self.assertEqual(shown, expected)

    def test_a_moment_in_a_name_is_never_longer_than_names_may_be(self) -> None:
        self.assertEqual(moment_name(b"plan.txt", T0), b"plan (Mon 21 Sep 2026 16.13).txt")
        self.assertEqual(moment_name(b"plan", T0, 2), b"plan (Mon 21 Sep 2026 16.13) 2")
        for name in (b"a" * 255, b"\xff" * 250 + b".txt", "ä".encode() * 120 + b".csv"):
            self.assertLessEqual(len(moment_name(name, T0)), 255)

    def test_status_is_never_better_than_the_facts(self) -> None:
        well = status(JobFacts(state=StoreState.READY, disk="Pier", last=T0, by_hand=True, free=10), T0 + 60)
        self.assertIs(well.mood, Mood.WELL)
        for state, last, gaps, now, mood in (
            (StoreState.READY, T0, 3, T0, Mood.ATTENTION),
            (StoreState.READY, T0, 0, T0 + 24 * 8 * HOUR, Mood.ATTENTION),
            (StoreState.AWAY, T0, 0, T0, Mood.ATTENTION),
            (StoreState.LOCKED, 0, 0, T0, Mood.ATTENTION),
            (StoreState.DAMAGED, 0, 0, T0, Mood.HARM),
            (StoreState.REPLACED, T0, 0, T0, Mood.ATTENTION),
            (StoreState.EMPTY, 0, 0, T0, Mood.ATTENTION),
            (StoreState.NO_JOB, 0, 0, T0, Mood.ATTENTION),
        ):
            with self.subTest(state=state, gaps=gaps):
                facts = JobFacts(
                    state=state,
                    disk="Pier",
                    last=last,
                    gaps=gaps,
                    away_since=T0 if state is StoreState.AWAY else 0,
                )
                self.assertIs(status(facts, now).mood, mood)
        self.assertIn(
            "paused",
            status(
                JobFacts(state=StoreState.READY, last=T0, working=WorkKind.SNAPSHOT, work_paused=True), T0
            ).sentence,
        )

    def test_a_server_that_is_away_says_why(self) -> None:
        why = "harbour does not answer. Check the network."
        for holding, words in (
            (True, "Snapshots go on in the holding area."),
            (False, "No snapshots are taken."),
        ):
            facts = JobFacts(
                state=StoreState.AWAY,
                disk="harbour",
                last=T0,
                away_since=T0,
                away_why=why,
                holding=holding,
            )
            told = status(facts, T0 + HOUR)
            self.assertEqual(told.sentence, "harbour has not been usable since today 16:13.")
            self.assertIn(words, told.detail)
            self.assertIn(why, told.detail)
        late = status(facts, T0 + 24 * 8 * HOUR)
        self.assertIn(
            ("The store on harbour cannot be used", why.rstrip(".")),
            [(one.what, one.todo) for one in late.trouble],
        )

    def test_the_first_snapshot_is_shown_as_what_it_is(self) -> None:
        first = status(JobFacts(state=StoreState.EMPTY, disk="Pier", working=WorkKind.SNAPSHOT), T0)
        self.assertEqual(first.sentence, "The first snapshot is being taken.")
        self.assertIn("goes on where it was", first.detail)

    def test_room_is_said_of_the_disk_and_not_of_the_store(self) -> None:
        facts = JobFacts(
            state=StoreState.READY, disk="desk", room_on="System disk", last=T0, by_hand=True, free=10 << 30
        )
        self.assertIn("System disk has 10.0 GiB free", status(facts, T0).detail)

    def test_what_waits_for_a_busy_machine_says_how_long_at_most(self) -> None:
        facts = JobFacts(
            state=StoreState.READY, last=T0, due=T0 + HOUR, wait=Wait.BUSY, wait_latest=T0 + 3 * HOUR
        )
        told = status(facts, T0 + HOUR)
        self.assertEqual(
            told.sentence,
            "Waiting: the machine is busy with other work; it runs at 19:13 all the same.",
        )
        self.assertIn("Due since today 17:13", told.detail)

    def test_records_survive_messagepack(self) -> None:
        record = SnapshotRecord(T0, Machine(MachineId("m"), "n"), b"roots", owners={"u0": "root"})
        self.assertEqual(msgspec.msgpack.decode(msgspec.msgpack.encode(record), type=SnapshotRecord), record)
