"""What comes between a store and its server, and what is said and done then: restarts, silence, loss, a full
disk, other keys, logins that do not let in."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

from good_tide.core.addresses import address
from good_tide.core.errors import (
    LoginError,
    PlaceError,
    ServerKeyError,
)
from good_tide.lines.client import line_to
from good_tide.lines.wire import Begin
from good_tide.storage.server_place import ServerPlace
from tests.support.base import GoodTideTest
from tests.support.server_contract import FaultContract, check_full
from tests.support.ssh_server import SshServedTest, SshServer


class FaultTest(FaultContract, SshServedTest):
    def test_a_new_key_is_asked_once_and_a_changed_one_refused(self) -> None:
        known = self.settings / "known_hosts"
        known.unlink()
        with self.assertRaises(ServerKeyError) as new:
            self.where.check_there()
        self.assertEqual((new.exception.known, new.exception.shown[:7]), ("", "SHA256:"))
        line_to(self.server.address).begin_with(Begin(self.where.called, trust=new.exception.shown))
        self.where.check_there()
        line_to(self.server.address).begin_with(Begin(self.where.called))
        self.where.check_there()
        self.server.stop()
        self.server.new_host_key()
        self.server.start()
        with self.assertRaises(ServerKeyError) as changed:
            self.where.check_there()
        self.assertEqual(changed.exception.known, new.exception.shown)
        self.assertNotEqual(changed.exception.shown, new.exception.shown)
        with self.assertRaisesRegex(ServerKeyError, "another key than before"):
            self.put("index/x", b"x")
        self.assertFalse((self.server.files / "index").exists())
        line_to(self.server.address).begin_with(Begin(self.where.called, trust=new.exception.shown))
        with self.assertRaises(ServerKeyError):
            self.where.check_there()
        line_to(self.server.address).begin_with(Begin(self.where.called, trust=changed.exception.shown))
        self.where.check_there()

    def test_who_is_not_let_in_is_told(self) -> None:
        (self.server.folder / "allowed").write_text("")
        with self.assertRaisesRegex(LoginError, "does not let"):
            self.where.check_there()

    def test_a_key_with_a_passphrase_asks_for_it(self) -> None:
        words = ["ssh-keygen", "-q", "-p", "-P", "", "-N", "lantern slow", "-f", str(self.server.key)]
        subprocess.run(words, check=True, stdout=subprocess.DEVNULL)
        with self.assertRaises(LoginError) as refused:
            self.where.check_there()
        self.assertTrue(refused.exception.of_key)
        line_to(self.server.address).begin_with(Begin(self.where.called, key_passphrase="lantern slow"))
        self.where.check_there()

    def test_a_key_that_is_not_there_is_named(self) -> None:
        self.server.key.unlink()
        with self.assertRaisesRegex(LoginError, f"the key {self.server.key} cannot be read"):
            self.where.check_there()

    def test_a_name_of_the_settings_of_ssh_is_honoured(self) -> None:
        (self.settings / "logins.toml").unlink()
        (self.settings / "known_hosts").rename(self.settings / "kept")
        folder = Path(os.environ["HOME"]) / ".ssh"
        folder.mkdir(parents=True)
        (self.settings / "kept").rename(folder / "known_hosts")
        (folder / "config").write_text(
            f"Host harbour\n HostName 127.0.0.1\n Port {self.server.port}\n"
            f" User {self.server.address.user}\n IdentityFile {self.server.key}\n"
        )
        where = ServerPlace(address(f"sftp://harbour{self.server.files}"))
        self.addCleanup(line_to(where.address).end)
        where.check_there()

    def test_credentials_that_others_can_read_are_not_used(self) -> None:
        (self.settings / "logins.toml").chmod(0o644)
        with self.assertRaisesRegex(LoginError, "can be read by others"):
            self.where.check_there()

    def test_what_may_not_be_written_is_said(self) -> None:
        if os.getuid() == 0:
            self.skipTest("root may write everywhere")
        self.server.files.chmod(0o500)
        self.addCleanup(self.server.files.chmod, 0o700)
        with self.assertRaisesRegex(PlaceError, "does not permit"):
            self.put("index/x", b"x")


class FullServerTest(GoodTideTest):
    def test_a_full_server_is_full_and_keeps_what_it_has(self) -> None:
        check_full(self, lambda folder, before: SshServer(folder, before=before))
