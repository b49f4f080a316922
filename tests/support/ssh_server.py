"""OpenSSH's server on loopback, for a folder of a test."""

from __future__ import annotations

import contextlib
import os
import pwd
import shutil
import signal
import socket
import subprocess
import tempfile
import time
import unittest
from pathlib import Path

import msgspec

from good_tide.core.addresses import Address
from good_tide.lines.client import line_to
from good_tide.storage.place import Place
from good_tide.storage.server_place import ServerPlace
from tests.support.base import GoodTideTest

_SECONDS = 20.0


def free_port() -> int:
    """A port on which nobody listens."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    assert isinstance(port, int)
    return port


def sshd() -> str:
    """The program; the test is skipped by name where it is missing."""
    found = shutil.which("sshd", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin")
    if found is None:
        raise unittest.SkipTest("sshd is missing: apt-get install openssh-server")
    return found


class SshServer:
    """A server for who runs the test, with a key of its own for the login.

    :param folder: where its files and keys are.
    :param denied: requests of SFTP that it refuses (sftp-server(8), ``-P``).
    :param before: words before the program, such as those that give it a small disk.
    :param host: the address on which it listens.
    """

    def __init__(
        self, folder: Path, denied: str = "", before: tuple[str, ...] = (), host: str = "127.0.0.1"
    ) -> None:
        self.folder, self._before, self.host = folder, before, host
        self._program = sshd()
        self.port = free_port()
        self.files = folder / "served"
        self.files.mkdir(parents=True)
        self.key = folder / "login"
        self._running: subprocess.Popen[bytes] | None = None
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
        self.start()

    @property
    def address(self) -> Address:
        """The address of its folder."""
        return Address("sftp", os.environ.get("USER") or _user(), self.host, self.port, str(self.files))

    def new_host_key(self) -> None:
        """Show another key from now on, as a server that was set up anew does, or somebody in between."""
        for file in (self.folder / "host", self.folder / "host.pub"):
            file.unlink(missing_ok=True)
        subprocess.run(
            ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", self.folder / "host"], check=True
        )

    def start(self) -> None:
        """Begin to listen."""
        with open(self.folder / "said", "ab") as said:
            self._running = subprocess.Popen(
                [*self._before, self._program, "-D", "-e", "-f", str(self.folder / "config")],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=said,
                start_new_session=True,
            )
        deadline = time.monotonic() + _SECONDS
        while time.monotonic() < deadline:
            with contextlib.suppress(OSError), socket.create_connection((self.host, self.port), 1):
                return
            if self._running.poll() is not None:
                break
            time.sleep(0.05)
        raise AssertionError((self.folder / "said").read_text())

    def stop(self) -> None:
        """Break all connections and listen no more."""
        for process in self._processes():
            with contextlib.suppress(ProcessLookupError):
                os.kill(process, signal.SIGKILL)
        if self._running is not None:
            self._running.wait()
            self._running = None

    def freeze(self, still: bool = True) -> None:
        """Let it hang: connections stay, and nothing comes; or go on."""
        for process in self._processes():
            with contextlib.suppress(ProcessLookupError):
                os.kill(process, signal.SIGSTOP if still else signal.SIGCONT)

    def _processes(self) -> list[int]:
        """The process that listens, and those of connections."""
        if self._running is None:
            return []
        found = [self._running.pid]
        for folder in Path("/proc").iterdir():
            if folder.name.isdigit() and int(folder.name) not in found:
                with contextlib.suppress(OSError, ValueError):
                    ahead = (folder / "stat").read_text().rpartition(")")[2].split()
                    if int(ahead[3]) == self._running.pid or int(ahead[1]) in found:
                        found.append(int(folder.name))
        return found

    def let_in(self, settings: Path, port: int = 0) -> None:
        """Keep the login, and that the key is right, in the settings of a test; for another port too, which
        leads here."""
        port = port or self.port
        settings.mkdir(parents=True, exist_ok=True)
        logins = settings / "logins.toml"
        with open(logins, "a", encoding="utf-8") as file:
            server = msgspec.structs.replace(self.address, port=port).server
            file.write(f'["{server}"]\nkey = "{self.key}"\n')
        logins.chmod(0o600)
        public = " ".join((self.folder / "host.pub").read_text().split()[:2])
        with open(settings / "known_hosts", "a", encoding="utf-8") as file:
            file.write(f"[{self.host}]:{port} {public}\n")


def _new_key(file: Path) -> None:
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", file], check=True)


def _user() -> str:
    return pwd.getpwuid(os.getuid()).pw_name


def server_for(test: unittest.TestCase, settings: Path, denied: str = "") -> SshServer:
    """A server for a test, that is let in and ends with it."""
    folder = Path(tempfile.mkdtemp(prefix="good-tide-ssh-"))
    test.addCleanup(shutil.rmtree, folder, ignore_errors=True)
    server = SshServer(folder, denied)
    test.addCleanup(server.stop)
    server.let_in(settings)
    return server


class ServedTest(GoodTideTest):
    """With a server, and the place that its folder is."""

    denied = ""
    """Requests that it refuses."""

    def setUp(self) -> None:
        super().setUp()
        self.settings = Path(os.environ["XDG_CONFIG_HOME"]) / "good-tide"
        self.server = server_for(self, self.settings, self.denied)
        self.where = ServerPlace(self.server.address)
        self.place: Place = self.where.files()
        self.addCleanup(line_to(self.server.address).end)

    def put(self, name: str, data: bytes, exclusive: bool = False) -> None:
        """Write a file."""
        with self.place.create(name, "me-") as file:
            file.write(data)
            file.commit(exclusive)
