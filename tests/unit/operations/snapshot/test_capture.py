"""Snapshots, history, restore and undo on real files."""

from __future__ import annotations

import os
import random
import shutil
import socket
import subprocess
import sys
from collections.abc import Callable, Sequence
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.entries import Kind
from good_tide.core.errors import PersonError, PlaceError, StoppedError
from good_tide.core.identifiers import ChunkId, Nanoseconds
from good_tide.core.progress import Progress, Silent, Steering
from good_tide.operations.history.browse import entry_at
from good_tide.operations.history.path_history import path_history
from good_tide.operations.integrity.verify import verify
from good_tide.operations.snapshot import capture as capture_module
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.opening import synced_catalog
from good_tide.storage import packed, writer
from good_tide.storage.compression import CAREFUL_LEVEL, DATA_LEVEL
from good_tide.storage.runs import RunLock
from tests.support.base import HOUR, MACHINE, REPOSITORY, T0, GoodTideTest, as_ordinary_person, restless, tree


class CaptureTest(GoodTideTest):
    def test_everything_a_folder_can_hold_comes_back(self) -> None:
        self.write(b"bad \xff name\n.txt", "odd")
        self.write("deep/er/est/file", "x" * 70_000)
        self.write("empty file")
        first = self.write("linked", "one content")
        os.link(first, self.work / "deep" / "also linked")
        (self.work / "link").symlink_to("/nowhere/at all")
        (self.work / "empty folder").mkdir(mode=0o751)
        (self.work / "empty folder").chmod(0o751)
        self.write("script", "#!").chmod(0o4755)
        os.utime(first, ns=(1, 1_234_567_890_123_456_789))
        os.setxattr(first, "user.comment", b"\0binary")
        with (self.work / "sparse").open("wb") as file:
            file.seek(3_000_000)
            file.write(b"end")
            file.truncate(9_000_000)
        subprocess.run(["setfacl", "-m", "u:12345:r", str(self.work / "script")], check=True)
        before = tree(self.work)
        store = self.new_store()
        snapshot = self.snap(store)
        self.assertEqual((snapshot.gaps, snapshot.record.left_out), (0, ()))
        self.restore(store, snapshot, self.work, self.folder / "out")
        self.assertEqual(tree(self.folder / "out" / "work"), before)
        self.assertLess((self.folder / "out" / "work" / "sparse").stat().st_blocks * 512, 1_000_000)
        links = [
            (self.folder / "out" / "work" / name).stat().st_ino for name in ("linked", "deep/also linked")
        ]
        self.assertEqual(*links)

    def test_more_of_a_later_snapshot_than_of_a_first_is_compressed_with_care(self) -> None:
        words = random.Random(7)

        def texts(folder: str) -> None:
            for number in range(12):
                lines = (f"{words.choice('abcdefg') * 9} {words.random()}" for _ in range(4000))
                self.write(f"{folder}/{number}.txt", "\n".join(lines))

        store = self.new_store()
        texts("first")
        self.snap(store, 0)
        levels: list[int] = []

        def prepare(
            identity: ChunkId, plain: bytes, near: Callable[[], Sequence[packed.Base]], level: int
        ) -> packed.Prepared:
            levels.append(level)
            return packed.prepare(identity, plain, near, level)

        careful = mock.patch.object(writer, "prepare", prepare)
        texts("second")
        with careful, mock.patch.object(capture_module, "LATER_FEW_BYTES", 600_000):
            self.snap(store, 1)
        self.assertIn(CAREFUL_LEVEL, levels)
        self.assertIn(DATA_LEVEL, levels)
        levels.clear()
        other = self.new_store("other")
        with careful, mock.patch.object(capture_module, "FEW_BYTES", 0):
            self.snap(other, 2)
        self.assertEqual(set(levels), {DATA_LEVEL})

    def test_a_renamed_folder_is_not_read_again(self) -> None:
        for number in range(20):
            self.write(f"season/acts/{number}.txt", f"act {number}" * 50)
        self.write("season/sound.wav", random.Random(1).randbytes(300_000))
        store = self.new_store()
        with (
            mock.patch("good_tide.operations.snapshot.file_taking.UNTRUSTED_NS", -1),
            mock.patch("good_tide.operations.snapshot.small_files.UNTRUSTED_NS", -1),
        ):
            self.snap(store)
            (self.work / "season").rename(self.work / "next year")
            expected = tree(self.work)
            with (
                mock.patch("good_tide.operations.snapshot.file_taking.open_file") as opened,
                mock.patch("good_tide.operations.snapshot.small_files.SmallFiles.read") as read,
            ):
                taken = self.snap(store, 1)
        self.assertEqual((opened.call_count, read.call_count, taken.record.tally.new_bytes), (0, 0, 0))
        self.restore(store, taken, self.work, self.folder / "back")
        self.assertEqual(tree(self.folder / "back" / "work"), expected)

    def test_a_folder_that_replaces_one_of_much_the_same_name_is_compared_with_it(self) -> None:
        content = random.Random(1).randbytes(200_000)
        self.write("programme-1.0/text/plan.bin", content)
        self.write("programme-1.0/list.txt", "\n".join(map(str, range(2000))))
        store = self.new_store()
        self.snap(store)
        shutil.rmtree(self.work / "programme-1.0")
        self.write("programme-1.1/text/plan.bin", content[:5000] + b"!" + content[5000:])
        self.write("programme-1.1/list.txt", "\n".join(map(str, range(1, 2000))))
        expected = tree(self.work)
        taken = self.snap(store, 1)
        self.assertLess(taken.record.tally.new_bytes, 100)
        self.assertEqual(taken.record.tally.changed_files, 2)
        self.restore(store, taken, self.work, self.folder / "back")
        self.assertEqual(tree(self.folder / "back" / "work"), expected)

    def test_an_unchanged_folder_adds_nothing_and_a_change_adds_itself_only(self) -> None:
        for number in range(30):
            self.write(f"a/{number}", f"number {number}" * 50)
            self.write(f"b/{number}.bin", random.Random(number).randbytes(90_000))
        store = self.new_store()
        first = self.snap(store)
        with (
            mock.patch("good_tide.operations.snapshot.file_taking.UNTRUSTED_NS", 0),
            mock.patch("good_tide.operations.snapshot.small_files.UNTRUSTED_NS", 0),
        ):
            second = self.snap(store, 1)
        self.assertEqual((second.record.tally.changed_files, second.record.tally.new_bytes), (0, 0))
        third = self.snap(store, 2)
        self.assertEqual(third.record.roots, second.record.roots)
        self.write("a/3", "other words")
        fourth = self.snap(store, 3)
        self.assertEqual((fourth.record.tally.changed_files, fourth.record.tally.new_bytes), (1, 11))
        self.assertEqual(first.record.tally.files, 60)

    def test_copies_and_moved_files_are_stored_once(self) -> None:
        small, large = (
            self.write("small.txt", random.Random(1).randbytes(20_000)),
            self.write("large.bin", random.Random(2).randbytes(2_000_000)),
        )
        store = self.new_store()
        self.snap(store)
        catalog, _ = synced_catalog(store, self.cache)
        shutil.copy(small, self.work / "copy.txt")
        shutil.copy(large, self.work / "copy.bin")
        (self.work / "moved").mkdir()
        small.rename(self.work / "moved" / "small.txt")
        request = CaptureRequest((self.work,), MACHINE)
        taken = capture(
            store, request, SetClock(Nanoseconds(T0 + HOUR)), Silent(), self.state, catalog.stored_small
        )
        self.assertEqual(taken.record.tally.new_bytes, 0)
        catalog.close()

    def test_what_cannot_be_read_is_named_and_not_taken_over_from_before(self) -> None:
        self.write("good.txt", "fine")
        locked = self.write("locked.txt", "mine")
        store = self.new_store()
        self.snap(store)
        locked.chmod(0)
        (self.work / "pipe").touch()
        (self.work / "pipe").unlink()
        os.mkfifo(self.work / "pipe")
        with socket.socket(socket.AF_UNIX) as made:
            made.bind(str(self.work / "socket"))
        code = (
            "import sys; from tests.support.base import *\ns = open_store(Path(sys.argv[1]), PASSPHRASE);"
            " capture(s, CaptureRequest((Path(sys.argv[2]),), MACHINE), SetClock(Nanoseconds(T0 + HOUR)),"
            " Silent(), Path(sys.argv[3]))"
        )
        with as_ordinary_person() as prefix:
            subprocess.run(
                [*prefix, sys.executable, "-c", code, store.place.title, str(self.work), str(self.state)],
                check=True,
                cwd=REPOSITORY,
            )
        taken = store.snapshots()[0][-1]
        reasons = {os.path.basename(item.path): item.reason for item in taken.record.left_out}
        self.assertEqual(reasons, {b"locked.txt": "unreadable", b"pipe": "special", b"socket": "special"})
        self.assertEqual(taken.gaps, 1)
        entry = entry_at(store, taken, os.fsencode(locked))
        self.assertEqual((entry.kind, entry.extents), (Kind.LEFT_OUT, ()))
        catalog, _ = synced_catalog(store, self.cache)
        found = path_history(catalog, os.fsencode(locked), MACHINE.id)
        assert found is not None
        self.assertEqual([one.snapshots for one in found.versions], [1])
        catalog.close()

    def test_a_file_that_will_not_hold_still_is_kept_with_a_mark(self) -> None:
        log = self.write("restless.log", "begin")
        self.write("calm.txt", "calm")
        store = self.new_store()
        with restless(log):
            taken = self.snap(store)
        self.assertEqual((taken.record.unsteady, taken.gaps), ((os.fsencode(log),), 1))
        again = self.snap(store, 1)
        self.assertEqual(again.gaps, 0)
        self.restore(store, again, log, self.folder / "out")
        self.assertEqual((self.folder / "out" / "restless.log").read_bytes(), log.read_bytes())

    def test_links_are_not_followed_and_the_store_leaves_itself_out(self) -> None:
        (self.folder / "outside").mkdir()
        (self.folder / "outside" / "private.txt").write_text("not covered")
        (self.work / "way out").symlink_to(self.folder / "outside")
        store = self.new_store("work/backup")
        taken = self.snap(store)
        self.assertEqual(
            [(item.reason, os.path.basename(item.path)) for item in taken.record.left_out],
            [("store", b"backup")],
        )
        self.assertEqual((taken.gaps, taken.record.tally.files), (0, 0))

    def test_bad_requests_say_what_is_wrong(self) -> None:
        store = self.new_store()
        clock = SetClock(Nanoseconds(T0))
        with self.assertRaises(PersonError):
            capture(store, CaptureRequest((self.folder / "missing",), MACHINE), clock, Silent(), self.state)
        self.snap(store, 2)
        with self.assertRaises(PersonError):
            capture(
                store, CaptureRequest((self.work,), MACHINE, at=Nanoseconds(T0)), clock, Silent(), self.state
            )
        self.assertGreater(self.snap(store, 0).record.time, T0 + 2 * HOUR)
        with (
            RunLock(self.state, store.header.store, MACHINE.id),
            self.assertRaisesRegex(PlaceError, "Another snapshot"),
        ):
            self.snap(store, 3)

    def test_a_stopped_run_shows_nothing_and_the_next_goes_on_from_it(self) -> None:
        for number in range(6):
            self.write(f"{number}.bin", random.Random(number).randbytes(1_500_000))
        store = self.new_store()

        def stop_at_the_third(progress: Progress) -> None:
            if progress.files_done >= 3:
                steering.stop()

        steering = Steering(stop_at_the_third)
        with (
            mock.patch("good_tide.operations.snapshot.run_notes._REPORT_SECONDS", 0),
            self.assertRaises(StoppedError),
        ):
            self.snap(store, 0, MACHINE, steering)
        self.assertEqual(store.snapshots()[0], [])
        taken = self.snap(store, 1)
        self.assertLess(taken.record.tally.new_bytes, 7_000_000)
        self.assertTrue(verify(store, True, Silent()).ok)
