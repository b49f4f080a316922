"""Servers behind a line that loses a hundredth of all packets, and all of them for a while, or is long: in
a network of this process's own, which ends with it."""

from __future__ import annotations

import ctypes
import os
import shutil
import subprocess
import threading
import time
import unittest
from pathlib import Path

from tests.support.far_line import FAR, FarLine
from tests.support.servers import ServedFolder, ServedTest
from tests.support.smb_server import SmbServer
from tests.support.ssh_server import SshServer
from tests.support.web_servers import DavServer, ObjectServer

_NEW_NETWORK = 0x40000000
"""``CLONE_NEWNET`` (unshare(2))."""
_LOSS = """
table inet loss {
  chain out {
    type filter hook output priority 0; policy accept;
    meta l4proto tcp numgen random mod 100 < 1 drop
  }
  chain in {
    type filter hook input priority 0; policy accept;
  }
}
"""
_SIZE, _SILENCE = 20_000_000, 5.0
_FAR_SIZE = 4_000_000


def setUpModule() -> None:
    """A network with nothing in it but what these tests begin."""
    if os.getuid() != 0 or not all(map(shutil.which, ("ip", "nft"))):
        raise unittest.SkipTest(
            "only root makes networks, with ip and nft: apt-get install iproute2 nftables"
        )
    library = ctypes.CDLL(None, use_errno=True)
    if library.unshare(_NEW_NETWORK) != 0:
        raise unittest.SkipTest(f"no network of one's own here: {os.strerror(ctypes.get_errno())}")
    subprocess.run(["ip", "link", "set", "lo", "up"], check=True)


def let_through(rules: str) -> None:
    """Say what the network lets through."""
    subprocess.run(["nft", "-f", "-"], input=rules.encode(), check=True, capture_output=True)


class LossyTest(ServedTest):
    """One kind of server."""

    def made(self, folder: Path) -> ServedFolder:
        return SshServer(folder)

    def setUp(self) -> None:
        super().setUp()
        let_through(_LOSS)
        self.addCleanup(let_through, "flush ruleset")

    def test_nothing_is_lost_and_silence_is_waited_for(self) -> None:
        data = os.urandom(_SIZE)
        self.place.names("packs")
        silence = threading.Timer(0.02, let_through, ["add rule inet loss in drop"])
        again = threading.Timer(_SILENCE, let_through, ["flush chain inet loss in"])
        for timer in (silence, again):
            timer.start()
        silence.join()
        began = time.monotonic()
        with self.place.create("packs/a/large", "me-") as file:
            file.write(data)
            file.commit()
        self.assertGreater(time.monotonic() - began, _SILENCE - 1)
        again.join()
        parts = [self.place.read("packs/a/large", at, 1 << 20) for at in range(0, len(data), 1 << 20)]
        self.assertEqual(b"".join(parts), data)


class LossySmbTest(LossyTest):
    def made(self, folder: Path) -> ServedFolder:
        return SmbServer(folder)


class LossyDavTest(LossyTest):
    def made(self, folder: Path) -> ServedFolder:
        return DavServer(folder)


class LossyObjectTest(LossyTest):
    def made(self, folder: Path) -> ServedFolder:
        return ObjectServer(folder)


@unittest.skipUnless(os.access("/dev/net/tun", os.W_OK), "/dev/net/tun cannot be used here")
class FarTest(ServedTest):
    """One kind of server, 20 ms away, behind a line that loses a hundredth of all packets."""

    one_connection = True
    """Whether all goes over one connection; others have some, and begin more when much is asked."""

    def near(self, folder: Path) -> ServedFolder:
        """The server."""
        return SshServer(folder)

    def made(self, folder: Path) -> ServedFolder:
        server = self.near(folder)
        server.host = FAR
        return server

    def setUp(self) -> None:
        self.line = FarLine(20, 100)
        self.addCleanup(self.line.end)
        super().setUp()

    def test_no_connection_is_lost(self) -> None:
        data = os.urandom(_FAR_SIZE)
        self.put("index/x", b"x")
        before = self.line.connections()
        self.put("packs/a/large", data)
        parts = [self.place.read("packs/a/large", at, 1 << 20) for at in range(0, len(data), 1 << 20)]
        self.assertEqual(b"".join(parts), data)
        self.assertGreater(before, 0, "it went over the line")
        if self.one_connection:
            self.assertEqual(self.line.connections(), before)


class FarSmbTest(FarTest):
    def near(self, folder: Path) -> ServedFolder:
        return SmbServer(folder)


class FarDavTest(FarTest):
    one_connection = False

    def near(self, folder: Path) -> ServedFolder:
        return DavServer(folder)


class FarObjectTest(FarTest):
    one_connection = False

    def near(self, folder: Path) -> ServedFolder:
        return ObjectServer(folder)


if __name__ == "__main__":
    unittest.main()
