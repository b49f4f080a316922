"""A folder in object storage is a place like any other: against storage on loopback."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

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
    def test_many_objects_are_listed_part_by_part(self) -> None:
        names = [f"{number:04}" for number in range(1_003)]
        with ThreadPoolExecutor(8) as pool:
            list(pool.map(lambda name: self.put(f"index/{name}", b"x"), names))
        self.assertEqual(self.place.names("index"), names)
        self.assertGreater(self.place.room()[0], 1 << 45)


class ObjectFaultTest(FaultContract, PasswordContract, CertificateContract, ObjectServedTest):
    pass


class ObjectStoreTest(StoreContract, ObjectServedTest):
    pass
