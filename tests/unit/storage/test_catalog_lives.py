"""One line of life for a renamed file, only where it is sure."""

from __future__ import annotations

import os
import shutil

from good_tide.operations.history.path_history import path_history, path_life
from good_tide.operations.stores.opening import Catalog, synced_catalog
from tests.support.base import MACHINE, GoodTideTest


class LivesTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None)
        self.hour = 0

    def taken(self) -> None:
        self.snap(self.store, self.hour)
        self.hour += 1

    def catalog(self) -> Catalog:
        catalog, _ = synced_catalog(self.store, self.cache)
        self.addCleanup(catalog.close)
        return catalog

    def names(self, name: str) -> list[str]:
        life = path_life(self.catalog(), MACHINE.id, os.fsencode(self.work / name))
        return [os.path.relpath(os.fsdecode(path), self.work) for path, _ in life]

    def later(self, name: str) -> bytes:
        found = path_history(self.catalog(), os.fsencode(self.work / name), MACHINE.id)
        assert found is not None
        return found.later

    def test_renamed_changed_and_moved_again(self) -> None:
        self.write("a.txt", "one")
        self.taken()
        self.write("a.txt", "one more")
        self.taken()
        (self.work / "a.txt").rename(self.work / "b.txt")
        self.taken()
        (self.work / "sub").mkdir()
        (self.work / "b.txt").rename(self.work / "sub/c.txt")
        self.taken()
        self.write("sub/c.txt", "last")
        self.taken()
        self.assertEqual(self.names("sub/c.txt"), ["a.txt", "a.txt", "b.txt", "sub/c.txt", "sub/c.txt"])
        self.assertEqual(self.later("a.txt"), os.fsencode(self.work / "b.txt"))
        self.assertEqual(self.later("b.txt"), os.fsencode(self.work / "sub/c.txt"))

    def test_a_folder_that_is_moved_takes_its_files_along(self) -> None:
        self.write("old/deep/a.txt", "one")
        self.write("old/b.txt", "two")
        self.taken()
        (self.work / "old").rename(self.work / "new")
        self.taken()
        self.assertEqual(self.names("new/deep/a.txt"), ["old/deep/a.txt", "new/deep/a.txt"])
        self.assertEqual(self.names("new/b.txt"), ["old/b.txt", "new/b.txt"])

    def test_what_is_not_sure_is_not_said(self) -> None:
        self.write("copied.txt", "copied")
        self.write("two one.txt", "twice")
        self.write("two two.txt", "twice")
        self.write("split.txt", "split")
        self.write("empty.txt", "")
        self.write("away.txt", "away")
        self.write("changed.txt", "before")
        self.write("there.txt", "there before")
        self.write("onto.txt", "onto")
        self.taken()
        shutil.copy(self.work / "copied.txt", self.work / "copy.txt")
        (self.work / "two one.txt").rename(self.work / "two.txt")
        (self.work / "two two.txt").unlink()
        shutil.copy(self.work / "split.txt", self.work / "split b.txt")
        (self.work / "split.txt").rename(self.work / "split a.txt")
        (self.work / "empty.txt").rename(self.work / "nothing.txt")
        (self.work / "away.txt").unlink()
        (self.work / "changed.txt").unlink()
        self.write("changed b.txt", "after")
        (self.work / "onto.txt").replace(self.work / "there.txt")
        self.taken()
        self.write("back.txt", "away")
        self.taken()
        for name in (
            "copy.txt",
            "two.txt",
            "split a.txt",
            "split b.txt",
            "nothing.txt",
            "changed b.txt",
            "back.txt",
        ):
            with self.subTest(name):
                self.assertEqual(self.names(name), [name])
        self.assertEqual(self.names("there.txt"), ["there.txt", "there.txt"], "it had a life of its own")
        for name in ("copied.txt", "two one.txt", "split.txt", "empty.txt", "away.txt", "onto.txt"):
            with self.subTest(name):
                self.assertEqual(self.later(name), b"")

    def test_two_that_change_names_with_each_other_stay_two(self) -> None:
        self.write("a.txt", "one")
        self.write("b.txt", "other")
        self.taken()
        (self.work / "a.txt").rename(self.work / "x")
        (self.work / "b.txt").rename(self.work / "a.txt")
        (self.work / "x").rename(self.work / "b.txt")
        self.taken()
        self.assertEqual(self.names("a.txt"), ["a.txt", "a.txt"])

    def test_renamed_to_and_fro_it_comes_to_an_end(self) -> None:
        for number in range(30):
            old, new = self.work / f"{number % 2}.txt", self.work / f"{1 - number % 2}.txt"
            if number:
                old.rename(new)
            else:
                self.write("1.txt", "same")
            self.taken()
        self.assertLess(len(self.names("0.txt")), 40)
