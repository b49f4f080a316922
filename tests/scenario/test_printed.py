"""Which snapshot is meant: times and ids lead back to what they were printed for, and nobody else's snapshot
is taken in its place."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path
from typing import Any

from good_tide.core.clock import SetClock
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.operations.records.journal import Journal
from good_tide.operations.retention.purge import plan_purge, purge
from tests.support.base import T0, GoodTideTest, open_store, program


class PrintedTest(GoodTideTest):
    """By command: what it prints is pasted, and gives what it was printed for."""

    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "store"
        program("store", "create", self.root, "--unencrypted")
        self.plan = self.write("plan.txt", "version 1")
        self.contents: list[str] = []
        for number, when in enumerate(("12:00:00.200", "12:00:00.700", "12:00:30.5", "12:01:00.000001"), 1):
            self.plan.write_text(f"version {number}")
            self.contents.append(f"version {number}")
            ended = program(
                "snapshot", "--store", self.root, "--folder", self.work, "--at", f"2026-01-05T{when}"
            )
            self.assertEqual(ended.returncode, 0, ended.stderr)

    def json(self, *words: str | Path) -> dict[str, Any]:
        ended = program(*words, "--json")
        self.assertEqual(ended.returncode, 0, ended.stderr)
        return dict(json.loads(ended.stdout))

    def brought(self, snapshot: str, into: str) -> str:
        self.json(
            "restore",
            "--store",
            self.root,
            "--snapshot",
            snapshot,
            "--path",
            self.plan,
            "--into",
            self.folder / into,
        )
        return (self.folder / into / "plan.txt").read_text()

    def test_every_printed_time_and_id_brings_its_version(self) -> None:
        versions = self.json("versions", "--store", self.root, self.plan)["versions"]
        history = self.json("history", "--store", self.root)["snapshots"]
        self.assertEqual([one["snapshot"] for one in versions], [one["snapshot"] for one in history])
        for number, (version, row) in enumerate(zip(versions, history, strict=True)):
            for key, name in {
                "first": version["first_seen"],
                "last": version["last_seen"],
                "id": version["snapshot"],
                "time": row["time"],
            }.items():
                with self.subTest(number=number, key=key):
                    self.assertEqual(self.brought(name, f"{number} {key}"), self.contents[number])
        shown = program("versions", "--store", self.root, self.plan).stdout
        for version in versions:
            self.assertIn(version["snapshot"][:12], shown)

    def test_times_as_tables_print_them_are_taken_back(self) -> None:
        shown = program("history", self.root).stdout
        printed = re.findall(r"Mon 5 Jan(?: 2026)?, 12:0\d(?::\d\d)?", shown)
        self.assertEqual(len(printed), 4, shown)
        for number, words in enumerate(printed):
            contained = self.contents[2 if words.endswith("12:00") else number]
            self.assertEqual(self.brought(words, f"printed {number}"), contained)
        now = program("snapshot", self.root, "--folder", self.work)
        self.assertEqual(now.returncode, 0, now.stderr)
        self.assertEqual(self.brought("today", "today"), "version 4")

    def test_a_minute_and_a_day_mean_their_end_and_it_is_said_what_was_taken(self) -> None:
        self.assertEqual(self.brought("2026-01-05T12:00", "minute"), "version 3")
        self.assertEqual(self.brought("2026-01-05", "day"), "version 4")
        ended = program(
            "restore",
            "--store",
            self.root,
            "--snapshot",
            "2026-01-05T12:00",
            "--path",
            self.plan,
            "--into",
            self.folder / "x",
        )
        self.assertRegex(ended.stdout, r"From the snapshot of .*12:00:30 \([0-9a-f]{12}\) of ")
        nothing = program(
            "restore",
            "--store",
            self.root,
            "--snapshot",
            "00" * 16,
            "--path",
            self.plan,
            "--into",
            self.folder / "z",
        )
        self.assertEqual(nothing.returncode, 2)
        self.assertIn("No snapshot is called", nothing.stderr)
        early = program(
            "restore",
            "--store",
            self.root,
            "--snapshot",
            "2026-01-05T11:59",
            "--path",
            self.plan,
            "--into",
            self.folder / "y",
        )
        self.assertEqual(early.returncode, 2)

    def test_what_is_not_in_that_snapshot_is_not_called_never_seen(self) -> None:
        later = self.write("later.txt", "later")
        program("snapshot", "--store", self.root, "--folder", self.work, "--at", "2026-01-06T12:00")
        ended = program(
            "restore",
            "--store",
            self.root,
            "--snapshot",
            "2026-01-05",
            "--path",
            later,
            "--into",
            self.folder / "x",
        )
        self.assertEqual(ended.returncode, 2)
        self.assertIn("is not in the snapshot of", ended.stderr)
        self.assertNotIn("never", ended.stderr)


class PurgePrintedTest(GoodTideTest):
    """A path that was printed is taken out; and it is said where else it is."""

    def setUp(self) -> None:
        super().setUp()
        self.root, self.twin = self.folder / "store", self.folder / "twin"
        self.odd = "odd [1] *.txt"
        self.write("letters/private.txt", "private")
        self.write(f"letters/{self.odd}", "private too")
        self.write(b"letters/caf\xe9.txt", "in another encoding")
        self.write("letters/fine.txt", "fine")
        added = program(
            "job",
            "add",
            "Office",
            "--folder",
            self.work,
            "--store",
            self.root,
            "--store",
            self.twin,
            "--unencrypted",
        )
        self.assertEqual(added.returncode, 0, added.stderr)
        self.assertEqual(program("snapshot", "Office").returncode, 0)

    def names(self, root: Path) -> set[str]:
        ended = program("contents", "--store", root, "latest", self.work, "--deep", "--json")
        return {os.path.basename(one["path"]) for one in json.loads(ended.stdout)["entries"]}

    def test_an_absolute_path_as_printed_is_taken_out(self) -> None:
        for pattern in (
            str(self.work / "letters" / "private.txt"),
            str(self.work / "letters" / self.odd),
            f"{self.work}/letters/caf\\xe9.txt",
        ):
            with self.subTest(pattern):
                planned = json.loads(program("purge", self.root, pattern, "--plan", "--json").stdout)
                self.assertEqual(len(planned["paths"]), 1)
                self.assertEqual(program("purge", self.root, planned["paths"][0]["path"]).returncode, 0)
        self.assertEqual(self.names(self.root), {"letters", "fine.txt"})

    def test_nothing_found_is_no_success(self) -> None:
        for pattern in (str(self.work / "letters" / "privat.txt"), "*.mkv", "/elsewhere/private.txt"):
            ended = program("purge", self.root, pattern)
            self.assertEqual(ended.returncode, 2, pattern)
            self.assertIn("No snapshot in this store holds", ended.stderr)

    def test_other_stores_of_the_job_that_still_hold_it_are_named(self) -> None:
        private = str(self.work / "letters" / "private.txt")
        ended = program("purge", self.root, private)
        self.assertIn("still holds it, in 1 snapshot", ended.stdout)
        self.assertIn(str(self.twin), ended.stdout)
        told = json.loads(program("purge", self.twin, private, "--json").stdout)
        self.assertEqual(told["elsewhere"], [])
        self.twin.rename(self.folder / "away")
        told = json.loads(program("purge", self.root, "fine.txt", "--plan", "--json").stdout)
        self.assertIn("not here", told["elsewhere"][0]["trouble"])

    def test_folders_go_with_everything_below(self) -> None:
        store = open_store(self.root, None)
        self.write("keep.txt", "keep")
        program("snapshot", "Office")
        plan = plan_purge(store, f"{self.work}/letters", "", Silent())
        self.assertEqual(len(plan.paths), 4)
        journal = Journal(self.state, SetClock(Nanoseconds(T0)))
        self.addCleanup(journal.close)
        purge(store, plan, self.state, SetClock(Nanoseconds(T0)), journal, Silent())
        self.assertEqual(self.names(self.root), {"keep.txt"})
