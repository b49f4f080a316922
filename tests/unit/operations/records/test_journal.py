"""The journal, reports, mail, the watch from afar, and the commands that tell."""

from __future__ import annotations

import csv
import json
import socket
from pathlib import Path
from typing import Any
from unittest import mock

import msgspec

from good_tide.core.clock import SetClock
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.happenings import Event, Filter, Level, Run
from good_tide.core.identifiers import JobId, Nanoseconds, SnapshotId
from good_tide.core.progress import Silent
from good_tide.core.settings import Job
from good_tide.operations.records.journal import Journal
from good_tide.operations.reporting.report import export_journal
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.system.system_log import to_system_log
from tests.support.base import (
    HOUR,
    MACHINE,
    OFFICE,
    SOUND,
    T0,
    GoodTideTest,
)

JOB = Job(id=OFFICE, name="Office", folders=(), stores=())


class JournalTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.clock = SetClock(Nanoseconds(T0))
        self.journal = Journal(self.state, self.clock)
        self.addCleanup(lambda: self.journal.close())

    def test_filters_by_job_level_time_and_words(self) -> None:
        happened: tuple[tuple[Level, Job | None, str], ...] = (
            ("good", JOB, "Snapshot"),
            ("trouble", JOB, "Disk FULL"),
            ("note", None, "Paused"),
            ("good", msgspec.structs.replace(JOB, id=SOUND, name="Sound"), "x"),
        )
        for hour, (level, job, what) in enumerate(happened):
            self.clock.set(Nanoseconds(T0 + hour * HOUR))
            self.journal.add(level, job, what, ("detail",), "means", "todo")

        def found(**wanted: Any) -> list[str]:
            return [event.what for event in self.journal.events(Filter(**wanted))]

        self.assertEqual(found(job=OFFICE), ["Paused", "Disk FULL", "Snapshot"])
        self.assertEqual(found(levels=("trouble", "note")), ["Paused", "Disk FULL"])
        self.assertEqual(found(text="disk full"), ["Disk FULL"])
        self.assertEqual(found(since=T0 + HOUR, until=T0 + 3 * HOUR), ["Paused", "Disk FULL"])
        self.assertEqual(
            self.journal.events(Filter(text="full"))[0],
            Event(T0 + HOUR, "trouble", OFFICE, "Disk FULL", "means", "todo", ("detail",), "Office"),
        )

    def test_it_is_bounded(self) -> None:
        with (
            mock.patch("good_tide.operations.records.journal._MOST_EVENTS", 300),
            mock.patch("good_tide.operations.records.journal._MOST_RUNS", 300),
        ):
            for number in range(700):
                self.journal.add("good", JOB, f"event {number}")
                self.journal.add_run(Run(OFFICE, "Pier", "time", T0 + number, 1.0, "done"))
        events, runs = self.journal.events(Filter(most=10_000)), self.journal.runs(OFFICE)
        self.assertLess(max(len(events), len(runs)), 520)
        self.assertEqual((events[0].what, runs[0].began), ("event 699", T0 + 699))

    def test_a_damaged_one_is_put_aside_and_one_that_cannot_be_written_is_said(self) -> None:
        self.journal.add("good", JOB, "before")
        self.journal.close()
        file = self.state / "journal.sqlite3"
        file.write_bytes(b"not a database at all" * 100)
        self.journal = Journal(self.state, self.clock)
        self.journal.add("good", JOB, "after")
        self.assertEqual([event.what for event in self.journal.events(Filter())], ["after"])
        self.assertTrue((self.state / "journal.damaged").exists())
        blocked = Journal(self.folder / "work" / "file" / "below", self.clock)
        self.write("file", "in the way")
        blocked.add("good", JOB, "lost")
        self.assertEqual([event.what for event in blocked.events(Filter())], ["The journal cannot be read"])
        self.assertEqual(
            (blocked.runs(OFFICE), blocked.left_out(OFFICE), blocked.last_done(OFFICE)), ([], [], None)
        )

    def test_files_left_out_again_and_again_are_counted(self) -> None:
        store = self.new_store()
        for hour in range(4):
            missing = () if hour == 2 else (self.folder / "gone",)
            self.write("a", str(hour))
            request = CaptureRequest((self.work, *missing), MACHINE, missing_is_gap=True)
            taken = capture(store, request, SetClock(Nanoseconds(T0 + hour * HOUR)), Silent(), self.state)
            self.journal.take_left_out(OFFICE, taken)
            runs = [one.runs for one in self.journal.left_out(OFFICE)]
            self.assertEqual(runs, [[1], [2], [], [1]][hour])

    def test_also_into_the_system_log(self) -> None:
        with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as log:
            log.bind(str(self.folder / "log"))
            log.settimeout(5)
            with mock.patch("good_tide.system.system_log._logger", None):
                to_system_log(
                    Event(T0, "trouble", OFFICE, "The disk is full", todo="Make room.", name="Office"),
                    str(self.folder / "log"),
                )
            self.assertEqual(
                log.recv(1000).rstrip(b"\0"), b"<11>good-tide: Office: The disk is full. Make room."
            )

    def test_exported_as_csv_json_and_html(self) -> None:
        self.journal.add("trouble", JOB, "<b>Disk</b>, full", ("first; line",), "means", "Make room.")
        self.journal.add_run(
            Run(OFFICE, "Pier", "time", T0 - HOUR, 2.5, "gaps", 10, 3, 4096, 2048, 1, SnapshotId("ab" * 16))
        )
        events, runs = self.journal.events(Filter()), self.journal.runs(JobId(""))
        for ending in (".csv", ".json", ".html"):
            export_journal(events, runs, self.folder / f"out{ending}", "desk", T0, self.folder)
        with (self.folder / "out.csv").open(newline="") as file:
            rows = list(csv.DictReader(file))
        self.assertEqual(
            [(row["kind"], row["level"], row["what"], row["gaps"]) for row in rows],
            [("run", "gaps", "", "1"), ("event", "trouble", "<b>Disk</b>, full", "")],
        )
        plain = json.loads((self.folder / "out.json").read_text())
        self.assertEqual(
            (plain["events"][0]["detail"], plain["runs"][0]["snapshot"]), (["first; line"], "ab" * 16)
        )
        page = (self.folder / "out.html").read_text()
        self.assertIn("&lt;b&gt;Disk&lt;/b&gt;", page)
        self.assertNotIn("<b>Disk", page)
        with self.assertRaises(PersonError):
            export_journal(events, runs, self.folder / "out.doc", "desk", T0, self.folder)
        with self.assertRaises(PlaceError):
            export_journal(events, runs, Path("/proc/none/out.csv"), "desk", T0, self.folder)
