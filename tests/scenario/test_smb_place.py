"""A folder on a share of an SMB server is a place like any other: against Samba's server on loopback."""

from __future__ import annotations

import os
import unittest
from pathlib import Path

import msgspec

from good_tide.core.addresses import Address
from good_tide.core.errors import PlaceAwayError
from good_tide.lines.client import line_to
from good_tide.operations.places.servers import folders_in
from good_tide.servers.stand_ins.smb import helpers_of
from good_tide.storage.server_place import ServerPlace
from tests.support.base import GoodTideTest
from tests.support.server_contract import (
    AppendOnlyContract,
    FaultContract,
    FolderContract,
    PartedContract,
    PasswordContract,
    StoreContract,
    check_full,
)
from tests.support.servers import ServedTest
from tests.support.smb_server import SmbServer


class SmbServedTest(ServedTest):
    """With Samba's server."""

    server: SmbServer
    more = ""

    def made(self, folder: Path) -> SmbServer:
        return SmbServer(folder, self.more)


class SmbPlaceTest(FolderContract, SmbServedTest):
    def test_room_is_the_servers(self) -> None:
        free, total = self.place.room()
        found = os.statvfs(self.server.files)
        self.assertAlmostEqual(total, found.f_blocks * found.f_frsize, delta=1 << 20)
        self.assertAlmostEqual(free, found.f_bavail * found.f_frsize, delta=1 << 30)


class StrictSmbPlaceTest(FolderContract, SmbServedTest):
    """The oldest version of the protocol that is spoken, one block at a time, and names that are the same in
    capitals."""

    more = "server max protocol = SMB2_02\n  case sensitive = no\n  smb2 max credits = 32"


class SealedSmbPlaceTest(FolderContract, SmbServedTest):
    """A server that takes what is encrypted only."""

    more = "smb encrypt = required"


class SmbFaultTest(PartedContract, FaultContract, PasswordContract, SmbServedTest):
    def test_a_server_that_ends_leaves_no_process_behind(self) -> None:
        self.assertIn("store", folders_in(msgspec.structs.replace(self.server.address, path="/")))
        self.assertTrue(helpers_of(self.server.folder))
        self.server.end()
        self.assertEqual(helpers_of(self.server.folder), [])

    def test_a_share_that_is_not_there_is_said(self) -> None:
        where = ServerPlace(msgspec.structs.replace(self.server.address, path="/another/desk"))
        self.addCleanup(line_to(where.address).end)
        with self.assertRaisesRegex(PlaceAwayError, "There is no folder"):
            where.check_there()


class SmbStoreTest(StoreContract, SmbServedTest):
    pass


@unittest.skipUnless(
    list(Path("/usr/lib").glob("*/samba/vfs/worm.so")), "worm is missing: apt-get install samba-vfs-modules"
)
class AppendOnlySmbTest(AppendOnlyContract, ServedTest):
    """A share that lets nothing be changed or deleted that is some seconds old, beside one that does."""

    grace = 3.0

    def made(self, folder: Path) -> SmbServer:
        return SmbServer(
            folder,
            f"[append]\n  path = {folder}/served\n  read only = no\n"
            "  vfs objects = worm\n  worm:grace_period = 2",
        )

    def adding(self) -> Address:
        return msgspec.structs.replace(self.server.address, path="/append/store")


class FullSmbTest(GoodTideTest):
    def test_a_full_server_is_full_and_keeps_what_it_has(self) -> None:
        check_full(self, lambda folder, before: SmbServer(folder, before=before))
