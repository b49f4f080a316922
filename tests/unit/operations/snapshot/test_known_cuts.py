"""What is known of how changed files are cut: less is read, and nothing is believed."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from unittest import mock

from good_tide.core.records import Snapshot
from good_tide.operations.snapshot.known_cuts import KnownCuts
from good_tide.storage.fine import EarlierVersion
from tests.support.base import GoodTideTest, open_store

MIB = 1024 * 1024


_LITTLE = 4 * MIB
"""Bytes read back where cuts are known: 0.4 to 1.4 MB as a rule, seldom 3.6, as each store cuts elsewhere.
Where they are not it is 5.3 to 7.4."""


class KnownCutsTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.new_store(passphrase=None)
        self.content = bytearray(random.Random(1).randbytes(8 * MIB))
        self.hour = 0
        self.read = 0
        self.write("base.db", bytes(self.content))
        self.snap(open_store(self.folder / "store", None))
        for number in range(3):
            self.change(number)

    def change(self, number: int) -> Snapshot:
        """Some bytes in each part of the file are written, and a snapshot is taken."""
        for at in range(0, 8 * MIB, MIB) if number == 0 else (number * 100_000,):
            self.content[at : at + 50] = random.Random(number + at).randbytes(50)
        self.write("base.db", bytes(self.content))
        self.hour += 1
        with self.reading():
            return self.snap(open_store(self.folder / "store", None), self.hour)

    @contextmanager
    def reading(self) -> Iterator[None]:
        """How many bytes of earlier versions are read back is counted."""
        self.read, real = 0, EarlierVersion.read

        def read(earlier: EarlierVersion, begin: int, end: int) -> bytes | None:
            self.read += end - begin
            return real(earlier, begin, end)

        with mock.patch.object(EarlierVersion, "read", read):
            yield

    def assert_comes_back(self, snapshot: Snapshot, name: str) -> None:
        self.restore(open_store(self.folder / "store", None), snapshot, self.work, self.folder / name)
        self.assertEqual((self.folder / name / "work" / "base.db").read_bytes(), bytes(self.content))

    @property
    def file(self) -> Path:
        (file,) = (self.state / "cuts").iterdir()
        return file

    def test_only_what_changed_is_read_back(self) -> None:
        taken = self.change(3)
        self.assertLess(self.read, _LITTLE)
        self.assert_comes_back(taken, "back")
        self.file.unlink()
        taken = self.change(4)
        self.assertGreater(self.read, 3 * MIB, "nothing was known")
        self.assert_comes_back(taken, "back again")
        self.change(5)
        self.assertLess(self.read, _LITTLE)

    def test_bytes_inserted_before_move_what_is_known(self) -> None:
        self.content[100:100] = b"something more"
        taken = self.change(3)
        self.assertLess(self.read, _LITTLE)
        self.assert_comes_back(taken, "back")

    def test_a_damaged_file_is_begun_anew_and_a_flipped_bit_is_not_believed(self) -> None:
        with sqlite3.connect(self.file) as db:
            for digest, cuts in db.execute("SELECT digest, cuts FROM content").fetchall():
                turned = bytearray(cuts)
                turned[-40] ^= 1
                db.execute("UPDATE content SET cuts = ? WHERE digest = ?", (bytes(turned), digest))
        db.close()
        taken = self.change(3)
        self.assertGreater(self.read, 3 * MIB)
        self.assert_comes_back(taken, "back")
        self.file.write_bytes(b"no database at all, and longer than a header of one" * 100)
        taken = self.change(4)
        self.assert_comes_back(taken, "back again")
        self.change(5)
        self.assertLess(self.read, _LITTLE)

    def test_a_folder_that_cannot_be_written_only_means_that_more_is_read(self) -> None:
        self.file.unlink()
        (self.state / "cuts").rmdir()
        (self.state / "cuts").write_bytes(b"in the way")
        self.assert_comes_back(self.change(3), "back")

    def test_of_many_contents_the_last_stay(self) -> None:
        keys = open_store(self.folder / "store", None).keys
        with mock.patch("good_tide.operations.snapshot.known_cuts._MOST_FILES", 3):
            with KnownCuts(self.folder / "some.db", keys) as cuts:
                for number in range(6):
                    cuts.keep(keys.digest(bytes([number])), [(keys.chunk_id(b"x"), number)])
            with KnownCuts(self.folder / "some.db", keys) as cuts:
                found = [cuts.of(keys.digest(bytes([number]))) for number in range(6)]
        self.assertEqual([one[0][1] if one else None for one in found], [None, None, None, 3, 4, 5])
