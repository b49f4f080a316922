"""What holds for every kind of server: as a place, when something comes between, and for a whole store."""

from __future__ import annotations

import json
import os
import signal
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from good_tide.core.addresses import Address
from good_tide.core.errors import LoginError, PlaceAwayError, PlaceFullError, ServerKeyError
from good_tide.lines import client
from good_tide.lines.client import line_to
from good_tide.lines.wire import Begin, Put, Trouble, Try
from good_tide.storage.server_place import ServerPlace
from tests.support.base import GoodTideTest, program
from tests.support.servers import ServedFolder, ServedTest
from tests.support.store_life import StoreCommands
from tests.support.web_servers import WebServer
from tests.unit.storage.test_place import PlaceContract

if TYPE_CHECKING:
    Served = ServedTest
else:
    Served = object


class ServerContract(PlaceContract, Served):
    """Every server's folder behaves like this."""

    promises = (True, True, True)
    """Durable when asked, names given once, replaced whole."""

    def test_what_comes_back_is_what_was_written(self) -> None:
        large = os.urandom(9_000_001)
        self.put("packs/a/large", large)
        self.assertEqual(self.place.read("packs/a/large"), large)
        pieces = [self.place.read("packs/a/large", at, 700_001) for at in range(0, len(large), 700_001)]
        self.assertEqual(b"".join(pieces), large)
        self.assertEqual(self.place.read("packs/a/large", 8_999_990, 1 << 30), large[-11:])
        self.put("packs/a/large", b"another")
        self.assertEqual(self.place.read("packs/a/large", 0, 100), b"another")
        self.put("index/empty", b"")
        self.put("index/é 1", b"accents")
        self.assertEqual((self.place.read("index/empty"), self.place.read("index/é 1")), (b"", b"accents"))
        self.assertEqual((self.place.names("index"), self.place.names("tmp")), (["empty", "é 1"], []))

    def test_of_two_who_make_a_name_one_is_refused(self) -> None:
        other = client.Line(self.server.address)
        self.addCleanup(other.end)
        taken: list[str] = []

        def race(line: client.Line, number: int) -> None:
            try:
                line.ask(Put(f"lease/{number}", "me-", True), b"mine")
            except client.LineError as error:
                failed = error.failed
                taken.append(failed.trouble if failed.trouble is Trouble.TAKEN else repr(failed))

        for number in range(25):
            both = [
                threading.Thread(target=race, args=(line, number))
                for line in (line_to(self.server.address), other)
            ]
            for one in both:
                one.start()
            for one in both:
                one.join()
        self.assertEqual(taken, ["taken"] * 25)
        self.assertEqual((len(self.place.names("lease")), self.place.names("tmp")), (25, []))

    def test_a_killed_process_is_begun_anew(self) -> None:
        self.put("index/x", b"x")
        running = line_to(self.server.address)._running
        assert running is not None
        os.kill(running.process.pid, signal.SIGKILL)
        running.process.wait()
        self.assertEqual(self.place.read("index/x"), b"x")

    def test_what_it_promises(self) -> None:
        self.assertEqual(promised(self.server), self.promises)
        self.assertEqual(self.place.things(), [])

    def test_a_folder_that_is_not_there_is_made_or_is_away(self) -> None:
        inner = ServerPlace(self.server.address.inside("new folder").inside("é"))
        self.addCleanup(line_to(inner.address).end)
        with self.assertRaisesRegex(PlaceAwayError, "There is no folder"):
            inner.check_there()
        with self.assertRaises(PlaceAwayError), inner.files().create("index/x", "me-") as file:
            file.commit()
        self.assertNotIn("new folder", self.place.things())
        inner.make()
        inner.check_there()
        self.assertEqual((self.place.things(), inner.files().things()), (["new folder"], []))


class FolderContract(ServerContract):
    """Servers that have folders, in which files are made under other names."""

    def test_leftovers_are_cleared_by_their_owner_only(self) -> None:
        self.put("index/x", b"x")
        for owner in ("me-1", "you-1"):
            (self.server.files / "tmp" / owner).write_bytes(b"left")
        self.place.clear_temporary("me-")
        self.assertEqual(self.place.names("tmp"), ["you-1"])


class FaultContract(Served):
    """What comes between a store and its server."""

    def test_a_server_that_restarts_is_waited_for(self) -> None:
        self.put("packs/a/one", b"one")
        self.server.stop()
        threading.Timer(3.0, self.server.start).start()
        self.put("packs/a/two", bytes(3_000_000))
        self.assertEqual(self.place.names("packs"), ["a/one", "a/two"])

    def test_a_server_that_is_gone_says_so_at_once_when_it_is_looked_for(self) -> None:
        self.where.check_there()
        self.server.stop()
        began = time.monotonic()
        with self.assertRaisesRegex(PlaceAwayError, "does not answer"):
            self.where.check_there()
        self.assertLess(time.monotonic() - began, 5)

    def test_a_server_that_hangs_is_away_and_goes_on_where_it_was(self) -> None:
        self.put("index/x", b"x")
        self.server.freeze()
        began = time.monotonic()
        with self.assertRaises(PlaceAwayError):
            self.where.check_there()
        self.assertLess(time.monotonic() - began, 30)
        self.server.freeze(False)
        self.assertEqual(self.place.read("index/x"), b"x")


class PasswordContract(Served):
    """Logins by password."""

    def test_who_is_not_let_in_is_told(self) -> None:
        line_to(self.server.address).begin_with(Begin(self.where.called, password="wrong"))
        with self.assertRaisesRegex(LoginError, "does not let"):
            self.where.check_there()
        with self.assertRaises(LoginError):
            self.put("index/x", b"x")

    def test_without_a_password_one_is_asked_for(self) -> None:
        (self.settings / "logins.toml").unlink()
        with self.assertRaises(LoginError) as refused:
            self.where.check_there()
        self.assertIn("place try", refused.exception.advice)


class CertificateContract(Served):
    """Servers that show who they are by a certificate."""

    def test_a_new_certificate_is_asked_once_and_a_changed_one_refused(self) -> None:
        (self.settings / "known_certificates").unlink()
        with self.assertRaisesRegex(ServerKeyError, "does not trust the certificate") as new:
            self.where.check_there()
        shown = new.exception.shown
        self.assertEqual((new.exception.known, shown.count(":")), ("", 32))
        line_to(self.server.address).begin_with(Begin(self.where.called, trust=shown))
        self.where.check_there()
        line_to(self.server.address).begin_with(Begin(self.where.called))
        self.where.check_there()
        assert isinstance(self.server, WebServer)
        self.server.begin_anew_with_another_certificate()
        with self.assertRaisesRegex(ServerKeyError, "another certificate than before") as changed:
            self.where.check_there()
        self.assertEqual(changed.exception.known, shown)
        self.assertNotEqual(changed.exception.shown, shown)
        with self.assertRaises(ServerKeyError):
            self.put("index/x", b"x")
        line_to(self.server.address).begin_with(Begin(self.where.called, trust=changed.exception.shown))
        self.where.check_there()


class ServedCommands(StoreCommands, Served):
    """Commands that use a store on a server; none says its password."""

    def done(self, *words: str | Path) -> str:
        said = super().done(*words)
        self.assertNotIn(self.server.password or "\0", said)
        return said


class StoreContract(ServedCommands):
    """A whole store."""

    def test_taken_released_swept_verified_carried_and_brought_back(self) -> None:
        store = str(self.server.address.inside("store"))
        self.live_through(store)
        disk = self.folder / "disk"
        self.done("store", "create", disk, "--unencrypted")
        self.done("store", "carry", store, disk)
        self.assertEqual(len(json.loads(self.done("history", disk, "--json"))["snapshots"]), 1)


class PartedContract(ServedCommands):
    """Servers of which only parts can hold a store."""

    def test_its_parts_are_told_and_hold_no_store_themselves(self) -> None:
        part, _, _ = self.server.address.path.strip("/").partition("/")
        whole = f"{self.server.address.server}/"
        tried = program("place", "try", whole, "--json")
        found = json.loads(tried.stdout)
        self.assertEqual((tried.returncode, found["parts"]), (3, [f"{self.server.address.server}/{part}"]))
        self.assertEqual([check["level"] for check in found["checks"]], ["bad"])
        self.assertGreater(found["free"], 1 << 45, "its room is not told")
        self.assertIn(f"/{part}", program("place", "try", whole).stdout)
        made = program("store", "create", whole, "--unencrypted")
        self.assertEqual(made.returncode, 2, made.stdout)


class AppendOnlyContract(ServedCommands):
    """A whole store, used by who may add and not delete."""

    grace = 0.0
    """Seconds for which what was written may still be changed."""

    def adding(self) -> Address:
        """The folder ``store`` as who may only add names it."""
        raise NotImplementedError

    def test_who_may_only_add_takes_snapshots_and_destroys_nothing(self) -> None:
        whole, adds = str(self.server.address.inside("store")), str(self.adding())
        self.done("store", "create", whole, "--unencrypted")
        words = ("--store", adds, "--folder", str(self.work))
        for number in range(3):
            self.write("plan.bin", os.urandom(200_000) + bytes([number]))
            self.done("snapshot", *words)
            time.sleep(self.grace)
        listed = json.loads(self.done("history", adds, "--json"))["snapshots"]
        self.assertEqual(len(listed), 3)
        for refused in (("release", adds, listed[0]["snapshot"]), ("sweep", adds)):
            done = program(*refused)
            self.assertEqual(done.returncode, 3, done.stdout + done.stderr)
            self.assertIn("lets nothing be deleted by this login", done.stderr)
        self.done("verify", adds, "--read-all")
        self.done("release", whole, listed[0]["snapshot"])
        self.done("sweep", whole)
        self.done("snapshot", *words)
        self.assertEqual(len(json.loads(self.done("history", whole, "--json"))["snapshots"]), 3)


def promised(server: ServedFolder) -> tuple[bool, bool, bool]:
    """What a server promises, when it is tried."""
    found = line_to(server.address).ask(Try(1 << 20))
    assert min(found.round_trip, found.up, found.down) > 0
    return found.durable, found.names_once, found.replaces_whole


def check_full(test: GoodTideTest, make: Callable[[Path, tuple[str, ...]], ServedFolder]) -> None:
    """A full server is full, and keeps what it has.

    :param make: makes the server, with words before its program that give it a small disk.
    """
    if os.getuid() != 0:
        test.skipTest("only root can give the server a small disk")
    folder = test.folder / "full"
    script = f'mount -t tmpfs -o size=8m none {folder}/served && exec "$@"'
    server = make(folder, ("unshare", "-m", "sh", "-c", script, "sh"))
    test.addCleanup(server.end)
    server.let_in(Path(os.environ["XDG_CONFIG_HOME"]) / "good-tide")
    place = ServerPlace(server.address).files()
    test.addCleanup(line_to(server.address).end)
    with place.create("packs/a/fits", "me-") as file:
        file.write(os.urandom(5_000_000))
        file.commit()
    with test.assertRaises(PlaceFullError), place.create("packs/a/more", "me-") as file:
        file.write(os.urandom(5_000_000))
        file.commit()
    test.assertEqual((place.names("packs"), place.names("tmp")), (["a/fits"], []))
