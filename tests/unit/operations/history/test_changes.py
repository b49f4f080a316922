"""All that changed between two moments, against a model that compares the folders themselves."""

from __future__ import annotations

import csv
import json
import os
import shutil
import subprocess
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from good_tide.operations.history.changes import Became, changes
from good_tide.operations.stores.opening import synced_catalog
from tests.support.base import HOUR, MACHINE, T0, GoodTideTest, program

_NAMES = ("a", "b", "d/a", "d/e/c")


class ChangesTest(GoodTideTest):
    def states(self, states: list[dict[str, str]]) -> list[dict[str, str]]:
        """Take a snapshot of each; what was in the covered folder then, folders with an empty content."""
        seen = []
        store = self.new_store(passphrase=None, parity=False)
        for hour, state in enumerate(states):
            shutil.rmtree(self.work)
            self.work.mkdir()
            for name, content in state.items():
                self.write(name, content)
            self.snap(store, hour)
            folders = {os.path.dirname(name) for name in state} | {"d" for name in state if "/e/" in name}
            seen.append({**dict.fromkeys(folders - {""}, ""), **state})
        self.catalog, _ = synced_catalog(store, self.cache)
        return seen

    def found(
        self, folder: str | None = None, begin: int = -1, end: int = 99
    ) -> list[tuple[int, str, str, str]]:
        path = None if folder is None else os.fsencode(self.work / folder).rstrip(b"/")
        every = changes(self.catalog, MACHINE.id, path, T0 + begin * HOUR, T0 + end * HOUR)
        return [
            ((one.point.time - T0) // HOUR, one.became.value, self.short(one.path), self.short(one.was))
            for one in every
        ]

    def short(self, path: bytes) -> str:
        return os.path.relpath(os.fsdecode(path), self.work) if path else ""

    @settings(max_examples=8, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
    @given(
        st.lists(
            st.dictionaries(st.sampled_from(_NAMES), st.sampled_from(["one", "two", "other"]), max_size=4),
            min_size=2,
            max_size=5,
        )
    )
    def test_they_are_what_the_folders_differ_in(self, states: list[dict[str, str]]) -> None:
        shutil.rmtree(self.folder / "store", ignore_errors=True)
        shutil.rmtree(self.cache, ignore_errors=True)
        seen = self.states(states)
        wanted = set()
        for hour in range(1, len(seen)):
            before, after = seen[hour - 1], seen[hour]
            for name in before.keys() | after.keys():
                if before.get(name) != after.get(name):
                    wanted.add((hour, name, name in before, name in after))
        got = set()
        for hour, became, path, was in self.found():
            got.add((hour, path, became == Became.CHANGED or became == Became.GONE, became != Became.GONE))
            if was:
                self.assertEqual(seen[hour][path], seen[hour - 1][was])
                got.add((hour, was, True, False))
        self.catalog.close()
        self.assertEqual(got, wanted)

    def test_a_stretch_of_time_a_folder_and_a_file(self) -> None:
        self.states([{"a": "one"}, {"a": "two", "d/a": "x"}, {"a": "two"}, {"b": "two"}])
        self.addCleanup(self.catalog.close)
        self.assertEqual(
            self.found(),
            [
                (1, "changed", "a", ""),
                (1, "new", "d", ""),
                (1, "new", "d/a", ""),
                (2, "gone", "d", ""),
                (2, "gone", "d/a", ""),
                (3, "moved", "b", "a"),
            ],
        )
        self.assertEqual(self.found(begin=2, end=3), [(2, "gone", "d", ""), (2, "gone", "d/a", "")])
        self.assertEqual(self.found("d"), [(1, "new", "d/a", ""), (2, "gone", "d/a", "")])
        self.assertEqual(self.found("a"), [(1, "changed", "a", ""), (3, "gone", "a", "")])
        self.assertEqual(self.found("never"), [])


class HandedOutTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        store = self.new_store(passphrase=None)
        for hour, content in enumerate(["first", "second", "third"]):
            self.write("plan, final.txt", content)
            self.snap(store, hour)
        (self.work / "plan, final.txt").unlink()
        self.write("other.txt", "other")
        self.snap(store, 3)
        self.place = str(self.folder / "store")

    def run_json(self, *words: Any) -> Any:
        done = program(*words, "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        return json.loads(done.stdout)

    def test_changes_as_csv_and_in_other_forms(self) -> None:
        target = self.folder / "changes.csv"
        done = program("changes", self.place, self.work, "--to", target)
        self.assertIn("4 changes in", done.stdout)
        rows = list(csv.DictReader(target.open(newline="")))
        self.assertEqual([row["change"] for row in rows], ["changed", "changed", "new", "gone"])
        self.assertEqual(
            (rows[0]["size_before"], rows[0]["size_after"], rows[3]["size_after"]), ("5", "6", "")
        )
        self.assertTrue(rows[0]["path"].endswith("plan, final.txt"))
        shown = program("changes", self.place, "--to", "-")
        self.assertEqual(shown.stdout.encode(), target.read_bytes())
        as_json = self.run_json("changes", self.place)["changes"]
        self.assertEqual([one["change"] for one in as_json], [row["change"] for row in rows])
        self.assertEqual(as_json[0]["snapshot"], rows[0]["snapshot"])
        again = program("changes", self.place, "--to", target)
        self.assertEqual((again.returncode, "is there already" in again.stderr), (2, True))

    def test_all_versions_each_by_its_moment(self) -> None:
        out, sums = self.folder / "out", self.folder / "sums"
        out.mkdir()
        words = ("export-versions", self.place, self.work)
        found = self.run_json(*words, "--to", self.folder / "all.tar", "--sums", sums)
        self.assertEqual(found["files"], 4)
        subprocess.run(["tar", "-C", out, "-xf", self.folder / "all.tar"], check=True)
        subprocess.run(["sha256sum", "--check", "--strict", "--quiet", sums], cwd=out, check=True)
        versions = sorted((out / str(self.work).lstrip("/") / "plan, final.txt").iterdir())
        self.assertEqual([one.read_text() for one in versions], ["first", "second", "third"])
        self.assertEqual({one.suffix for one in versions}, {".txt"})

    def test_only_those_that_stood_between_two_times(self) -> None:
        times = self.run_json("history", self.place)["snapshots"]
        stretch = ("--since", times[1]["time"], "--until", times[1]["time"])
        words = ("export-versions", self.place, self.work / "plan, final.txt", *stretch)
        self.assertEqual(self.run_json(*words, "--to", self.folder / "one.tar")["files"], 1)
        late = ("--since", times[3]["time"])
        done = program("export-versions", self.place, self.work / "plan, final.txt", *late, "--to", "-")
        self.assertEqual((done.returncode, "No version" in done.stderr), (2, True))
