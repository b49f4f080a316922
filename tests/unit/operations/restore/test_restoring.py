"""Restores are remembered: gone on with when they were cut off, undone, let go."""

from __future__ import annotations

import errno
import os
import shutil
import stat
from pathlib import Path
from unittest import mock

import msgspec

from good_tide.core.errors import PersonError, PlaceFullError
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import JobId
from good_tide.core.progress import Silent
from good_tide.core.restoring import Existing, RestoreNote, RestoreRequest, RestoreState, Wished
from good_tide.operations.restore.report import RestoreReport
from good_tide.operations.restore.restoring import (
    aside_of,
    let_go,
    note_cut_off,
    plan_request,
    restore,
    undo_note,
)
from good_tide.operations.restore.target import Target
from good_tide.operations.stores.opened import id_of
from tests.support.base import GoodTideTest


class RestoringTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        for number in range(6):
            self.write(f"letters/{number}.txt", f"letter {number}")
        self.store = self.new_store(passphrase=None)
        self.taken = self.snap(self.store)
        self.kept = self.context()

    def request(self, **more: object) -> RestoreRequest:
        wished = Wished(os.fsencode(self.work / "letters"), self.taken.id)
        return msgspec.structs.replace(RestoreRequest((wished,)), **more)

    def bring_back(self, request: RestoreRequest, note: str | None = None) -> RestoreReport:
        plan = plan_request(self.kept, self.store, request, None, Silent())
        return restore(
            self.kept,
            self.store,
            plan,
            request,
            Silent(),
            job=JobId(""),
            place="here",
            check=True,
            note=note,
        )

    def note(self) -> RestoreNote:
        return self.kept.restores.all()[0]

    def spoil(self) -> None:
        for number in range(6):
            self.write(f"letters/{number}.txt", f"spoilt {number}")

    def contents(self) -> list[str]:
        return [(self.work / f"letters/{number}.txt").read_text() for number in range(6)]

    def test_one_that_is_done_is_undone_from_its_note(self) -> None:
        self.spoil()
        self.bring_back(self.request())
        note = self.note()
        self.assertEqual((note.state, note.replaced), (RestoreState.DONE, 6))
        self.assertEqual((aside_of(note).files, aside_of(note).bytes), (6, 6 * len("spoilt 0")))
        self.assertEqual(note.targets, (str(self.work),))
        undo_note(self.kept, note)
        self.assertEqual(self.note().state, RestoreState.UNDONE)
        self.assertEqual(self.contents(), [f"spoilt {number}" for number in range(6)])
        with self.assertRaisesRegex(PersonError, "nothing left"):
            undo_note(self.kept, self.note())

    def test_one_that_is_cut_off_by_a_full_disk_goes_on_and_is_undone_as_a_whole(self) -> None:
        self.spoil()
        real, left = os.link, [3]

        def link(*words: object, **where: object) -> None:
            left[0] -= 1
            if left[0] < 0:
                raise OSError(errno.ENOSPC, "full")
            real(*words, **where)  # type: ignore[arg-type]

        with mock.patch("os.link", link), self.assertRaises(PlaceFullError):
            self.bring_back(self.request())
        note = self.note()
        self.assertEqual(note.state, RestoreState.CUT_OFF)
        self.assertIn("no room", note.why)
        self.assertEqual(sum(text.startswith("letter") for text in self.contents() if text), 3)
        report = self.bring_back(note.request, note.id)
        self.assertEqual(report.problems, [])
        self.assertEqual(self.contents(), [f"letter {number}" for number in range(6)])
        note = self.note()
        self.assertEqual((note.state, len(self.kept.restores.all())), (RestoreState.DONE, 1))
        self.assertEqual(aside_of(note).files, 6, "all that was replaced by either part")
        undo_note(self.kept, note)
        self.assertEqual(self.contents(), [f"spoilt {number}" for number in range(6)])

    def test_a_folder_that_was_begun_gets_its_times_and_permissions_when_it_goes_on(self) -> None:
        folder = self.work / "letters"
        folder.chmod(0o750)
        os.utime(folder, (1_600_000_000, 1_600_000_000))
        self.taken = self.snap(self.store, 1)
        shutil.rmtree(folder)
        left = [2]
        real = os.link

        def link(*words: object, **where: object) -> None:
            left[0] -= 1
            if left[0] < 0:
                raise KeyboardInterrupt  # as if it were killed
            real(*words, **where)  # type: ignore[arg-type]

        with (
            mock.patch("os.link", link),
            mock.patch.object(Target, "finish"),
            self.assertRaises(KeyboardInterrupt),
        ):
            self.bring_back(self.request())
        self.assertEqual(stat.S_IMODE(folder.stat().st_mode), 0o700)
        self.kept.restores.change(self.note().id, state=RestoreState.CUT_OFF)
        self.assertEqual(self.bring_back(self.request(), self.note().id).problems, [])
        info = folder.stat()
        self.assertEqual((stat.S_IMODE(info.st_mode), info.st_mtime), (0o750, 1_600_000_000))

    def test_keeping_both_twice_brings_one_copy(self) -> None:
        self.spoil()
        request = self.request(existing=Existing.KEEP_BOTH)
        self.bring_back(request)
        again = self.bring_back(request)
        self.assertEqual((again.created, len(list((self.work / "letters").iterdir()))), (0, 12))

    def test_one_whose_process_has_ended_was_cut_off(self) -> None:
        identity = self.kept.restores.begin(JobId(""), id_of(self.store), "here", self.request(), 1)
        self.assertEqual(self.note().state, RestoreState.RUNNING)
        self.kept.restores.change(identity, carried_by=(2**22 + 5, ("", 1)))
        self.assertEqual(self.note().state, RestoreState.CUT_OFF)
        note_cut_off(self.kept)
        note_cut_off(self.kept)
        told = self.kept.journal.events(Filter())
        self.assertEqual([event.what for event in told], ["A restore was cut off"])
        self.assertIn(f"restores go-on {identity}", told[0].todo)

    def test_what_is_set_aside_is_let_go_only_where_it_is_ours(self) -> None:
        self.spoil()
        self.bring_back(self.request())
        note = self.note()
        folder = Path(note.folders[0])
        strange = self.folder / "precious"
        strange.mkdir()
        (strange / "thesis.txt").write_text("ten years")
        forged = msgspec.structs.replace(note, folders=(str(strange),))
        with self.assertRaisesRegex(PersonError, "not touched"):
            let_go(self.kept, forged)
        link = self.folder / "link"
        link.symlink_to(folder)
        with self.assertRaisesRegex(PersonError, "not touched"):
            let_go(self.kept, msgspec.structs.replace(note, folders=(str(link),)))
        running = msgspec.structs.replace(note, state=RestoreState.RUNNING)
        with self.assertRaisesRegex(PersonError, "not done yet"):
            let_go(self.kept, running)
        gone = let_go(self.kept, note)
        self.assertEqual((gone.files, folder.exists()), (6, False))
        self.assertEqual(self.note().state, RestoreState.LET_GO)
        self.assertEqual((strange / "thesis.txt").read_text(), "ten years")

    def test_what_was_taken_out_stays_out_when_it_goes_on(self) -> None:
        self.spoil()
        request = self.request(without=(os.fsencode(self.work / "letters/3.txt"),))
        self.bring_back(request)
        self.assertEqual(self.contents()[2:5], ["letter 2", "spoilt 3", "letter 4"])
        self.assertEqual(self.note().request.without, request.without)

    def test_only_so_many_are_remembered_and_those_that_keep_things(self) -> None:
        self.spoil()
        self.bring_back(self.request())
        first = self.note().id
        for number in range(230):
            self.kept.restores.begin(JobId(""), id_of(self.store), "", self.request(), number)
        notes = self.kept.restores.all()
        self.assertEqual(len(notes), 201)
        self.assertEqual(notes[-1].id, first)
        self.assertIsNone(self.kept.restores.find(""))
