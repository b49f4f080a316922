"""What is missing in a folder."""

from __future__ import annotations

import os
import shutil
from unittest import mock

from good_tide.core.findings import Findings
from good_tide.operations.history.missing import missing_in
from good_tide.operations.stores.opening import synced_catalog
from tests.support.base import MACHINE, GoodTideTest


class MissingTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        for name in (
            "a/one.txt",
            "a/two.txt",
            "a/deep/three.txt",
            "b/four.txt",
            "gone/five.txt",
            "gone/in/six.txt",
        ):
            self.write(name, f"this is {name}")
        self.store = self.new_store()
        self.snap(self.store, 0)
        (self.work / "a/one.txt").unlink()
        self.snap(self.store, 1)
        shutil.rmtree(self.work / "gone")
        self.snap(self.store, 2)
        self.catalog, _ = synced_catalog(self.store, self.cache)
        self.addCleanup(self.catalog.close)

    def missing(self, folder: str = "", most: int = 100) -> list[str]:
        return [os.path.relpath(os.fsdecode(one), self.work) for one in self.found(folder, most).paths]

    def found(self, folder: str = "", most: int = 100) -> Findings:
        return missing_in(self.catalog, MACHINE.id, os.fsencode(self.work / folder).rstrip(b"/"), most)

    def test_the_topmost_of_what_is_gone_the_last_first(self) -> None:
        self.assertEqual(self.missing(), ["gone", "a/one.txt"])
        self.assertEqual(self.missing("a"), ["a/one.txt"])
        self.assertEqual(self.missing("b"), [])
        self.assertEqual(sorted(self.missing("gone")), ["gone/five.txt", "gone/in"])

    def test_what_went_since_the_newest_snapshot_and_what_came_back(self) -> None:
        (self.work / "a/deep/three.txt").unlink()
        self.write("a/one.txt", "again")
        self.assertEqual(self.missing(), ["a/deep/three.txt", "gone"])

    def test_a_folder_that_is_not_there_misses_all_that_it_had(self) -> None:
        shutil.rmtree(self.work)
        self.assertEqual(self.missing()[:2], ["a", "b"])

    def test_a_folder_that_cannot_be_read_is_passed_over(self) -> None:
        listdir = os.listdir

        def refused(path: bytes) -> list[bytes]:
            if path.endswith(b"/a"):
                raise PermissionError(13, "no")
            return listdir(path)

        with mock.patch("os.listdir", refused):
            self.assertEqual(self.missing(), ["gone"])

    def test_a_folder_above_the_covered_ones_has_what_is_missing_in_them(self) -> None:
        above = missing_in(self.catalog, MACHINE.id, os.fsencode(self.folder), 100)
        self.assertEqual(above.paths, self.found().paths)
        shutil.rmtree(self.work)
        above = missing_in(self.catalog, MACHINE.id, os.fsencode(self.folder), 100)
        self.assertEqual(above.paths, [os.fsencode(self.work)])

    def test_no_more_than_so_many_and_it_says_so(self) -> None:
        found = self.found(most=1)
        self.assertEqual((found.count, found.more), (1, True))
        self.assertFalse(self.found().more)

    def test_what_was_moved_says_where_it_went_on(self) -> None:
        (self.work / "b/four.txt").rename(self.work / "a/quattro.txt")
        self.snap(self.store, 3)
        self.catalog.sync(self.store)
        line = self.found("b").folders[0].lines[0]
        self.assertEqual(line.later, os.fsencode(self.work / "a/quattro.txt"))
