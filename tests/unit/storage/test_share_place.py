"""Folders that another process asks for, as it does for shares that are mounted."""

from __future__ import annotations

import os
import signal
import threading
from pathlib import Path

from good_tide.core.errors import (
    DamageError,
    KeptError,
    NameTakenError,
    NotInPlaceError,
    PlaceAwayError,
    PlaceError,
    PlaceFullError,
)
from good_tide.lines import client
from good_tide.lines.mounts import on_share
from good_tide.lines.wire import TOO_LARGE, Failed, Put, Trouble, Try
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.place_kinds import folder_place, is_far, store_place
from good_tide.storage.share_place import SharePlace
from tests.support.base import GoodTideTest
from tests.unit.storage.test_place import PlaceContract


class SharePlaceTest(PlaceContract, GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "share é \udcff"
        self.root.mkdir()
        self.where = SharePlace(self.root)
        self.addCleanup(self.where.line.end)
        self.place = self.where.files()

    def put(self, name: str, data: bytes) -> None:
        with self.place.create(name, "me-") as file:
            file.write(data)
            file.commit()

    def test_what_comes_back_is_what_was_written(self) -> None:
        large = os.urandom(9_000_001)
        self.put("packs/a/large", large)
        self.assertEqual(self.place.read("packs/a/large"), large)
        self.assertEqual(self.place.read("packs/a/large", 8_999_990, 1 << 30), large[-11:])
        self.put("index/empty", b"")
        self.assertEqual((self.place.read("index/empty"), self.place.names("tmp")), (b"", []))
        self.assertEqual((self.root / "packs/a/large").read_bytes(), large)
        self.assertEqual(self.place.total_bytes(), len(large))
        self.assertEqual(self.place.room()[1], FolderPlace(self.root).files().room()[1])

    def test_of_two_who_make_a_name_one_is_refused(self) -> None:
        other = client.Line(self.root)
        self.addCleanup(other.end)
        taken: list[str] = []

        def race(line: client.Line, number: int) -> None:
            try:
                line.ask(Put(f"lease/{number}", "me-", True), b"mine")
            except client.LineError as error:
                taken.append(error.failed.trouble)

        for number in range(10):
            both = [threading.Thread(target=race, args=(line, number)) for line in (self.where.line, other)]
            for one in both:
                one.start()
            for one in both:
                one.join()
        self.assertEqual((taken, len(self.place.names("lease"))), (["taken"] * 10, 10))

    def test_a_killed_process_is_begun_anew(self) -> None:
        self.put("index/x", b"x")
        running = self.where.line._running
        assert running is not None
        os.kill(running.process.pid, signal.SIGKILL)
        running.process.wait()
        self.assertEqual(self.place.read("index/x"), b"x")

    def test_a_folder_that_is_not_there_is_made_or_is_away(self) -> None:
        inner = SharePlace(self.root / "new" / "folder")
        self.addCleanup(inner.line.end)
        with self.assertRaisesRegex(PlaceAwayError, "There is no folder"):
            inner.check_there()
        self.assertEqual(inner.nearest(), self.where)
        with self.assertRaises(PlaceAwayError):
            inner.files().names("packs")
        inner.make()
        inner.check_there()
        self.assertEqual((inner.nearest(), self.place.things()), (inner, ["new"]))

    def test_links_are_not_followed_and_what_is_no_file_is_not_there(self) -> None:
        (self.root / "index").symlink_to(self.folder)
        os.mkfifo(self.root / "pipe")
        (self.folder / "secret").write_bytes(b"elsewhere")
        with self.assertRaises(PlaceError):
            self.place.read("index/secret")
        with self.assertRaises(NotInPlaceError):
            self.place.read("pipe")
        self.assertEqual(self.place.things(), ["index", "pipe"])
        self.assertFalse(self.place.holds_only_files("index"))

    def test_names_that_are_no_words_do_not_stop_it(self) -> None:
        (self.root / "caf\udce9").write_bytes(b"")
        self.put("index/x", b"x")
        (self.root / "index" / "caf\udce9").write_bytes(b"")
        self.assertEqual(self.place.things(), ["caf\ufffd", "index", "tmp"])
        self.assertEqual(self.place.names("index"), ["caf\ufffd", "x"])

    def test_what_it_promises(self) -> None:
        found = self.where.line.ask(Try(100_000))
        self.assertEqual((found.durable, found.names_once, found.deletes), (True, True, True))
        self.assertGreater(min(found.up, found.down, found.round_trip), 0)
        self.assertEqual(os.listdir(self.root), [])

    def test_failures_are_told_as_those_of_a_disk(self) -> None:
        for failed, kind, words in (
            (Failed(1, Trouble.AWAY), PlaceAwayError, "does not answer"),
            (Failed(1, Trouble.NO_FOLDER), PlaceAwayError, "There is no folder"),
            (Failed(1, Trouble.TAKEN), NameTakenError, "by another"),
            (Failed(1, Trouble.OTHER, TOO_LARGE), DamageError, "larger than"),
            (Failed(1, Trouble.FULL, code=28), PlaceFullError, "no room left on the disk"),
            (Failed(1, Trouble.DENIED, code=13), PlaceError, "not permitted"),
            (Failed(1, Trouble.OTHER, code=30), PlaceError, "read-only"),
            (Failed(1, Trouble.OTHER, code=5), PlaceError, "Input/output error"),
        ):
            with self.subTest(failed=failed):
                found = self.where.error(failed, "Writing")
                self.assertIs(type(found), kind)
                self.assertIn(words, str(found))

    def test_where_nothing_may_be_deleted_it_stays(self) -> None:
        if os.getuid() == 0:
            self.skipTest("root may delete everywhere")
        self.put("index/x", b"x")
        (self.root / "index").chmod(0o500)
        self.addCleanup((self.root / "index").chmod, 0o700)
        with self.assertRaises(KeptError):
            self.place.remove("index/x")


class WhichPlaceTest(GoodTideTest):
    def test_the_mount_table_tells_what_is_on_a_share(self) -> None:
        table = self.folder / "mountinfo"
        lines = ["22 1 8:1 / / rw - ext4 /dev/sda1 rw"]
        for number, (kind, at) in enumerate((("cifs", "a"), ("ext4", "b"), ("fuse.sshfs", "c")), 30):
            lines.append(f"{number} 22 0:{number} / {self.folder}/{at} rw - {kind} what rw")
        table.write_text("\n".join(lines) + "\n")
        found = [on_share(self.folder / one / "not/there", table) for one in "abcd"]
        self.assertEqual(found, [True, False, True, False])

    def test_a_folder_of_a_disk_is_no_share(self) -> None:
        self.assertEqual(store_place(str(self.folder)), FolderPlace(self.folder))
        self.assertEqual(folder_place(self.folder), FolderPlace(self.folder))
        self.assertEqual([is_far(FolderPlace(Path("/x"))), is_far(SharePlace(Path("/x")))], [False, True])
