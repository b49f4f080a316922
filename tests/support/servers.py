"""Servers on loopback, for folders of tests."""

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
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import msgspec

from good_tide.core.addresses import Address
from good_tide.lines.client import line_to
from good_tide.storage.place import Place
from good_tide.storage.server_place import ServerPlace
from tests.support.base import GoodTideTest

_SECONDS = 20.0
_ROOT = Path(__file__).resolve().parents[2]


def free_port() -> int:
    """A port on which nobody listens."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    assert isinstance(port, int)
    return port


def user_name() -> str:
    """Who runs the test."""
    return os.environ.get("USER") or pwd.getpwuid(os.getuid()).pw_name


class ServedFolder:
    """A server of a folder.

    :param folder: where its files are, and what it needs besides.
    :param before: words before the program, such as those that give it a small disk.
    :param host: the address on which it listens.
    """

    kind = ""
    password = ""
    words: list[str]
    """The program."""

    def __init__(self, folder: Path, before: tuple[str, ...] = (), host: str = "127.0.0.1") -> None:
        self.folder, self._before, self.host = folder, before, host
        self.port = free_port()
        self.files = folder / "served"
        self.files.mkdir(parents=True)
        self._running: subprocess.Popen[bytes] | None = None

    @property
    def address(self) -> Address:
        """The address of its folder."""
        raise NotImplementedError

    def start(self) -> None:
        """Begin to listen."""
        self._running = self.begun()

    def begun(self) -> subprocess.Popen[bytes]:
        """A process of the program, when it listens. It has an input, with whose end it may end."""
        with open(self.folder / "said", "ab") as said:
            process = subprocess.Popen(
                [*self._before, *self.words],
                stdin=subprocess.PIPE,
                stdout=said,
                stderr=said,
                start_new_session=True,
                cwd=_ROOT,
            )
        deadline = time.monotonic() + _SECONDS
        while time.monotonic() < deadline:
            with contextlib.suppress(OSError), socket.create_connection((self.host, self.port), 1):
                return process
            if process.poll() is not None:
                break
            time.sleep(0.05)
        raise AssertionError((self.folder / "said").read_text())

    def stop(self) -> None:
        """Break all connections and listen no more."""
        for process in self._processes():
            with contextlib.suppress(ProcessLookupError):
                os.kill(process, signal.SIGKILL)
        if self._running is not None:
            ended(self._running)
            self._running = None

    def end(self) -> None:
        """Stop it for good."""
        self.stop()

    def freeze(self, still: bool = True) -> None:
        """Let it hang: connections stay, and nothing comes; or go on."""
        for process in self._processes():
            with contextlib.suppress(ProcessLookupError):
                os.kill(process, signal.SIGSTOP if still else signal.SIGCONT)
        deadline = time.monotonic() + _SECONDS
        while still and time.monotonic() < deadline and not all(map(_stands_still, self._processes())):
            time.sleep(0.01)

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
        """Keep the login in the settings of a test; for another port too, which leads here."""
        self.keep(settings, f'password = "{self.password}"', port)

    def keep(self, settings: Path, login: str, port: int = 0) -> None:
        """Add what is known of its login to the file of logins."""
        settings.mkdir(parents=True, exist_ok=True)
        logins = settings / "logins.toml"
        server = msgspec.structs.replace(self.address, port=port or self.port).server
        with open(logins, "a", encoding="utf-8") as file:
            file.write(f'["{server}"]\n{login}\n')
        logins.chmod(0o600)


def _stands_still(process: int) -> bool:
    """Whether no thread of a process that is to stop runs any more: the others go on until one has taken
    notice."""
    with contextlib.suppress(OSError):
        threads = [(one / "stat").read_text() for one in Path(f"/proc/{process}/task").iterdir()]
        return all(stat.rpartition(")")[2].split()[0] in "TZX" for stat in threads)
    return True


def ended(process: subprocess.Popen[bytes]) -> None:
    """Wait for a process that was killed."""
    process.wait()
    assert process.stdin is not None
    process.stdin.close()


S = TypeVar("S", bound=ServedFolder)


def served(test: unittest.TestCase, settings: Path, make: Callable[[Path], S]) -> S:
    """A server for a test, that lets in and ends with it."""
    folder = Path(tempfile.mkdtemp(prefix="good-tide-served-"))
    test.addCleanup(shutil.rmtree, folder, ignore_errors=True)
    server = make(folder)
    test.addCleanup(server.end)
    server.let_in(settings)
    return server


class ServedTest(GoodTideTest):
    """With a server, and the place that its folder is."""

    server: ServedFolder

    def made(self, folder: Path) -> ServedFolder:
        """The server."""
        raise NotImplementedError

    def setUp(self) -> None:
        super().setUp()
        self.settings = Path(os.environ["XDG_CONFIG_HOME"]) / "good-tide"
        self.server = served(self, self.settings, self.made)
        self.where = ServerPlace(self.server.address)
        self.place: Place = self.where.files()
        self.addCleanup(line_to(self.server.address).end)

    def put(self, name: str, data: bytes, exclusive: bool = False) -> None:
        """Write a file."""
        with self.place.create(name, "me-") as file:
            file.write(data)
            file.commit(exclusive)
