"""What belongs to people is not touched, and nobody is led astray: half-made stores, links of others, powers,
sockets, deep folders."""

from __future__ import annotations

import os
import unittest
from unittest import mock

from good_tide.core.entries import Entry, Extent, Extra, Kind, Stat
from good_tide.core.pages import encode_page
from good_tide.core.records import Snapshot, SnapshotRecord
from good_tide.storage.content import small_digest
from good_tide.storage.store import Store
from good_tide.storage.writer import WriteSession
from tests.support.base import MACHINE, T0, GoodTideTest


class PowersTest(GoodTideTest):
    """Bits and attributes that give powers come back only with the owner."""

    def made(self, **facts: int) -> tuple[Store, Snapshot]:
        store = self.new_store(passphrase=None)
        with WriteSession(store, "x-") as session:
            session.put(b"run me")
            chunk = store.keys.chunk_id(b"run me")
            extra = Extra(
                attributes=(
                    (b"security.capability", bytes.fromhex("0100000202000000" + "00" * 12)),
                    (b"user.kind", b"tool"),
                )
            )
            stat = Stat(**{"mode": 0o6755, "size": 6, **facts})
            entry = Entry(
                b"tool", Kind.FILE, stat, small_digest(store.keys, b"run me"), (Extent(chunk, 0, 6),), extra
            )
            page = session.put_page(encode_page([entry]))
            session.settle()
            roots = encode_page(
                [Entry(b"/office", Kind.FOLDER, Stat(mode=0o755), extents=(Extent(page, 0, 0),))]
            )
            return store, session.publish(lambda new, stored: SnapshotRecord(T0, MACHINE, roots))

    def test_without_the_owner_they_are_dropped_and_said(self) -> None:
        store, taken = self.made(uid=54321, gid=54321)
        with mock.patch("os.geteuid", return_value=1000):
            report = self.restore(store, taken, b"/office", self.folder / "into")
        tool = self.folder / "into/office/tool"
        self.assertEqual((tool.stat().st_mode & 0o7777, os.listxattr(tool)), (0o755, ["user.kind"]))
        said = " ".join(note.reason for note in report.metadata_notes)
        self.assertIn("set-user-id", said)
        self.assertIn("security.capability", said)

    @unittest.skipUnless(os.geteuid() == 0, "only root gives files to others")
    def test_with_the_owner_they_are_back(self) -> None:
        store, taken = self.made(uid=54321, gid=54321)
        self.assertEqual(self.restore(store, taken, b"/office", self.folder / "into").metadata_notes, [])
        tool = (self.folder / "into/office/tool").stat()
        self.assertEqual((tool.st_mode & 0o7777, tool.st_uid), (0o6755, 54321))

    def test_what_a_file_system_refuses_is_told_once_and_everything_is_there(self) -> None:
        for number in range(30):
            self.write(f"letters/{number}.txt", f"letter {number}")
        store = self.new_store(passphrase=None)
        taken = self.snap(store)
        refuse = mock.Mock(side_effect=PermissionError(1, "Operation not permitted"))
        with (
            mock.patch("os.fchmod", refuse),
            mock.patch("os.utime", refuse),
            mock.patch("os.geteuid", return_value=0),
            mock.patch("good_tide.operations.restore.metadata._chown", refuse),
        ):
            report = self.restore(store, taken, self.work, self.folder / "into")
        self.assertEqual((report.problems, len(list((self.folder / "into").rglob("*.txt")))), ([], 30))
        self.assertEqual(len(report.metadata_notes), 3)
        self.assertTrue(
            all("and of 31 more" in note.reason for note in report.metadata_notes), report.metadata_notes
        )
