"""The holding area: limits, losses that are told, carrying over, and runs that go on after a cut."""

from __future__ import annotations

import os
import random
import time
from unittest import mock

from good_tide.core.errors import StoppedError
from good_tide.core.progress import Progress, Silent
from good_tide.core.records import Snapshot
from good_tide.operations.integrity.verify import verify
from good_tide.operations.snapshot.read_ahead import ReadAhead
from good_tide.operations.snapshot.resume_log import ResumeLog
from good_tide.operations.snapshot.sightings import NO_STAMPS
from good_tide.operations.snapshot.small_files import UNTRUSTED_NS
from tests.support.base import PASSPHRASE, GoodTideTest, open_store

MIB = 1 << 20


class ResumeTest(GoodTideTest):
    """A run that is cut off reads again only what had not arrived."""

    def setUp(self) -> None:
        super().setUp()
        chance = random.Random(3)
        for folder in range(12):
            for number in range(20):
                self.write(f"{folder:02}/{number:02}.bin", chance.randbytes(60_000))
        self.write("99/film.bin", chance.randbytes(96 * MIB))
        os.sync()
        self.patch_packs = mock.patch("good_tide.storage.writer.PACK_BYTES", MIB)
        self.patch_packs.start()
        self.addCleanup(self.patch_packs.stop)
        patch = mock.patch("good_tide.operations.snapshot.resume_log._NOTE_SECONDS", 0.0)
        patch.start()
        self.addCleanup(patch.stop)

    def cut_after(self, part: float) -> int:
        """Take a snapshot that is stopped when so much was read; bytes read."""
        total = sum(path.stat().st_size for path in self.work.rglob("*") if path.is_file())
        read = 0

        class Cut(Silent):
            def report(self, progress: Progress) -> None:
                nonlocal read
                read = progress.bytes_done
                if progress.bytes_done > part * total:
                    raise StoppedError("cut off")

        with (
            mock.patch("good_tide.operations.snapshot.run_notes._REPORT_SECONDS", 0.0),
            self.assertRaises(StoppedError),
        ):
            self.snap(open_store(self.folder / "store", PASSPHRASE), 0, control=Cut())
        return read

    def read_again(self) -> tuple[Snapshot, int, int]:
        """Take the snapshot to its end: it, small files read, and bytes of large ones read."""
        small, large = 0, 0
        read_batch, preadv = ReadAhead.read, os.preadv

        def count_batch(reader: ReadAhead, folder: int, files: list[tuple[object, ...]]) -> object:
            nonlocal small
            small += len(files)
            return read_batch(reader, folder, files)  # type: ignore[arg-type]

        def count_bytes(handle: int, buffers: list[memoryview], offset: int) -> int:
            nonlocal large
            got = preadv(handle, buffers, offset)
            large += got
            return got

        with mock.patch.object(ReadAhead, "read", count_batch), mock.patch("os.preadv", count_bytes):
            taken = self.snap(open_store(self.folder / "store", PASSPHRASE), 1)
        return taken, small, large

    def age(self) -> None:
        """Files older than the time within which changes cannot be told apart."""
        time.sleep(UNTRUSTED_NS / 1e9 + 0.05)

    def test_small_files_and_the_middle_of_a_large_one(self) -> None:
        self.new_store()
        self.age()
        self.cut_after(0.95)
        self.assertEqual(open_store(self.folder / "store", PASSPHRASE).snapshot_ids(), [])
        taken, small, large = self.read_again()
        self.assertEqual((taken.record.tally.files, taken.record.tally.changed_files), (241, 241))
        self.assertLess(small, 240 / 4)
        self.assertLess(large, 64 * MIB)
        self.assertTrue(verify(open_store(self.folder / "store", PASSPHRASE), True, Silent()).ok)
        self.assertEqual(list((self.state / "resume").iterdir()), [])
        into = self.folder / "into"
        self.restore(open_store(self.folder / "store", PASSPHRASE), taken, self.work, into)
        self.assertEqual(
            (into / "work" / "99" / "film.bin").read_bytes(), (self.work / "99" / "film.bin").read_bytes()
        )

    def test_what_changed_meanwhile_is_read_anew(self) -> None:
        self.new_store()
        self.age()
        self.cut_after(0.75)
        changed = self.work / "99" / "film.bin"
        with changed.open("r+b") as file:
            file.write(b"another beginning")
        (self.work / "00" / "00.bin").write_bytes(b"another one")
        taken, _, large = self.read_again()
        self.assertGreater(large, 95 * MIB)
        into = self.folder / "into"
        self.restore(open_store(self.folder / "store", PASSPHRASE), taken, self.work, into)
        for name in ("99/film.bin", "00/00.bin"):
            self.assertEqual((into / "work" / name).read_bytes(), (self.work / name).read_bytes())

    def test_a_log_that_is_torn_flipped_or_not_writable_harms_nothing(self) -> None:
        self.new_store()
        self.age()
        self.cut_after(0.5)
        log = next((self.state / "resume").iterdir())
        data = bytearray(log.read_bytes())
        data[len(data) // 2] ^= 0xFF
        log.write_bytes(bytes(data[:-7]))
        taken, small, _ = self.read_again()
        self.assertGreater(small, 0)
        self.assertEqual(taken.record.tally.files, 241)
        self.assertTrue(verify(open_store(self.folder / "store", PASSPHRASE), True, Silent()).ok)
        blocked = self.folder / "blocked"
        blocked.write_text("a file where a folder should be")
        with ResumeLog(blocked / "log", lambda chunk: True) as unusable:
            unusable.note_folder(b"/x", [b""], NO_STAMPS)
            self.assertEqual(unusable.files_of(b"/x"), {})

    def test_a_second_cut_goes_on_from_the_first(self) -> None:
        self.new_store()
        self.age()
        first = self.cut_after(0.08)
        second = self.cut_after(0.9)
        self.assertGreater(second, first)
        taken, small, _ = self.read_again()
        self.assertLess(small, 240 / 4)
        self.assertEqual(taken.record.tally.files, 241)
