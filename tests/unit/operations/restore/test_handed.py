"""Copies of what was, for other programs."""

from __future__ import annotations

import os
import time
from pathlib import Path

from good_tide.core.clock import SystemClock
from good_tide.core.errors import PersonError
from good_tide.core.progress import Silent
from good_tide.operations.history.copies import clear_copies
from good_tide.operations.restore.handed import Handed, known_copies, make_copies
from good_tide.operations.restore.plan import Wish
from tests.support.base import GoodTideTest, tree


class HandedTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None)
        self.write("plan.txt", "the plan")
        self.write("sub/one.txt", "one")
        (self.work / "plan.txt").chmod(0o640)
        os.setxattr(self.work / "plan.txt", b"user.note", b"by hand")
        self.first = self.snap(self.store)

    def wish(self, *names: str) -> list[Wish]:
        return [Wish(self.first, os.fsencode(self.work / name)) for name in names]

    def copies(self, *names: str) -> Handed:
        return make_copies(self.store, self.wish(*names), self.cache, SystemClock(), Silent())

    def known(self, *names: str) -> Handed | None:
        return known_copies(self.cache, self.wish(*names))

    def test_they_are_what_was_and_can_be_had_again(self) -> None:
        before = tree(self.work / "sub")
        (self.work / "plan.txt").unlink()
        self.assertIsNone(self.known("plan.txt", "sub"))
        made = self.copies("plan.txt", "sub")
        plan, sub = made.paths
        self.assertEqual(plan.name, "plan.txt")
        self.assertEqual((plan.read_text(), plan.stat().st_mode & 0o777), ("the plan", 0o640))
        self.assertEqual(os.getxattr(plan, b"user.note"), b"by hand")
        self.assertRegex(sub.name, r"^sub \(.* \d\d\.\d\d\)$")  # one of this name is there
        self.assertEqual(tree(sub), before)
        self.assertEqual(self.known("sub", "plan.txt"), made)
        self.assertIsNone(self.known("plan.txt"))

    def test_changed_or_taken_copies_are_made_anew(self) -> None:
        def change(paths: tuple[Path, ...]) -> None:
            (next(one for one in paths if one.is_dir()) / "one.txt").write_text("changed")

        def take(paths: tuple[Path, ...]) -> None:
            paths[0].rename(self.folder / "taken")

        def add(paths: tuple[Path, ...]) -> None:
            (next(one for one in paths if one.is_dir()) / "two.txt").touch()

        for harm in (change, take, add):
            with self.subTest(harm.__name__):
                harm(self.copies("plan.txt", "sub").paths)
                self.assertIsNone(self.known("plan.txt", "sub"))
                again = self.copies("plan.txt", "sub")
                self.assertEqual(self.known("plan.txt", "sub"), again)

    def test_they_go_after_some_days_and_sooner_where_it_failed(self) -> None:
        self.copies("plan.txt")
        with self.assertRaises(PersonError):
            self.copies("never.txt")
        self.assertEqual(len(os.listdir(self.cache / "opened")), 1)
        self.assertEqual(clear_copies(self.cache, time.time_ns() + 4 * 86400 * 10**9), 1)
        self.assertEqual(os.listdir(self.cache / "opened"), [])
