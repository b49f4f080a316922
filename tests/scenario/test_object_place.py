"""A folder in object storage is a place like any other: against storage on loopback."""

from __future__ import annotations

import json
import os
from pathlib import Path

import msgspec

from good_tide.servers.stand_ins.s3 import ADDER
from tests.support.base import program
from tests.support.server_contract import (
    CertificateContract,
    FaultContract,
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


class ObjectFaultTest(FaultContract, PasswordContract, CertificateContract, ObjectServedTest):
    pass


class ObjectStoreTest(StoreContract, ObjectServedTest):
    def test_who_may_only_add_takes_snapshots_and_destroys_nothing(self) -> None:
        whole = self.server.address.inside("store")
        adds = msgspec.structs.replace(whole, user=ADDER)
        with open(self.settings / "logins.toml", "a", encoding="utf-8") as file:
            file.write(f'["{adds.server}"]\npassword = "{self.server.password}"\n')
        self.done("store", "create", str(whole), "--unencrypted")
        self.assertIn("lets nothing be deleted by this login", self.done("place", "try", str(adds)))
        words = ("--store", str(adds), "--folder", str(self.work))
        for number in range(3):
            self.write("plan.bin", os.urandom(200_000) + bytes([number]))
            self.done("snapshot", *words)
        listed = json.loads(self.done("history", str(adds), "--json"))["snapshots"]
        self.assertEqual(len(listed), 3)
        for refused in (("release", str(adds), listed[0]["snapshot"]), ("sweep", str(adds))):
            done = program(*refused)
            self.assertEqual(done.returncode, 3, done.stdout + done.stderr)
            self.assertIn("lets nothing be deleted by this login", done.stderr)
        self.done("verify", str(adds), "--read-all")
        self.done("release", str(whole), listed[0]["snapshot"])
        self.done("sweep", str(whole))
        self.done("snapshot", *words)
        self.assertEqual(len(json.loads(self.done("history", str(whole), "--json"))["snapshots"]), 3)
