"""The tree of all moments, without a file system."""

from __future__ import annotations

import os
import shutil
from pathlib import Path
from unittest import mock

import msgspec

from good_tide.core.clock import SetClock
from good_tide.core.entries import Kind
from good_tide.core.errors import DamageError, GoodTideError, PlaceError
from good_tide.core.identifiers import Nanoseconds
from good_tide.operations.mount import tree as trees
from good_tide.operations.mount.stored_folder import rows_of
from good_tide.operations.mount.tree import PastTree
from good_tide.storage.store import Store
from tests.support.base import HOUR, MACHINE, T0, GoodTideTest, open_store


class TreeTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None)
        self.inside = bytes(self.work)
        fresh = mock.patch.object(trees, "_FRESH_SECONDS", 0.0)
        fresh.start()
        self.addCleanup(fresh.stop)

    def tree(self, store: Store | None = None) -> PastTree:
        clock = SetClock(Nanoseconds(T0 + 5 * HOUR))
        return PastTree(store or self.store, MACHINE.id, self.cache, clock)

    def test_paths_as_deep_as_any_are_found(self) -> None:
        deep = self.work
        for _ in range(900):
            deep = deep / "d"
        subdued = Path(*deep.parts[:400])
        subdued.mkdir(parents=True)
        handle = os.open(subdued, os.O_RDONLY)
        for _ in deep.parts[400:]:
            os.mkdir("d", dir_fd=handle)
            below = os.open("d", os.O_RDONLY, dir_fd=handle)
            os.close(handle)
            handle = below
        os.close(os.open("end", os.O_CREAT | os.O_WRONLY, dir_fd=handle))
        os.close(handle)
        self.snap(self.store)
        found = self.tree().item(b"/moments/latest")
        name = found.entry.extra.target
        item = self.tree().item(b"/moments/" + name + bytes(deep) + b"/end")
        self.assertIs(item.entry.kind, Kind.FILE)
        with self.assertRaises(FileNotFoundError):
            self.tree().item(b"/moments/" + name + bytes(deep) + b"/never")

    def test_two_in_one_minute_have_names_of_their_own_and_come_by_themselves(self) -> None:
        self.write("a.txt", "1")
        self.snap(self.store)
        tree = self.tree()
        self.assertEqual(sorted(tree.inside(b"/moments")), [b"2026-09-21 16.13", b"latest", b"today 16.13"])
        for seconds in (10, 20):
            self.write("a.txt", f"{seconds}")
            with mock.patch("tests.support.base.HOUR", seconds * 10**9):
                self.snap(self.store, 1)
        names = sorted(tree.inside(b"/moments"))
        self.assertEqual(names[:3], [b"2026-09-21 16.13", b"2026-09-21 16.13.30", b"2026-09-21 16.13.40"])
        self.assertEqual(tree.inside(b"/moments")[b"latest"].entry.extra.target, names[2])
        versions = tree.inside(b"/files" + self.inside + b"/a.txt")
        self.assertEqual(len(versions), 3)
        sizes = {name: item.whole().stat.size for name, item in versions.items()}
        self.assertEqual(sizes[b"2026-09-21 16.13.txt"], 1)

    def test_what_was_a_file_and_a_folder_is_both_and_gone_is_as_it_was_last(self) -> None:
        self.write("thing", "a file")
        self.write("kept/old.txt", "old")
        self.snap(self.store)
        (self.work / "thing").unlink()
        self.write("thing/in.txt", "now a folder")
        (self.work / "kept/old.txt").unlink()
        self.write("kept/new.txt", "new")
        self.snap(self.store, 1)
        shutil.rmtree(self.work / "thing")
        self.snap(self.store, 2)
        tree = self.tree()
        both = tree.inside(b"/files" + self.inside + b"/thing")
        self.assertEqual(sorted(both), [b"2026-09-21 16.13", b"in.txt"])
        gone = tree.inside(b"/gone" + self.inside)
        self.assertEqual(sorted(gone), [b"kept", b"thing"])
        self.assertEqual(sorted(tree.inside(b"/gone" + self.inside + b"/thing")), [b"in.txt"])
        self.assertEqual(sorted(tree.inside(b"/gone" + self.inside + b"/kept")), [b"old.txt"])

    def test_all_of_a_machine_may_be_covered(self) -> None:
        self.write("in/a.txt", "a")
        taken = self.snap(self.store)
        (root,) = self.store.roots(taken.record)
        everything = msgspec.structs.replace(root, name=b"/")
        tree = self.tree()
        (name,) = (name for name in tree.inside(b"/moments") if name.startswith(b"2026"))
        with mock.patch.object(Store, "roots", return_value=[everything]):
            self.assertEqual(sorted(tree.inside(b"/moments/" + name)), [b"in"])
            self.assertEqual(sorted(tree.inside(b"/moments/" + name + b"/in")), [b"a.txt"])

    def test_a_lost_listing_leaves_no_folder_that_passes_for_whole(self) -> None:
        self.write("in/a.txt", "a")
        self.snap(self.store)
        tree = self.tree()
        (name,) = (name for name in tree.inside(b"/moments") if name.startswith(b"2026"))
        tree.inside(b"/moments/" + name + self.inside)
        path = b"/moments/" + name + self.inside + b"/in"
        with mock.patch.object(Store, "page", side_effect=DamageError("lost")):
            found = tree.inside(path)
        (odd,) = found.values()
        self.assertEqual([row.name for row in rows_of(found, path)], list(found))
        with self.assertRaises(DamageError):
            odd.whole()

    def test_a_disk_that_goes_leaves_what_is_known(self) -> None:
        self.write("a.txt", "a")
        self.snap(self.store)
        tree = self.tree()
        before = sorted(tree.inside(b"/moments"))
        tree.check()
        (self.folder / "store").rename(self.folder / "pulled")
        self.assertEqual(sorted(tree.inside(b"/moments")), before)
        with self.assertRaises(PlaceError):
            tree.check()
        (name,) = (name for name in before if name.startswith(b"2026"))
        cold = self.tree(open_store(self.folder / "pulled", None))
        (self.folder / "pulled").rename(self.folder / "store")
        cold.inside(b"/moments")
        with self.assertRaises((GoodTideError, FileNotFoundError)):
            cold.inside(b"/moments/" + name + self.inside)
