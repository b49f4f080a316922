"""What comes between a store and its server, and what is said and done then: restarts, silence, loss, a full
disk, other keys, logins that do not let in."""

from __future__ import annotations

import os
import shutil
import subprocess
import threading
import time
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


_LOSS = """
table inet loss {
  chain out {
    type filter hook output priority 0; policy accept;
    meta l4proto tcp numgen random mod 100 < 1 drop
  }
  chain in {
    type filter hook input priority 0; policy accept;
    meta l4proto tcp numgen random mod 100 < 1 drop
  }
}
"""


class LossyLineTest(GoodTideTest):
    """A server behind a line that loses a hundredth of all packets, and for a while all of them."""

    def setUp(self) -> None:
        super().setUp()
        if os.getuid() != 0 or not all(map(shutil.which, ("ip", "nft"))):
            self.skipTest("only root makes networks, with ip and nft: apt-get install iproute2 nftables")
        settings = Path(os.environ["XDG_CONFIG_HOME"]) / "good-tide"
        self.net = f"gt{os.getpid() % 100000}"
        third = os.getpid() % 250
        self.ip("netns", "add", self.net)
        self.addCleanup(self.ip, "netns", "del", self.net)
        self.ip("link", "add", self.net, "type", "veth", "peer", "name", "far", "netns", self.net)
        self.ip("addr", "add", f"10.213.{third}.1/30", "dev", self.net)
        self.ip("link", "set", self.net, "up")
        self.ip("-n", self.net, "addr", "add", f"10.213.{third}.2/30", "dev", "far")
        self.ip("-n", self.net, "link", "set", "far", "up")
        inside = ("ip", "netns", "exec", self.net)
        server = SshServer(self.folder / "ssh", before=inside, host=f"10.213.{third}.2")
        self.addCleanup(server.stop)
        server.let_in(settings)
        self.place = ServerPlace(server.address).files()
        self.addCleanup(line_to(server.address).end)
        self.nft(_LOSS)

    def ip(self, *words: str) -> None:
        """Change networks."""
        subprocess.run(["ip", *words], check=True, capture_output=True)

    def nft(self, rules: str) -> None:
        """Say what the server's network lets through."""
        words = ["ip", "netns", "exec", self.net, "nft", "-f", "-"]
        subprocess.run(words, input=rules.encode(), check=True, capture_output=True)

    def test_nothing_is_lost_and_silence_is_waited_for(self) -> None:
        data = os.urandom(30_000_000)
        self.place.names("packs")
        silence = threading.Timer(0.1, self.nft, ["add rule inet loss in drop"])
        again = threading.Timer(6.0, self.nft, ["flush chain inet loss in"])
        for timer in (silence, again):
            timer.start()
        began = time.monotonic()
        with self.place.create("packs/a/large", "me-") as file:
            file.write(data)
            file.commit()
        self.assertGreater(time.monotonic() - began, 4)
        parts = [self.place.read("packs/a/large", at, 1 << 20) for at in range(0, len(data), 1 << 20)]
        self.assertEqual(b"".join(parts), data)
        again.join()
