"""A store on a share that is mounted, by a real client of a real server, which stands still in the middle."""

from __future__ import annotations

import os
import subprocess
import threading
import time
import unittest

from good_tide.core.errors import PlaceAwayError, PlaceFullError
from good_tide.lines.client import LineError, patience
from good_tide.lines.wire import Try
from good_tide.storage.place_kinds import folder_place
from good_tide.storage.share_place import SharePlace
from tests.support.base import GoodTideTest, program
from tests.support.mounted_share import MountedShare
from tests.support.store_life import StoreCommands
from tests.unit.storage.test_place import PlaceContract


class MountedShareTest(PlaceContract, StoreCommands, GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.share = MountedShare(self.folder / "share")
        self.addCleanup(self.share.end)
        where = folder_place(self.share.mounted)
        assert isinstance(where, SharePlace)
        self.where, self.place = where, where.files()
        self.addCleanup(where.line.end)

    def test_taken_released_swept_verified_and_brought_back(self) -> None:
        self.live_through(str(self.share.mounted / "store"))
        self.assertEqual(os.listdir(self.share.files / "store/tmp"), [])

    def test_while_its_server_stands_still_it_is_away_and_nothing_hangs(self) -> None:
        store = self.share.mounted / "store"
        self.done("store", "create", store, "--unencrypted")
        self.write("a.txt", "kept")
        words = ("snapshot", "--store", store, "--folder", self.work)
        self.done(*words)
        self.share.freeze()
        began = time.monotonic()
        for call in (("history", store), ("disks",), ("status",)):
            program(*call)
        self.assertLess(time.monotonic() - began, 120)
        self.share.freeze(False)
        self.done(*words)

    def test_one_that_stands_still_in_the_middle_is_given_up_and_goes_on(self) -> None:
        self.put("packs/a/one", b"one")
        patience.usual = False
        self.addCleanup(setattr, patience, "usual", True)
        self.share.freeze()
        began = time.monotonic()
        with self.assertRaisesRegex(PlaceAwayError, "the share does not answer"):
            self.place.read("packs/a/one")
        with self.assertRaises(PlaceAwayError):
            self.where.check_there()
        self.assertLess(time.monotonic() - began, 45)
        self.share.freeze(False)
        self.assertEqual(self.place.read("packs/a/one"), b"one")

    def test_a_server_that_goes_on_soon_is_waited_for(self) -> None:
        self.share.freeze()
        threading.Timer(3.0, self.share.freeze, (False,)).start()
        self.put("packs/a/two", bytes(3_000_000))
        self.assertEqual(self.place.names("packs"), ["a/two"])

    def test_one_whose_client_has_died_is_away(self) -> None:
        self.put("index/x", b"x")
        self.share.die()
        with self.assertRaises(PlaceAwayError):
            self.where.check_there()

    @unittest.skipIf(os.getuid() != 0, "only root can give the server a small disk")
    def test_a_full_share_is_full_and_keeps_what_it_has(self) -> None:
        subprocess.run(["mount", "-t", "tmpfs", "-o", "size=8m", "none", self.share.files], check=True)
        self.addCleanup(lambda: subprocess.run(["umount", "-l", self.share.files], check=True))
        self.put("packs/a/fits", os.urandom(5_000_000))
        with self.assertRaises(PlaceFullError):
            self.put("packs/a/more", os.urandom(5_000_000))
        self.assertEqual((self.place.names("packs"), self.place.names("tmp")), (["a/fits"], []))
        with self.assertRaises(LineError):
            self.where.line.ask(Try(5_000_000))
        self.assertEqual(sorted(os.listdir(self.share.files)), ["packs", "tmp"])

    def put(self, name: str, data: bytes) -> None:
        with self.place.create(name, "me-") as file:
            file.write(data)
            file.commit()
