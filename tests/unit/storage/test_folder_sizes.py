"""Bytes of a store without asking each file again: never other than what a look at each would say."""

from __future__ import annotations

import os
import random
import time
from pathlib import Path
from unittest import mock

from good_tide.core.errors import PlaceError
from good_tide.storage import folder_sizes
from good_tide.storage.folder_place import STORE_SIZES, LocalPlace, bytes_to_show
from good_tide.storage.folder_sizes import FolderSizes
from tests.support.base import GoodTideTest


class FolderSizesTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "store"
        for number in range(40):
            self.put(f"packs/{number % 4}/{number}", 100 + number)
        self.put("store.json", 10)
        self.sizes, self.asked = FolderSizes(), 0

    def put(self, name: str, size: int) -> None:
        (self.root / name).parent.mkdir(parents=True, exist_ok=True)
        (self.root / name).write_bytes(bytes(size))

    def age(self) -> None:
        """As if nothing had changed for a while."""
        then = time.time_ns() - 60 * 10**9
        for folder in [self.root, *(path for path in self.root.rglob("*") if path.is_dir())]:
            os.utime(folder, ns=(then, then))

    def true(self) -> int:
        return sum(path.stat().st_size for path in self.root.rglob("*") if path.is_file())

    def total(self, sizes: FolderSizes | None = None) -> int:
        """What it says; ``asked``: how many files were asked for it."""
        with mock.patch.object(folder_sizes, "length_of", wraps=folder_sizes.length_of) as asked:
            found = (sizes or self.sizes).total(
                self.root,
                lambda inside: os.open(self.root / inside, os.O_RDONLY | os.O_DIRECTORY),
                3,
                ("", "tmp/"),
            )
        self.asked = asked.call_count
        return found

    def test_only_folders_in_which_something_came_or_went_are_looked_into(self) -> None:
        self.age()
        self.assertEqual((self.total(), self.asked), (self.true(), 41))
        self.assertEqual((self.total(), self.asked), (self.true(), 1), "the file at the top")
        self.put("packs/2/new", 5000)
        self.assertEqual((self.total(), self.asked), (self.true(), 12))
        (self.root / "packs/1/1").unlink()
        self.assertEqual(self.total(), self.true())
        self.assertEqual(self.total(), self.true())

    def test_a_folder_that_changed_a_moment_ago_is_asked_again(self) -> None:
        """Its time would be the same if something else came in the same tick of the clock."""
        self.age()
        self.total()
        self.put("packs/3/first", 70)
        self.total()
        before = (self.root / "packs/3").stat()
        self.put("packs/3/second", 80)
        os.utime(self.root / "packs/3", ns=(before.st_atime_ns, before.st_mtime_ns))
        self.assertEqual(self.total(), self.true())

    def test_files_that_grow_are_asked_each_time(self) -> None:
        self.put("tmp/growing", 10)
        self.age()
        self.total()
        with (self.root / "tmp/growing").open("ab") as file:
            file.write(bytes(1000))
        self.put("store.json", 20)
        self.assertEqual(self.total(), self.true())

    def test_a_file_system_that_does_not_keep_the_time_of_folders_is_believed_for_some_hours(self) -> None:
        self.age()
        self.total()
        before = (self.root / "packs/3").stat()
        self.put("packs/3/unseen", 80)
        os.utime(self.root / "packs/3", ns=(before.st_atime_ns, before.st_mtime_ns))
        self.assertEqual(self.total(), self.true() - 80)
        with mock.patch("time.time_ns", return_value=time.time_ns() + 7 * 3600 * 10**9):
            self.assertEqual(self.total(), self.true())

    def test_a_full_disk_leaves_nothing_behind(self) -> None:
        self.age()
        file = self.folder / "cache" / "sizes"
        self.sizes.keep_in(file)
        with mock.patch.object(Path, "write_bytes", side_effect=OSError(28, "full")):
            self.assertEqual(self.total(), self.true())
        self.assertEqual(list(file.parent.iterdir()), [])

    def test_whatever_comes_and_goes_it_says_what_is_there(self) -> None:
        chance = random.Random(5)
        for number in range(200):
            files = [path for path in self.root.rglob("*") if path.is_file()]
            if chance.random() < 0.4:
                chance.choice(files).unlink()
            elif chance.random() < 0.6:
                self.put(f"{chance.choice(['packs/1', 'index', 'packs/9/deep', 'tmp'])}/x{number}", number)
            if chance.random() < 0.2:
                self.age()
            self.assertEqual(self.total(), self.true(), number)

    def test_it_goes_on_in_the_next_process_and_a_damaged_file_does_no_harm(self) -> None:
        self.age()
        file = self.folder / "cache" / "sizes"
        self.sizes.keep_in(file)
        self.total()
        later = FolderSizes()
        later.keep_in(file)
        self.assertEqual((self.total(later), self.asked), (self.true(), 1))
        for damage in (b"", b"\xff" * 50, file.read_bytes()[:-3]):
            file.write_bytes(damage)
            later = FolderSizes()
            later.keep_in(file)
            self.assertEqual((self.total(later), self.asked), (self.true(), 41))
        file.unlink()
        file.mkdir()
        later = FolderSizes()
        later.keep_in(file)
        self.assertEqual(self.total(later), self.true())

    def test_what_decides_asks_all(self) -> None:
        """Whether snapshots are released to make room must not hang on a count of before."""
        self.age()
        STORE_SIZES.keep_in(self.folder / "cache" / "sizes")
        self.assertEqual(bytes_to_show(LocalPlace(self.root)), self.true())
        (self.root / "packs/0/0").write_bytes(bytes(9))
        self.assertEqual(bytes_to_show(LocalPlace(self.root)), self.true() + 91, "as it was counted")
        for limit in (None, 10**6):
            self.assertEqual(LocalPlace(self.root, limit).total_bytes(), self.true())

    def test_a_store_that_went_away_is_said(self) -> None:
        self.root.rename(Path(f"{self.root} away"))
        with self.assertRaises(PlaceError):
            LocalPlace(self.root).total_bytes()
        with self.assertRaises(PlaceError):
            bytes_to_show(LocalPlace(self.root))
