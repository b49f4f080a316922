"""Snapshots, history, restore and undo on real files."""

from __future__ import annotations

import errno
import os
import shutil
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from good_tide.core.entries import Entry, Extent, Kind
from good_tide.core.errors import PersonError
from good_tide.core.pages import encode_page
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot, SnapshotRecord
from good_tide.core.restoring import Existing
from good_tide.operations.history.browse import entry_at, tidy
from good_tide.operations.restore.plan import Wish, plan_restore
from good_tide.operations.restore.set_aside import RECORD_FILE, undo
from good_tide.storage.writer import WriteSession
from tests.support.base import HOUR, MACHINE, T0, GoodTideTest, tree


class Killed(BaseException):
    """Ends a restore where it is."""


def files_of(top: Path) -> dict[bytes, object]:
    """What ``tree`` tells of files and links, and which folders there are."""
    return {path: what[-3:] if what[0] == "file" else what[0] for path, what in tree(top).items()}


def refusing_once(real: Callable[..., None], name: bytes, refusal: int) -> Callable[..., None]:
    """A renaming that refuses to give a new item this name."""

    def rename(old: bytes, new: bytes, **handles: int) -> None:
        if new == name and old != name:
            raise OSError(refusal, "")
        real(old, new, **handles)

    return rename


class RestoreTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store()
        self.write("plan.txt", "first plan")
        self.write("same.txt", "same")
        self.write("gone/inner.txt", "inner")
        self.past = self.snap(self.store)
        self.write("plan.txt", "second plan, worse")
        shutil.rmtree(self.work / "gone")

    def test_in_place_sets_aside_and_undo_brings_back(self) -> None:
        before = tree(self.work)
        report = self.restore(self.store, self.past, self.work, None)
        self.assertEqual((report.created, report.replaced, report.identical, report.problems), (2, 1, 2, []))
        self.assertEqual((self.work / "plan.txt").read_text(), "first plan")
        aside = report.set_aside[0]
        self.assertEqual((aside / "plan.txt").read_text(), "second plan, worse")
        undone = undo(aside)
        self.assertEqual((undone.put_back, undone.kept), (1, []))
        self.assertEqual(
            {name: what[-3:] for name, what in tree(self.work).items() if what[0] == "file"},
            {name: what[-3:] for name, what in before.items() if what[0] == "file"},
        )
        self.assertFalse(aside.exists())

    def test_undo_leaves_what_was_changed_since(self) -> None:
        report = self.restore(self.store, self.past, self.work, None)
        (self.work / "plan.txt").write_text("third plan, after the restore")
        undone = undo(report.set_aside[0])
        self.assertEqual(undone.kept, [b"plan.txt"])
        self.assertEqual((self.work / "plan.txt").read_text(), "third plan, after the restore")
        self.assertEqual((report.set_aside[0] / "plan.txt").read_text(), "second plan, worse")
        with self.assertRaises(PersonError):
            undo(self.work)

    def test_undo_after_a_crash_between_setting_aside_and_replacing(self) -> None:
        with mock.patch("os.link", side_effect=KeyboardInterrupt), self.assertRaises(KeyboardInterrupt):
            self.restore(self.store, self.past, self.work / "plan.txt", None)
        aside = next(self.work.glob("Set aside*"))
        undo(aside)
        self.assertEqual((self.work / "plan.txt").read_text(), "second plan, worse")

    def test_undo_after_being_killed_at_any_step(self) -> None:
        os.symlink("plan.txt", self.work / "way")
        self.write("here/one.txt", "one")
        past = self.snap(self.store, 1)
        for name in ("way", "same.txt"):
            (self.work / name).unlink()
            (self.work / name).write_text("something else")
        shutil.rmtree(self.work / "here")
        (self.work / "here").write_text("a file in place of the folder")
        self.assertGreater(
            sum(self.killed_and_undone(past, number, after) for number in range(30) for after in (0, 1)), 15
        )

    def killed_and_undone(self, past: Snapshot, number: int, after: int) -> bool:
        """Whether a restore has so many steps that change names; it is killed before or after that one."""
        before, left = files_of(self.work), [number]

        def dying(name: str) -> mock._patch[object]:
            real = getattr(os, name)

            def call(*args: object, **options: object) -> object:
                left[0] -= 1
                done = real(*args, **options) if left[0] != -1 or after else None
                if left[0] == -1:
                    raise Killed
                return done

            return mock.patch(f"os.{name}", call)

        try:
            with dying("link"), dying("mkdir"), dying("rename"):
                self.restore(self.store, past, self.work, None)
        except Killed:
            pass
        for aside in self.work.glob("Set aside*"):
            if (aside / RECORD_FILE).exists():  # killed before: it is empty
                self.assertEqual(undo(aside).kept, [], (number, after))
            else:
                aside.rmdir()
        self.assertEqual(files_of(self.work), before, (number, after))
        return left[0] < 0

    def test_what_cannot_take_its_place_leaves_what_stood_there(self) -> None:
        before = files_of(self.work)
        for refusal in (errno.EACCES, errno.EPERM):
            with (
                mock.patch("os.link", side_effect=OSError(refusal, "")),
                mock.patch("os.rename", side_effect=refusing_once(os.rename, b"plan.txt", refusal)),
            ):
                report = self.restore(self.store, self.past, self.work / "plan.txt", None)
            self.assertEqual(len(report.problems), 1)
            self.assertEqual((self.work / "plan.txt").read_text(), "second plan, worse")
            self.assertEqual(undo(report.set_aside[0]).kept, [])
            self.assertEqual(files_of(self.work), before)

    def test_skip_and_keep_both(self) -> None:
        skipped = self.restore(self.store, self.past, self.work / "plan.txt", None, Existing.SKIP)
        self.assertEqual((skipped.skipped, (self.work / "plan.txt").read_text()), (1, "second plan, worse"))
        self.restore(self.store, self.past, self.work / "plan.txt", None, Existing.KEEP_BOTH)
        (beside,) = self.work.glob("plan (*).txt")
        self.assertRegex(beside.name, r"plan \(\w+ \d+ \w+ \d{4} \d\d\.\d\d\)\.txt")
        self.assertEqual(beside.read_text(), "first plan")
        self.assertEqual((self.work / "plan.txt").read_text(), "second plan, worse")

    def test_a_clash_of_names_gets_the_parents_name_and_is_told(self) -> None:
        self.write("a/list.txt", "a")
        self.write("b/list.txt", "b")
        taken = self.snap(self.store, 1)
        wishes = [Wish(taken, os.fsencode(self.work / one / "list.txt")) for one in ("a", "b")]
        plan = plan_restore(self.store, wishes, self.folder / "out", Existing.SET_ASIDE, Silent())
        self.assertEqual(
            [step.shown for step in plan.steps],
            [os.fsencode(self.folder / "out" / name) for name in ("list.txt", "b - list.txt")],
        )
        self.assertEqual(len(plan.notes), 1)

    def test_no_link_in_the_target_leads_elsewhere(self) -> None:
        outside = self.folder / "outside"
        outside.mkdir()
        (outside / "inner.txt").write_text("precious")
        (self.work / "gone").symlink_to(outside)
        blocked = self.restore(self.store, self.past, self.work / "gone" / "inner.txt", None)
        self.assertEqual(len(blocked.problems), 1)
        self.restore(self.store, self.past, self.work, None)
        self.assertEqual((outside / "inner.txt").read_text(), "precious")
        self.assertEqual((self.work / "gone" / "inner.txt").read_text(), "inner")
        self.assertFalse((self.work / "gone").is_symlink())

    def test_no_hostile_name_in_a_store_leads_elsewhere(self) -> None:
        for name in (b"..", b"../evil", b"/evil", b"."):
            with WriteSession(self.store, "hostile-") as session:
                page = session.put_page(encode_page([Entry(name, Kind.LINK)]))
                root = Entry(os.fsencode(self.work), Kind.FOLDER, extents=(Extent(page, 0, 0),))
                record = SnapshotRecord(T0 + HOUR, MACHINE, encode_page([root]))
                hostile = session.publish(lambda new, stored, record=record: record)  # type: ignore[misc]
            out = self.folder / "out"
            with self.subTest(name):
                report = self.restore(self.store, hostile, self.work, out)
                self.assertRegex(report.problems[0].reason, "cannot be")
            self.assertFalse((self.folder / "evil").exists())

    def test_paths_never_seen_offer_near_names(self) -> None:
        with self.assertRaisesRegex(PersonError, "plan.txt"):
            entry_at(self.store, self.past, tidy(str(self.work / "plam.txt")))

    def test_record_file_is_named_in_the_set_aside_folder(self) -> None:
        report = self.restore(self.store, self.past, self.work, None)
        self.assertTrue((report.set_aside[0] / RECORD_FILE).exists())
