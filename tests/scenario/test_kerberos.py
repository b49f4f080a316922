"""Logins by a ticket of Kerberos: real servers of tickets, of SSH and of shares, on loopback."""

from __future__ import annotations

import os
import unittest
from pathlib import Path

from good_tide.core.errors import LoginError
from good_tide.lines.client import line_to
from good_tide.storage.server_place import ServerPlace
from tests.support.base import GoodTideTest
from tests.support.kerberos import Realm
from tests.support.servers import ServedFolder
from tests.support.smb_server import SmbServer
from tests.support.ssh_server import SshServer


class KerberosTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.realm = Realm(self, self.folder / "realm")
        self.settings = Path(os.environ["XDG_CONFIG_HOME"]) / "good-tide"
        self.settings.mkdir(parents=True, exist_ok=True)

    def check(self, server: ServedFolder) -> None:
        """Without a ticket nobody is let in; with one no password is asked for."""
        self.addCleanup(server.end)
        server.host = "localhost"
        where = ServerPlace(server.address)
        self.addCleanup(line_to(where.address).end)
        with self.assertRaises(LoginError):
            where.check_there()
        self.realm.give_ticket()
        line_to(where.address).end()
        where.check_there()
        with where.files().create("index/x", "me-") as file:
            file.write(b"by ticket")
            file.commit()
        self.assertEqual((server.files / "index/x").read_bytes(), b"by ticket")

    def test_a_ticket_opens_a_share(self) -> None:
        self.check(SmbServer(self.folder / "smb", Realm.settings.format(keys=self.realm.keys)))

    @unittest.skipIf(os.getuid() != 0, "only root's server may ask for another's ticket")
    def test_a_ticket_logs_in_by_ssh(self) -> None:
        server = SshServer(self.folder / "ssh")
        (server.folder / "allowed").write_text("")
        with open(server.folder / "config", "a", encoding="utf-8") as file:
            file.write("GSSAPIAuthentication yes\nGSSAPIStrictAcceptorCheck no\n")
        server.stop()
        server.start()
        public = " ".join((server.folder / "host.pub").read_text().split()[:2])
        (self.settings / "known_hosts").write_text(f"[localhost]:{server.port} {public}\n")
        self.check(server)


if __name__ == "__main__":
    unittest.main()
