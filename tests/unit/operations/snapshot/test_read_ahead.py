"""Snapshots, history, restore and undo on real files."""

from __future__ import annotations

import os
import signal
from concurrent.futures import Future
from unittest import mock

from good_tide.operations.history.browse import contents
from good_tide.operations.snapshot import read_ahead as reading_ahead
from good_tide.operations.snapshot.read_ahead import Batch, ReadAhead
from good_tide.source.small_files import Expected, SmallRead
from tests.support.base import GoodTideTest, tree


class ReadAheadTest(GoodTideTest):
    """Small files read by the helper process come out as those read here, whatever happens to it."""

    def setUp(self) -> None:
        super().setUp()
        for number in range(60):
            self.write(f"part {number % 6}/note {number}.txt", f"{number}" * (number + 1))
        os.setxattr(self.work / "part 1" / "note 1.txt", "user.cue", b"LX 14")
        self.write("empty")

    def test_the_helper_reads_the_same(self) -> None:
        store = self.new_store()
        with (
            mock.patch.object(reading_ahead, "_WORTH_A_HELPER", 5),
            mock.patch.object(reading_ahead, "_Helper", side_effect=reading_ahead._Helper) as helper,
        ):
            taken = self.snap(store)
        self.assertEqual(helper.call_count, 1)
        self.assertEqual(
            (taken.record.tally.files, taken.record.tally.changed_files, taken.gaps), (61, 61, 0)
        )
        self.restore(store, taken, self.work, self.folder / "back")
        self.assertEqual(tree(self.folder / "back" / "work"), tree(self.work))

    def test_a_helper_that_dies_loses_nothing(self) -> None:
        real = reading_ahead._Helper.ask

        def ask_and_kill(
            helper: reading_ahead._Helper, folder: int, files: list[Expected]
        ) -> Future[SmallRead | None]:
            helper._process.kill()
            return real(helper, folder, files)

        with (
            mock.patch.object(reading_ahead, "_WORTH_A_HELPER", 5),
            mock.patch.object(reading_ahead._Helper, "ask", ask_and_kill),
        ):
            taken = self.snap(self.new_store())
        self.assertEqual((taken.record.tally.files, taken.gaps), (61, 0))

    def test_the_helper_ends_with_its_socket_and_leaves_ctrl_c_to_the_main_process(self) -> None:
        helper = reading_ahead._Helper(bytes(32))
        folder = os.open(self.work / "part 1", os.O_RDONLY | os.O_DIRECTORY)
        self.addCleanup(os.close, folder)
        info = (self.work / "part 1" / "note 1.txt").stat()
        expected = [
            (b"note 1.txt", info.st_size, info.st_mtime_ns, info.st_ctime_ns, info.st_ino),
            (b"gone", 1, 2, 3, 4),
        ]
        first = helper.ask(folder, expected).result(30)
        assert first is not None
        helper._process.send_signal(signal.SIGINT)
        second = helper.ask(folder, expected).result(30)
        self.assertEqual(first, second)
        self.assertEqual((first.contents, first.attributes), ([b"11", None], {0: ((b"user.cue", b"LX 14"),)}))
        helper.close()
        self.assertEqual(helper._process.returncode, 0)

    def test_files_that_change_before_the_helper_comes_are_read_with_care(self) -> None:
        real = ReadAhead.read

        def change_first(ahead: ReadAhead, folder: int, files: list[Expected]) -> Batch:
            for name, *_ in files:
                if name == b"note 2.txt":
                    (self.work / "part 2" / "note 2.txt").write_text("longer than it was before")
                elif name == b"note 3.txt":
                    (self.work / "part 3" / "note 3.txt").unlink()
            return real(ahead, folder, files)

        with mock.patch.object(ReadAhead, "read", change_first):
            store = self.new_store()
            taken = self.snap(store)
        self.assertEqual(
            [(item.path[-10:], item.reason) for item in taken.record.left_out], [(b"note 3.txt", "vanished")]
        )
        found = {where[-10:]: entry for where, entry in contents(store, taken, None, True)}
        self.assertEqual(found[b"note 2.txt"].stat.size, len("longer than it was before"))
