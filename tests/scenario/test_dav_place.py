"""A folder on a WebDAV server is a place like any other, that promises less: against a server on loopback."""

from __future__ import annotations

import os
import time
from pathlib import Path

from good_tide.servers.folders import claim_of
from tests.support.base import GoodTideTest
from tests.support.server_contract import (
    CertificateContract,
    FaultContract,
    FolderContract,
    PasswordContract,
    StoreContract,
    check_full,
)
from tests.support.servers import ServedTest
from tests.support.web_servers import DavServer


class DavServedTest(ServedTest):
    """With a WebDAV server."""

    server: DavServer

    def made(self, folder: Path) -> DavServer:
        return DavServer(folder)


class DavPlaceTest(FolderContract, DavServedTest):
    promises = (False, True, False)

    def test_a_claim_that_was_left_behind_holds_up_nobody_for_long(self) -> None:
        self.put("lease/one", b"one", exclusive=True)
        claim = self.server.files / claim_of("lease/two")
        claim.mkdir()
        long_ago = time.time() - 3600
        os.utime(claim, (long_ago, long_ago))
        self.put("lease/two", b"two", exclusive=True)
        self.assertEqual((self.place.names("lease"), self.place.things()), (["one", "two"], ["lease", "tmp"]))
        self.assertEqual(list((self.server.files / "tmp").iterdir()), [])


class DavFaultTest(FaultContract, PasswordContract, CertificateContract, DavServedTest):
    pass


class DavStoreTest(StoreContract, DavServedTest):
    pass


class DigestTest(PasswordContract, DavServedTest):
    """A server that lets in by what shows that the password is known only (RFC 7616)."""

    def made(self, folder: Path) -> DavServer:
        return DavServer(folder, more=("--digest",))

    def test_it_lets_in(self) -> None:
        self.put("packs/a/large", bytes(1_000_000))
        self.assertEqual(self.place.size("packs/a/large"), 1_000_000)


class FullDavTest(GoodTideTest):
    def test_a_full_server_is_full_and_keeps_what_it_has(self) -> None:
        check_full(self, DavServer)
