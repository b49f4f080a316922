"""What file systems refuse, and that restores, undo, the catalog and the machine's identity make do with
it."""

from __future__ import annotations

import base64
import contextlib
import errno
import os
import re
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.errors import NameTakenError, PersonError, PlaceError, PlaceFullError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.restoring import Action, Existing
from good_tide.operations.history.path_history import PathHistory, path_history
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Wish, plan_restore
from good_tide.operations.restore.set_aside import RECORD_FILE, undo
from good_tide.operations.stores.opening import synced_catalog
from good_tide.source.folders import data_segments, reason_of
from good_tide.storage.catalog import Catalog
from good_tide.storage.folder_place import LocalPlace
from good_tide.storage.marks import Mark, leave_mark, remove_mark, seen_marks
from good_tide.storage.place import disk_errors
from good_tide.system import machine
from tests.support.base import MACHINE, T0, GoodTideTest


def refuse(number: int) -> Callable[..., Any]:
    """Stands in for a system call that fails."""

    def call(*words: object, **named: object) -> None:
        raise OSError(number, os.strerror(number))

    return call


class RestoreRefusedTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "first")
        self.write("deep/er/note.txt", "deep")
        self.store = self.new_store(passphrase=None)
        self.taken = self.snap(self.store)

    def test_a_file_system_without_hard_links_gets_everything_all_the_same(self) -> None:
        for number in (errno.EPERM, errno.ENOTSUP, errno.EMLINK):
            into = self.folder / f"into {number}"
            with mock.patch("os.link", refuse(number)):
                report = self.restore(self.store, self.taken, self.work, into)
            self.assertEqual(
                (report.problems, (into / "work" / "deep/er/note.txt").read_text()), ([], "deep")
            )

    def test_something_that_got_there_meanwhile_is_not_overwritten_with_links_or_without(self) -> None:
        for number in (0, errno.EPERM):
            into = self.folder / f"into {number}"
            plan = plan_restore(
                self.store,
                [Wish(self.taken, os.fsencode(self.work / "plan.txt"))],
                into,
                Existing.SET_ASIDE,
                Silent(),
            )
            self.assertEqual(plan.steps[0].action, Action.CREATE)
            into.mkdir()
            (into / "plan.txt").write_text("somebody was faster")
            with mock.patch("os.link", refuse(number)) if number else contextlib.nullcontext():
                report = carry_out(self.store, plan, SetClock(Nanoseconds(T0)), Silent())
            self.assertEqual([os.path.basename(one.path) for one in report.problems], [b"plan.txt"])
            self.assertEqual((into / "plan.txt").read_text(), "somebody was faster")
            self.assertEqual([one.name for one in into.iterdir()], ["plan.txt"], "nothing half made is left")

    def test_no_room_ends_the_restore_and_leaves_nothing_half_made(self) -> None:
        into = self.folder / "into"
        with mock.patch("os.pwrite", refuse(errno.ENOSPC)), self.assertRaises(PlaceFullError) as caught:
            self.restore(self.store, self.taken, self.work, into)
        self.assertIn("no room left", str(caught.exception))
        self.assertEqual([path for path in into.rglob("*") if path.is_file()], [])
        self.assertEqual(self.restore(self.store, self.taken, self.work, into).problems, [])
        self.assertEqual((into / "work" / "plan.txt").read_text(), "first")

    def test_one_file_that_is_refused_does_not_stop_the_others(self) -> None:
        real = os.pwrite

        def write(handle: int, data: bytes, at: int) -> int:
            if bytes(data) == b"first":
                raise OSError(errno.EIO, os.strerror(errno.EIO))
            return real(handle, data, at)

        with mock.patch("os.pwrite", write):
            report = self.restore(self.store, self.taken, self.work, self.folder / "into")
        self.assertEqual(
            [(os.path.basename(one.path), one.reason) for one in report.problems],
            [(b"plan.txt", "Input/output error")],
        )
        self.assertEqual((self.folder / "into/work/deep/er/note.txt").read_text(), "deep")

    def test_attributes_that_the_target_does_not_take_are_told_and_the_file_is_there(self) -> None:
        file = self.write("tagged.txt", "tagged")
        try:
            os.setxattr(file, "user.cue", b"LX 14")
        except OSError as error:
            self.skipTest(f"no attributes here: {error}")
        taken = self.snap(self.store, 1)
        with mock.patch("os.setxattr", refuse(errno.ENOTSUP)):
            report = self.restore(self.store, taken, file, self.folder / "into")
        self.assertEqual((report.created, report.problems), (1, []))
        self.assertIn("attribute user.cue not restored", report.metadata_notes[0].reason)
        self.assertEqual((self.folder / "into/tagged.txt").read_text(), "tagged")

    def test_nothing_wished_for_and_paths_outside_are_said(self) -> None:
        with self.assertRaises(PersonError):
            plan_restore(self.store, [], None, Existing.SET_ASIDE, Silent())
        with self.assertRaises(PersonError) as caught:
            plan_restore(
                self.store, [Wish(self.taken, b"/elsewhere/plan.txt")], None, Existing.SET_ASIDE, Silent()
            )
        self.assertIn("/elsewhere/plan.txt", str(caught.exception))

    def test_many_of_one_name_all_get_one(self) -> None:
        wishes = []
        for number in range(3):
            self.write("plan.txt", f"state {number}")
            taken = self.snap(self.store, 1 + number)
            wishes.append(Wish(taken, os.fsencode(self.work / "plan.txt")))
        depth = len([part for part in str(self.work / "plan.txt").split("/") if part])
        wishes = wishes * (depth + 1)
        plan = plan_restore(self.store, wishes, self.folder / "into", Existing.SET_ASIDE, Silent())
        names = [step.relative[0] for step in plan.steps]
        self.assertEqual(len(set(names)), len(wishes))
        self.assertIn(b"plan.txt", names)
        self.assertIn(b"plan.txt (2)", names)
        carry_out(self.store, plan, SetClock(Nanoseconds(T0)), Silent())
        self.assertEqual(len(list((self.folder / "into").iterdir())), len(wishes))

    def test_a_sparse_file_is_identical_to_itself_and_not_to_one_with_something_in_its_hole(self) -> None:
        disk = self.work / "disk.img"
        with disk.open("wb") as file:
            file.write(os.urandom(70_000))
            file.truncate(3 << 20)
            file.seek((3 << 20) - 10)
            file.write(b"the end...")
        taken = self.snap(self.store, 1)
        wish = [Wish(taken, os.fsencode(disk))]
        self.assertEqual(
            plan_restore(self.store, wish, None, Existing.SET_ASIDE, Silent()).steps[0].action,
            Action.IDENTICAL,
        )
        with disk.open("r+b") as file:
            file.seek(1 << 20)
            file.write(b"x")
        self.assertEqual(
            plan_restore(self.store, wish, None, Existing.SET_ASIDE, Silent()).steps[0].action, Action.REPLACE
        )
        self.restore(self.store, taken, disk, None)
        self.assertEqual(
            plan_restore(self.store, wish, None, Existing.SET_ASIDE, Silent()).steps[0].action,
            Action.IDENTICAL,
        )
        self.assertLess(disk.stat().st_blocks * 512, 1 << 20, "the hole is a hole again")


class UndoRefusedTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "first")
        self.write("deep/note.txt", "deep")
        self.store = self.new_store(passphrase=None)
        self.taken = self.snap(self.store)
        self.write("plan.txt", "second")

    def test_two_restores_in_one_second_set_aside_in_two_folders(self) -> None:
        asides: list[Path] = []
        for _ in range(2):
            asides += self.restore(self.store, self.taken, self.work / "plan.txt", None).set_aside
            self.write("plan.txt", "second")
        self.assertEqual(len(set(asides)), 2)
        self.assertTrue(asides[1].name.endswith("(2)"))

    def test_a_record_with_an_impossible_name_leads_nowhere(self) -> None:
        aside = self.restore(self.store, self.taken, self.work / "plan.txt", None).set_aside[0]
        record = aside / RECORD_FILE
        lines = record.read_bytes().splitlines(keepends=True)
        hostile = base64.b64encode(b"..").decode()
        own = base64.b64encode(b"plan.txt").decode()
        self.assertTrue(any(own.encode() in line for line in lines))
        record.write_bytes(b"".join(line.replace(own.encode(), hostile.encode()) for line in lines))
        with self.assertRaises(PersonError) as caught:
            undo(aside)
        self.assertIn("impossible name", str(caught.exception))
        self.assertEqual((aside / "plan.txt").read_text(), "second")

    def test_what_is_in_the_way_stays_and_is_named(self) -> None:
        (self.work / "deep/note.txt").unlink()
        (self.work / "deep").rmdir()
        aside = self.restore(self.store, self.taken, self.work, None).set_aside[0]
        (self.work / "deep/mine.txt").write_text("written since")
        (self.work / "plan.txt").write_text("third, written since")
        report = undo(aside)
        self.assertEqual(sorted(report.kept), [b"deep", b"plan.txt"])
        self.assertEqual((self.work / "deep/mine.txt").read_text(), "written since")
        self.assertEqual((self.work / "plan.txt").read_text(), "third, written since")
        self.assertEqual(
            (aside / "plan.txt").read_text(), "second", "what could not be put back is still set aside"
        )

    def test_undo_where_the_folders_have_gone(self) -> None:
        self.write("deep/note.txt", "changed")
        aside = self.restore(self.store, self.taken, self.work, None).set_aside[0]
        (self.work / "deep/note.txt").unlink()
        (self.work / "deep").rmdir()
        report = undo(aside)
        self.assertEqual((report.put_back, (self.work / "plan.txt").read_text()), (1, "second"))
        self.assertEqual(
            (aside / "deep/note.txt").read_text(),
            "changed",
            "its folder is gone, so it stays where it is safe",
        )


class CatalogRefusedTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("deep/plan.txt", "first")
        self.store = self.new_store(passphrase=None)
        self.snap(self.store)

    def known(self) -> PathHistory | None:
        catalog, damage = synced_catalog(self.store, self.cache)
        try:
            self.assertEqual(damage, [])
            return path_history(catalog, os.fsencode(self.work / "deep/plan.txt"), MACHINE.id)
        finally:
            catalog.close()

    def file(self) -> Path:
        return next(
            path for path in self.cache.rglob("*") if path.is_file() and path.read_bytes()[:6] == b"SQLite"
        )

    def test_a_catalog_that_is_no_database_or_of_another_version_is_made_anew(self) -> None:
        before = self.known()
        assert before is not None
        for name in list(self.file().parent.iterdir()):
            if name != self.file():
                name.unlink()
        file = self.file()
        file.write_bytes(os.urandom(20_000))
        self.assertEqual(self.known(), before)
        with sqlite3.connect(file) as database:
            database.execute("PRAGMA user_version = 3")
        database.close()
        self.assertEqual(self.known(), before)

    def test_a_change_that_fails_in_the_middle_changes_nothing(self) -> None:
        catalog, _ = synced_catalog(self.store, self.cache)
        self.addCleanup(catalog.close)
        self.write("deep/plan.txt", "second")
        self.snap(self.store, 1)
        before = catalog.tide(MACHINE.id)
        with (
            mock.patch("good_tide.storage.catalog_intake.Intake._entries", refuse(errno.EIO)),
            self.assertRaises(OSError),
        ):
            catalog.sync(self.store)
        self.assertEqual(catalog.tide(MACHINE.id), before)
        catalog.sync(self.store)
        self.assertEqual(len(catalog.tide(MACHINE.id)), 2)

    def test_mistyped_paths_are_answered_with_what_is_near(self) -> None:
        catalog = Catalog(self.folder / "catalog")
        self.addCleanup(catalog.close)
        self.assertEqual(catalog.find_near(b"/nowhere"), [])
        catalog.sync(self.store)
        plan = os.fsencode(self.work / "deep/plan.txt")
        self.assertEqual(catalog.find_near(os.fsencode(self.work / "deep/plam.txt")), [plan])
        self.assertEqual(catalog.find_near(b"/somewhere/else/plan.doc"), [plan])
        self.assertEqual(catalog.find_near(b"/somewhere/else/zzz"), [os.fsencode(self.work)])


class PlaceRefusedTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.place = LocalPlace(self.folder / "place")
        (self.folder / "place").mkdir()

    def put(self, name: str, data: bytes, exclusive: bool = False) -> None:
        with self.place.create(name, "me") as file:
            file.write(data)
            file.commit(exclusive)

    def test_names_are_taken_once_where_there_are_no_hard_links(self) -> None:
        with mock.patch("os.link", refuse(errno.ENOTSUP)):
            self.put("packs/one", b"1", exclusive=True)
            with self.assertRaises(NameTakenError):
                self.put("packs/one", b"2", exclusive=True)
        self.assertEqual(self.place.read("packs/one"), b"1")
        self.assertEqual(
            [path.name for path in (self.folder / "place").rglob("*") if path.is_file()], ["one"]
        )

    def test_what_the_system_says_becomes_a_sentence_with_a_way_out(self) -> None:
        for number, what, way_out in (
            (errno.ENOSPC, "no room left", "larger disk"),
            (errno.EDQUOT, "no room left", "larger disk"),
            (errno.EROFS, "read-only", "Mount it"),
            (errno.EACCES, "not permitted", "who owns"),
            (errno.EIO, "Input/output error", "cable"),
        ):
            with self.subTest(number), self.assertRaises(PlaceError) as caught, disk_errors("Writing"):
                raise OSError(number, os.strerror(number))
            self.assertRegex(str(caught.exception), f"Writing: .*{re.escape(what)}.*{re.escape(way_out)}")

    def test_folders_that_cannot_be_made_durable_are_no_failure_unless_the_disk_fails(self) -> None:
        self.put("packs/one", b"1")
        with mock.patch("os.fsync", refuse(errno.EINVAL)):
            self.place.remove("packs/one")
        self.put("packs/one", b"1")
        with mock.patch("os.fsync", refuse(errno.EIO)), self.assertRaises(PlaceError):
            self.place.remove("packs/one")

    def test_marks_of_others_and_what_is_no_mark_are_told_apart(self) -> None:
        leave_mark(self.place, "writers", "desk", ("list one",))
        leave_mark(self.place, "writers", "desk", ("list one", "list two"))
        leave_mark(self.place, "writers", "laptop", ())
        self.put("writers/no mark", b"?")
        self.put("writers/broken.00000001", b"\xc1")
        found = {mark.owner: (mark.number, tuple(mark.says)) for mark in seen_marks(self.place, "writers")}
        self.assertEqual(found, {"desk": (2, ("list one", "list two")), "laptop": (1, ()), "broken": (1, ())})
        remove_mark(self.place, "writers", "desk")
        self.assertEqual({mark.owner for mark in seen_marks(self.place, "writers")}, {"laptop", "broken"})

    def test_a_mark_on_a_disk_that_has_gone_no_longer_stands(self) -> None:
        with Mark(self.place, "writers", "desk") as mark:
            self.assertTrue(mark.stands)
            with mock.patch.object(
                LocalPlace, "names", side_effect=PlaceError("The disk is gone", "Connect it")
            ):
                self.assertFalse(mark.stands)
            self.assertTrue(mark.stands)
        self.assertEqual(seen_marks(self.place, "writers"), [])


class SourceRefusedTest(GoodTideTest):
    def test_why_something_was_left_out_is_told_from_what_the_system_said(self) -> None:
        words = {
            number: reason_of(OSError(number, "")).value
            for number in (errno.ENOENT, errno.ESTALE, errno.EBUSY, errno.EACCES, errno.EIO)
        }
        self.assertEqual(
            words,
            {
                errno.ENOENT: "vanished",
                errno.ESTALE: "vanished",
                errno.EBUSY: "locked",
                errno.EACCES: "unreadable",
                errno.EIO: "unreadable",
            },
        )

    def test_where_holes_cannot_be_told_the_whole_file_is_read(self) -> None:
        file = self.work / "sparse"
        with file.open("wb") as out:
            out.truncate(1 << 20)
        handle = os.open(file, os.O_RDONLY)
        self.addCleanup(os.close, handle)
        self.assertEqual(data_segments(handle, 0, 0), [])
        self.assertEqual(data_segments(handle, 1 << 20, 0), [])
        real = os.lseek

        def no_holes(handle: int, at: int, how: int) -> int:
            if how in (os.SEEK_DATA, os.SEEK_HOLE):
                raise OSError(errno.EINVAL, os.strerror(errno.EINVAL))
            return real(handle, at, how)

        with mock.patch("os.lseek", no_holes):
            self.assertEqual(data_segments(handle, 1 << 20, 0), [(0, 1 << 20)])

    def test_a_machine_without_a_number_makes_one_and_keeps_it(self) -> None:
        with mock.patch.object(machine, "_MACHINE_ID", self.folder / "none"):
            first, again = machine.this_machine(self.state), machine.this_machine(self.state)
            other = machine.this_machine(self.folder / "other")
        self.assertEqual(first, again)
        self.assertNotEqual(first.id, other.id)
        given = self.folder / "machine-id"
        given.write_text("0123456789abcdef0123456789abcdef\n")
        with mock.patch.object(machine, "_MACHINE_ID", given):
            known = machine.this_machine(self.state)
            people = set()
            for number in (0, 1000, 1001):
                with mock.patch("os.getuid", return_value=number):
                    own = self.folder / f"state of {number}"
                    people |= {machine.this_machine(own).id, machine.this_machine(own).id}
        self.assertRegex(known.id, "^[0-9a-f]{32}$")
        self.assertNotIn(known.id, given.read_text(), "the system's own number is not published")
        self.assertEqual(len(people), 3, "people who share a machine and a store have histories of their own")

    def test_a_machine_whose_time_zone_is_not_known_goes_by_utc(self) -> None:
        with mock.patch("tzlocal.get_localzone_name", side_effect=LookupError("no zone")):
            self.assertEqual(machine.local_zone(), "UTC")
        with mock.patch("tzlocal.get_localzone_name", return_value=None):
            self.assertEqual(machine.local_zone(), "UTC")
