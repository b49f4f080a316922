"""A folder in object storage is a place like any other: against storage on loopback."""

from __future__ import annotations

import os
import unittest
from pathlib import Path

import msgspec

from good_tide.core.addresses import Address
from good_tide.core.errors import NameTakenError, PlaceFullError
from good_tide.servers.stand_ins.s3 import ADDER
from tests.support.base import program
from tests.support.server_contract import (
    AppendOnlyContract,
    CertificateContract,
    FaultContract,
    PartedContract,
    PasswordContract,
    ServerContract,
    StoreContract,
)
from tests.support.servers import ServedTest
from tests.support.web_servers import ObjectServer


class ObjectServedTest(ServedTest):
    """With object storage."""

    server: ObjectServer

    def made(self, folder: Path) -> ObjectServer:
        return ObjectServer(folder)


class ObjectPlaceTest(ServerContract, ObjectServedTest):
    def test_its_room_is_not_told(self) -> None:
        self.assertGreater(self.place.room()[0], 1 << 45)


class ObjectFaultTest(PartedContract, FaultContract, PasswordContract, CertificateContract, ObjectServedTest):
    pass


class LateListingsTest(ServedTest):
    """What was written is not listed at once, and what was removed is listed still."""

    def made(self, folder: Path) -> ObjectServer:
        return ObjectServer(folder, more=("--lag", "2"))

    def test_no_store_is_made_there_and_trying_it_says_why(self) -> None:
        store = str(self.server.address.inside("store"))
        words = "does not list at once"
        tried = program("place", "try", store)
        self.assertIn(words, tried.stdout + tried.stderr)
        made = program("store", "create", store, "--unencrypted")
        self.assertEqual(made.returncode, 3)
        self.assertIn(words, made.stderr)
        self.assertIn("never late", made.stderr)


class SmallPartsTest(ObjectServedTest):
    """No request of more than 6 MB is taken."""

    def made(self, folder: Path) -> ObjectServer:
        return ObjectServer(folder, more=("--most", "6000000"))

    def test_what_is_larger_is_put_in_parts(self) -> None:
        for name, size in (("a", 14_000_000), ("b", 5 << 20), ("c", 6_000_001), ("d", 20 << 20)):
            data = os.urandom(size)
            self.put(f"packs/{name}", data)
            self.assertEqual(self.place.read(f"packs/{name}"), data)
        self.assertEqual(self.place.names("packs"), ["a", "b", "c", "d"])
        with self.assertRaises(NameTakenError):
            self.put("packs/b", bytes(12_000_000), exclusive=True)
        self.assertEqual(self.place.size("packs/b"), 5 << 20)


class FullObjectTest(ObjectServedTest):
    """A bucket with a quota."""

    def made(self, folder: Path) -> ObjectServer:
        return ObjectServer(folder, more=("--room", "8000000"))

    def test_a_full_bucket_is_full_and_keeps_what_it_has(self) -> None:
        fits = os.urandom(5_000_000)
        self.put("packs/a/fits", fits)
        with self.assertRaises(PlaceFullError):
            self.put("packs/a/more", os.urandom(5_000_000))
        self.assertEqual((self.place.names("packs"), self.place.read("packs/a/fits")), (["a/fits"], fits))


class ObjectStoreTest(StoreContract, AppendOnlyContract, ObjectServedTest):
    def adding(self) -> Address:
        adds = msgspec.structs.replace(self.server.address.inside("store"), user=ADDER)
        with open(self.settings / "logins.toml", "a", encoding="utf-8") as file:
            file.write(f'["{adds.server}"]\npassword = "{self.server.password}"\n')
        return adds


if __name__ == "__main__":
    unittest.main()
