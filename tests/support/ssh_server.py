"""OpenSSH's server on loopback, for a folder of a test."""

from __future__ import annotations

import os
import shutil
import subprocess
import unittest
from pathlib import Path

from good_tide.core.addresses import Address
from tests.support.servers import ServedFolder, ServedTest, served, user_name


def sshd() -> str:
    """The program; the test is skipped by name where it is missing."""
    found = shutil.which("sshd", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin")
    if found is None:
        raise unittest.SkipTest("sshd is missing: apt-get install openssh-server")
    return found


class SshServer(ServedFolder):
    """A server for who runs the test, with a key of its own for the login.

    :param denied: requests of SFTP that it refuses (sftp-server(8), ``-P``).
    """

    kind = "sftp"

    def __init__(
        self, folder: Path, denied: str = "", before: tuple[str, ...] = (), host: str = "127.0.0.1"
    ) -> None:
        program = sshd()
        super().__init__(folder, before, host)
        self.key = folder / "login"
        self.new_host_key()
        _new_key(self.key)
        (folder / "allowed").write_bytes((folder / "login.pub").read_bytes())
        refused = f" -P {denied}" if denied else ""
        (folder / "config").write_text(
            f"Port {self.port}\nListenAddress {host}\nHostKey {folder}/host\n"
            f"AuthorizedKeysFile {folder}/allowed\nStrictModes no\nPasswordAuthentication no\nUsePAM no\n"
            f"PidFile none\nMaxStartups 100\nSubsystem sftp internal-sftp{refused}\n"
        )
        if os.getuid() == 0:
            Path("/run/sshd").mkdir(exist_ok=True)
        self.words = [program, "-D", "-e", "-f", str(folder / "config")]
        self.start()

    @property
    def address(self) -> Address:
        return Address("sftp", user_name(), self.host, self.port, str(self.files))

    def new_host_key(self) -> None:
        """Show another key from now on, as a server that was set up anew does, or somebody in between."""
        for file in (self.folder / "host", self.folder / "host.pub"):
            file.unlink(missing_ok=True)
        _new_key(self.folder / "host")

    def let_in(self, settings: Path, port: int = 0) -> None:
        """Keep the login, and that the key is right, in the settings of a test; for another port too, which
        leads here."""
        port = port or self.port
        self.keep(settings, f'key = "{self.key}"', port)
        public = " ".join((self.folder / "host.pub").read_text().split()[:2])
        with open(settings / "known_hosts", "a", encoding="utf-8") as file:
            file.write(f"[{self.host}]:{port} {public}\n")


def _new_key(file: Path) -> None:
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", file], check=True)


def server_for(test: unittest.TestCase, settings: Path, denied: str = "") -> SshServer:
    """A server for a test, that is let in and ends with it."""
    return served(test, settings, lambda folder: SshServer(folder, denied))


class SshServedTest(ServedTest):
    """With a server, and the place that its folder is."""

    server: SshServer
    denied = ""
    """Requests that it refuses."""

    def made(self, folder: Path) -> SshServer:
        return SshServer(folder, self.denied)
