"""A folder on an SFTP server is a place like any other: against OpenSSH's server on loopback, with all that
it can do and with as little as servers have; and what comes between."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path
from unittest import mock

import msgspec

from good_tide.core.addresses import address
from good_tide.core.errors import (
    NotInPlaceError,
)
from good_tide.lines.client import line_to
from good_tide.servers.stand_ins.facts import StandInFacts
from good_tide.storage.header import create_store
from good_tide.storage.server_place import ServerPlace
from good_tide.storage.store import open_store
from tests.support.base import GoodTideTest, program
from tests.support.server_contract import FolderContract, promised
from tests.support.servers import free_port
from tests.support.slow_line import SlowLine
from tests.support.ssh_server import SshServedTest
from tests.unit.storage.test_place import PlaceContract

_ROUND_TRIP, _RATE = 0.08, 12.5e6
"""Seconds, and bytes a second, of a line that is slow."""
_FILLED, _TRIES = 0.6, 4
"""So much of it is to be filled, in one of so many tries: other tests run beside this one."""


class SftpPlaceTest(FolderContract, SshServedTest):
    def test_files_are_whole_and_their_owners_only(self) -> None:
        large = os.urandom(9_000_001)
        self.put("packs/a/large", large)
        self.assertEqual((self.server.files / "packs/a/large").read_bytes(), large)
        self.assertEqual([path.name for path in (self.server.files / "tmp").iterdir()], [])
        self.assertEqual((self.server.files / "packs/a/large").stat().st_mode & 0o777, 0o600)

    def test_links_and_folders_are_no_files_of_a_store(self) -> None:
        self.put("index/x", b"x")
        (self.server.files / "index/link").symlink_to("/etc/passwd")
        (self.server.files / "index/below").mkdir()
        self.assertEqual(self.place.names("index"), ["x"])
        with self.assertRaises(NotInPlaceError):
            self.place.size("index/link")
        self.assertEqual(
            (self.place.things(), self.place.holds_only_files("index"), self.place.holds_only_files("tmp")),
            (["index", "tmp"], False, True),
        )

    def test_room_is_the_servers(self) -> None:
        free, total = self.place.room()
        found = os.statvfs(self.server.files)
        self.assertEqual(total, found.f_blocks * found.f_frsize)
        self.assertAlmostEqual(free, found.f_bavail * found.f_frsize, delta=1 << 30)


class LeastSftpPlaceTest(PlaceContract, SshServedTest):
    """A server without links, without ``fsync``, that cannot replace, and does not tell its room."""

    denied = "hardlink,fsync,posix-rename,statvfs,limits"

    def test_what_it_promises(self) -> None:
        self.assertEqual(promised(self.server), (False, False, False))
        self.assertGreater(self.place.room()[0], 1 << 45)

    def test_a_file_is_replaced(self) -> None:
        self.put("index/x", b"one")
        self.put("index/x", b"two")
        self.assertEqual(self.place.read("index/x"), b"two")


class SlowLineTest(SshServedTest):
    """Over a line with a round trip of 80 ms and 100 Mbit/s: what takes long is bytes, not questions."""

    def setUp(self) -> None:
        super().setUp()
        port = free_port()
        self.line = SlowLine(port, self.server.port, _ROUND_TRIP * 1000)
        self.addCleanup(self.line.end)
        self.server.let_in(self.settings, port=port)
        self.where = ServerPlace(msgspec.structs.replace(self.server.address, port=port))
        self.addCleanup(line_to(self.where.address).end)
        self.place = self.where.files()

    def test_an_unchanged_run_takes_few_round_trips(self) -> None:
        for number in range(300):
            self.write(f"some/folder {number % 20}/{number}.txt", f"{number}" * 50)
        create_store(self.where, None)
        self.snap(open_store(self.where, None))
        began = time.monotonic()
        store = open_store(self.where, None)
        store.snapshots()
        opened = time.monotonic() - began
        self.snap(store)
        self.assertLess(opened / _ROUND_TRIP, 15)
        self.assertLess((time.monotonic() - began) / _ROUND_TRIP, 60)

    def test_the_line_is_full_in_both_directions(self) -> None:
        self.where.check_there()
        best = 0.0
        for number in range(_TRIES):
            best = max(best, self.rate(f"packs/a/large {number}"))
            if best > _FILLED * _RATE:
                return
        self.fail(f"{best / _RATE:.0%} of the line at best, in {_TRIES} tries")

    def rate(self, name: str) -> float:
        """Bytes a second of a large file, there or back: the slower one."""
        data = os.urandom(24_000_000)
        began = time.monotonic()
        self.put(name, data)
        up = len(data) / (time.monotonic() - began)
        began = time.monotonic()
        parts = [self.place.read(name, at, 200_000) for at in range(0, len(data), 200_000)]
        down = len(data) / (time.monotonic() - began)
        self.assertEqual(b"".join(parts), data)
        return min(up, down)


class PasswordTest(GoodTideTest):
    """Logins by password, against the stand-in that ships."""

    def setUp(self) -> None:
        super().setUp()
        self.settings = Path(os.environ["XDG_CONFIG_HOME"]) / "good-tide"

    def stand_in(self, *more: str) -> StandInFacts:
        """A server, until the test ends."""
        words = [
            sys.executable,
            "-m",
            "good_tide.servers.stand_ins.sftp",
            str(self.folder / "served"),
            "0",
            *more,
        ]
        process = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        assert process.stdin is not None
        assert process.stdout is not None
        for end in (process.wait, process.stdout.close, process.stdin.close):
            self.addCleanup(end)
        return msgspec.json.decode(process.stdout.readline(), type=StandInFacts)

    def tried(self, facts: StandInFacts, password: str, *more: str) -> subprocess.CompletedProcess[str]:
        """``place try``, with a password."""
        given = self.folder / "given"
        given.write_text(password + "\n")
        words = ("place", "try", facts.address, "--fingerprint", facts.fingerprint, "--password-file", given)
        return program(*words, *more)

    def test_a_password_is_kept_where_somebody_wants_it_and_forgotten(self) -> None:
        facts = self.stand_in()
        wrong = self.tried(facts, "wrong", "--keep", "file")
        self.assertEqual((wrong.returncode, "does not let guest in" in wrong.stdout), (3, True), wrong.stdout)
        self.assertFalse((self.settings / "logins.toml").exists())
        right = self.tried(facts, facts.password, "--keep", "file")
        self.assertEqual(right.returncode, 0, right.stdout + right.stderr)
        kept = self.settings / "logins.toml"
        self.assertEqual((kept.stat().st_mode & 0o777, facts.password in kept.read_text()), (0o600, True))
        self.write("plan.txt", "kept on a server")
        for words in (
            ("store", "create", facts.address, "--unencrypted"),
            ("snapshot", "--store", facts.address, "--folder", self.work),
            ("restore", facts.address, "--all", "--snapshot", "latest", "--into", self.folder / "out"),
        ):
            done = program(*words)
            self.assertEqual((done.returncode, facts.password in done.stdout), (0, False), done.stderr)
        self.assertEqual((self.folder / "out" / "work" / "plan.txt").read_text(), "kept on a server")
        self.assertEqual(program("place", "forget", facts.address).returncode, 0)
        self.assertNotIn(facts.password, kept.read_text())
        self.assertEqual(program("store", "about", facts.address).returncode, 3)

    def test_a_server_that_asks_for_a_code_is_unfit_for_runs_by_themselves(self) -> None:
        facts = self.stand_in("--code")
        done = self.tried(facts, facts.password)
        self.assertEqual((done.returncode, "asks for more than a password" in done.stdout), (3, True))
        self.assertIn("Code from your telephone", done.stdout)

    def test_the_service_manager_hands_over_logins(self) -> None:
        facts = self.stand_in()
        self.tried(facts, facts.password)
        handed = self.folder / "handed"
        handed.mkdir()
        server = address(facts.address).server
        (handed / "good-tide-logins").write_text(f'["{server}"]\npassword = "{facts.password}"\n')
        with mock.patch.dict(os.environ, {"CREDENTIALS_DIRECTORY": str(handed)}):
            self.assertEqual(program("place", "try", facts.address).returncode, 0)

    def test_one_command_begins_the_stand_in(self) -> None:
        words = [sys.executable, "-m", "good_tide", "stand-in", "server", "sftp", "--json"]
        with subprocess.Popen(words, stdout=subprocess.PIPE, start_new_session=True) as process:
            assert process.stdout is not None
            facts = msgspec.json.decode(process.stdout.readline(), type=dict[str, str])
            self.addCleanup(shutil.rmtree, facts["folder"])
            process.terminate()  # Ctrl+C is not heeded by what a shell runs in the background
        self.assertEqual(process.returncode, -signal.SIGTERM)
        listening = address(facts["address"])
        with self.assertRaises(ConnectionRefusedError):
            for _ in range(200):
                socket.create_connection((listening.host, listening.port), 1).close()
                time.sleep(0.05)
        self.assertEqual(sorted(facts), ["address", "fingerprint", "folder", "password"])
