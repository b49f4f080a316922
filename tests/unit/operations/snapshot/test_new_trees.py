"""New folders that helpers walk and read come out as those walked here, whatever happens to the helpers."""

from __future__ import annotations

import contextlib
import os
import random
import shutil
import signal
import socket
import sqlite3
import threading
import time
from collections.abc import Iterator
from unittest import mock

import msgspec

from good_tide.core.clock import SetClock
from good_tide.core.coverage import FolderState
from good_tide.core.errors import StoppedError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.core.rules import Rule
from good_tide.operations.snapshot import folders_ahead, new_folders
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.folders_ahead import FoldersAhead
from good_tide.operations.snapshot.new_folders import (
    Contents,
    LeftFolder,
    NewFolder,
    NewFolders,
    Terms,
    Wanted,
)
from good_tide.operations.snapshot.read_helper import receive_exactly
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.snapshot.sightings import read_stamps
from good_tide.operations.stores.opening import synced_catalog
from good_tide.storage.store import Store
from tests.support.base import MACHINE, T0, GoodTideTest, open_store, tree

RULES = (
    Rule(include=True, path="*/kept.txt"),
    Rule(include=False, path="cache/"),
    Rule(include=False, path="*.tmp"),
    Rule(include=False, marker="cachedir"),
)


@contextlib.contextmanager
def helpers_from(files: int) -> Iterator[None]:
    """Helpers are worth it from so many files on."""
    with (
        mock.patch.object(folders_ahead, "_WORTH_HELPERS", files),
        mock.patch.object(folders_ahead, "_WORTH_HELPERS_FIRST", files),
    ):
        yield


class NewTreesTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.empty = self.folder / "empty store"
        self.new_store("empty store", passphrase=None)

    def store(self, name: str) -> Store:
        """A store with the keys of all others."""
        shutil.copytree(self.empty, self.folder / name)
        return open_store(self.folder / name, None)

    def take(self, store: Store, rules: tuple[Rule, ...] = (), state: str = "state") -> Snapshot:
        request = CaptureRequest((self.work,), MACHINE, rules, home=str(self.folder))
        return capture(store, request, SetClock(Nanoseconds(T0)), Silent(), self.folder / state)

    def many_folders(self) -> None:
        """Folders of all kinds that a walk meets."""
        chance = random.Random(7)
        for number in range(40):
            for file in range(number % 7):
                self.write(
                    f"{number % 5}/{number}/in/note {file}.txt", chance.randbytes(chance.randrange(900))
                )
        self.write("1/1/large", chance.randbytes(200_000))
        os.link(self.work / "1/1/large", self.work / "2/another name")
        os.symlink("../elsewhere", self.work / "3/way")
        os.mkfifo(self.work / "4/pipe")
        self.write("4/4/in/secret", "x").chmod(0o640)
        self.write(b"4/9/in/\xff\xfe", "no UTF-8")
        os.setxattr(self.work / "2/37", "user.cue", b"LX 14")
        os.setxattr(self.work / "3/8/in/note 0.txt", "user.cue", b"LX 15")
        for number in range(700):
            self.write(f"0/many/{number:03}", f"{number}")
        for number in range(30):
            (self.work / f"2/deep{'/in' * number}").mkdir()
        (self.work / "0/nothing").mkdir()
        self.write("3/cache/one.txt", "left out")
        self.write("3/cache/in/kept.txt", "in after all")
        self.write("2/cache/in/one.txt", "left out")
        self.write("1/tag/CACHEDIR.TAG", "Signature: 8a477f597d28d172789f06886806bc55")
        self.write("1/x.tmp", "left out")
        os.utime(self.work / "0/many/001", ns=(-5_000_000_000, -5_000_000_000))

    def test_they_are_what_one_process_makes_of_them(self) -> None:
        self.many_folders()
        for rules in ((), RULES):
            with self.subTest(rules=len(rules)):
                name = f"{len(rules)}"
                alone = self.take(self.store(f"alone {name}"), rules, f"alone {name} state")
                with (
                    helpers_from(1),
                    mock.patch.object(folders_ahead, "_Helper", side_effect=folders_ahead._Helper) as begun,
                ):
                    store = self.store(f"helped {name}")
                    helped = self.take(store, rules, f"helped {name} state")
                self.assertEqual(begun.call_count, 2)
                self.assertEqual(helped.record.roots, alone.record.roots, "all listings and blocks")
                for what in ("files", "folders", "bytes", "changed_files", "new_bytes"):
                    self.assertEqual(getattr(helped.tally, what), getattr(alone.tally, what), what)
                self.assertEqual(sorted(helped.record.left_out), sorted(alone.record.left_out))
                self.assertEqual(helped.record.owners, alone.record.owners)
                if not rules:
                    self.restore(store, helped, self.work, self.folder / "back")
                    self.assertEqual(tree(self.folder / "back" / "work"), tree(self.work))

    def test_folders_in_runs_are_what_one_process_makes_of_them(self) -> None:
        chance = random.Random(11)
        texts = [chance.randbytes(chance.randrange(3000)) for _ in range(200)]
        for number in range(600):
            for file in range(number % 6):
                again = chance.random() < 0.2
                content = chance.choice(texts) if again else chance.randbytes(chance.randrange(2000))
                self.write(f"wide/{number:03}/{file}.txt", content)
            if number % 97 == 5:
                self.write(f"wide/{number:03}/large", chance.randbytes(70_000))
            if number % 50 == 7:
                self.write(f"wide/{number:03}/empty", b"")
                self.write(f"wide/{number:03}/in/one.txt", texts[number % 200])
        alone = self.take(self.store("alone"), state="alone state")
        with helpers_from(1):
            store = self.store("helped")
            helped = self.take(store, state="helped state")
        self.assertEqual(helped.record.roots, alone.record.roots, "all listings and blocks")
        self.assertEqual(helped.tally.files, alone.tally.files)
        self.restore(store, helped, self.work, self.folder / "back")
        self.assertEqual(tree(self.folder / "back" / "work"), tree(self.work))

    def test_what_the_catalog_knows_of_new_folders_is_not_stored_again(self) -> None:
        chance = random.Random(3)
        for number in range(50):
            self.write(f"there/{number}.txt", chance.randbytes(2000))
        store = self.store("store")
        self.take(store)
        catalog, _ = synced_catalog(store, self.cache)
        self.addCleanup(catalog.close)
        shutil.copytree(self.work / "there", self.work / "new/again")
        self.write("new/other/one.txt", bytes(5000))
        self.write("new/again/1a.txt", chance.randbytes(777))
        later = SetClock(Nanoseconds(T0 + 1))
        with helpers_from(1):
            taken = capture(
                store,
                CaptureRequest((self.work,), MACHINE),
                later,
                Silent(),
                self.state,
                catalog.stored_small,
            )
        self.assertEqual((taken.tally.files, taken.tally.changed_files), (102, 52))
        self.assertEqual(taken.tally.new_bytes, 5777)
        self.restore(store, taken, self.work, self.folder / "back")
        self.assertEqual(tree(self.folder / "back" / "work"), tree(self.work))

    def test_the_next_run_looks_into_no_folder_again(self) -> None:
        self.many_folders()
        (self.work / "4/pipe").unlink()
        store = self.store("store")
        with helpers_from(1), mock.patch.object(new_folders, "UNTRUSTED_NS", -(10**9)):
            trusting = NewFolders(Terms(b"k" * 32, []), lambda content: content[:16].ljust(16))
            handle = os.open(self.work, os.O_RDONLY)
            self.addCleanup(os.close, handle)
            wanted = Wanted(bytes(self.work), 1, os.fstat(handle).st_dev, [[(b"0", None)]])
            found = [one for bundle in trusting.bundles(wanted, handle) for one in bundle.folders]
        many = next(one for one in found if not isinstance(one, Contents) and one.path.endswith(b"/many"))
        assert isinstance(many, NewFolder)
        self.assertEqual((len(many.pages) > 1, many.files), (True, 700))
        self.assertTrue(many.look)
        self.assertNotIn(0, read_stamps(many.stamps)[::2])
        with helpers_from(1):
            first = self.take(store)
        fresh = next(
            one for one in self.bundled() if not isinstance(one, Contents) and one.path.endswith(b"/many")
        )
        assert isinstance(fresh, NewFolder)
        self.assertFalse(fresh.look, "its files were changed a moment ago")
        again = capture(
            store, CaptureRequest((self.work,), MACHINE), SetClock(Nanoseconds(T0 + 1)), Silent(), self.state
        )
        self.assertEqual((again.record.roots, again.tally.new_bytes), (first.record.roots, 0))

    def bundled(self) -> list[NewFolder | LeftFolder | Contents]:
        walk = NewFolders(Terms(b"k" * 32, []), lambda content: bytes(16))
        handle = os.open(self.work, os.O_RDONLY)
        try:
            folders: list[tuple[bytes, FolderState | None]] = [
                (os.fsencode(name), None) for name in sorted(os.listdir(self.work))
            ]
            wanted = Wanted(bytes(self.work), 1, os.fstat(handle).st_dev, [folders])
            return [one for bundle in walk.bundles(wanted, handle) for one in bundle.folders]
        finally:
            os.close(handle)

    def left(self) -> set[bytes]:
        """Folders that are left to whoever asked, from the work folder."""
        return {one.path[len(bytes(self.work)) :] for one in self.bundled() if isinstance(one, LeftFolder)}

    def test_what_is_out_of_the_ordinary_is_left_with_the_folders_above_it(self) -> None:
        self.write("a/plain/one.txt", "1")
        self.write("a/odd/in/one.txt", "1")
        self.write("b/x/y/one.txt", "1")
        self.write("c/one.db", "")
        for make in (
            lambda: self.write("a/odd/large", bytes(100_000)),
            lambda: os.link(self.work / "a/plain/one.txt", self.work / "a/odd/link"),
            lambda: os.mkfifo(self.work / "a/odd/pipe"),
        ):
            make()
            left = {
                one.path[len(bytes(self.work)) :] for one in self.bundled() if isinstance(one, LeftFolder)
            }
            self.assertLessEqual({b"/a/odd", b"/a"}, left)
            self.assertFalse(left & {b"/a/odd/in", b"/b", b"/b/x", b"/b/x/y"})
            shutil.rmtree(self.work / "a/odd")
            self.write("a/odd/in/one.txt", "1")
        with contextlib.closing(sqlite3.connect(self.work / "c/one.db")) as books:
            books.execute("PRAGMA journal_mode = WAL")
            books.execute("CREATE TABLE a (b)")
            books.commit()
            left = {
                one.path[len(bytes(self.work)) :] for one in self.bundled() if isinstance(one, LeftFolder)
            }
        self.assertEqual(left, {b"/c"}, "a database that somebody has open")

    def test_helpers_that_die_cost_nothing_but_speed(self) -> None:
        self.many_folders()
        expected = self.facts(self.store("alone"), "alone")
        for after in (0, 1, 9, 25):
            real, left = folders_ahead._Helper.folder, [after]

            def folder(
                helper: folders_ahead._Helper, tick: object, left: list[int] = left, real: object = real
            ) -> NewFolder | LeftFolder | Contents | None:
                left[0] -= 1
                if left[0] < 0 and not helper.gone:
                    helper._process.kill()
                    helper._folders.clear()
                    while helper._answers.get(20) is not None:
                        pass
                    helper.gone = True
                return real(helper, tick)  # type: ignore[operator, no-any-return]

            with helpers_from(1), mock.patch.object(folders_ahead._Helper, "folder", folder):
                self.assertEqual(self.facts(self.store(f"store {after}"), f"state {after}"), expected)

    def facts(self, store: Store, state: str) -> tuple[object, ...]:
        """What a snapshot counts, and what it restores."""
        taken = self.take(store, state=state)
        self.restore(store, taken, self.work, self.folder / "back")
        there = tree(self.folder / "back" / "work")
        shutil.rmtree(self.folder / "back")
        return taken.tally.files, taken.tally.folders, taken.tally.bytes, len(taken.record.left_out), there

    def test_a_run_that_was_cut_off_goes_on_by_itself(self) -> None:
        for number in range(8):
            self.write(f"{number}/large", os.urandom(300_000))
        self.many_folders()
        store = self.store("store")
        with (
            mock.patch("good_tide.storage.writer.WriteSession.publish", side_effect=KeyboardInterrupt),
            self.assertRaises(KeyboardInterrupt),
        ):
            self.take(store)
        with helpers_from(1), mock.patch.object(folders_ahead, "_Helper") as begun:
            self.take(store)
        self.assertEqual(begun.call_count, 0, "what was read before is not read again")

    def test_what_a_walk_asked_for_and_did_not_take_is_in_nobodys_way(self) -> None:
        for number in range(2000):
            self.write(f"many/{number:04} {'a long name ' * 20}/a", bytes(20_000))
        self.write("other/in/b.txt", "b")
        handles = [os.open(self.work / name, os.O_RDONLY) for name in ("many", "other")]
        for handle in handles:
            self.addCleanup(os.close, handle)
        folders: list[tuple[bytes, FolderState | None]] = [
            (os.fsencode(name), None) for name in sorted(os.listdir(self.work / "many"))
        ]
        device = os.fstat(handles[0]).st_dev
        with helpers_from(1), FoldersAhead(Terms(bytes(32), []), lambda: None) as ahead:
            ahead.walked(1, 1)
            ahead.ask(b"/many", handles[0], 1, device, folders)
            next(ahead.take(b"/many/" + folders[0][0]))
            time.sleep(0.5)
            ahead.ask(b"/many", handles[0], 1, device, folders)
            ahead.take(b"/many/" + folders[0][0])
            ahead.ask(b"/other", handles[1], 1, device, [(b"in", None)])
            contents, found = ahead.take(b"/other/in")
        assert isinstance(found, NewFolder) and isinstance(contents, Contents)
        self.assertEqual((found.files, contents.contents), (1, [b"b"]))

    def test_helpers_that_always_die_are_begun_a_few_times_only(self) -> None:
        self.many_folders()
        real = folders_ahead._Helper

        def dead(terms: bytes) -> folders_ahead._Helper:
            made = real(terms)
            made._process.kill()
            return made

        expected = self.facts(self.store("alone"), "alone")
        with helpers_from(1), mock.patch.object(folders_ahead, "_Helper", side_effect=dead) as begun:
            self.assertEqual(self.facts(self.store("store"), "state"), expected)
        self.assertLessEqual(begun.call_count, 8)

    def test_a_stop_does_not_wait_for_a_slow_helper(self) -> None:
        self.many_folders()

        class Stopping(Silent):
            def checkpoint(self) -> None:
                if stopped:
                    raise StoppedError("stopped", "")

        stopped: list[int] = []

        def asleep(ahead: FoldersAhead, *asked: object) -> None:
            real(ahead, *asked)  # type: ignore[arg-type]
            for helper in ahead._helpers:
                helper._process.send_signal(signal.SIGSTOP)
                self.addCleanup(helper._process.kill)
            stopped.append(1)

        real, store = FoldersAhead.ask, self.store("store")
        begin = time.monotonic()
        with helpers_from(1), mock.patch.object(FoldersAhead, "ask", asleep), self.assertRaises(StoppedError):
            capture(
                store,
                CaptureRequest((self.work,), MACHINE),
                SetClock(Nanoseconds(T0)),
                Stopping(),
                self.folder / "s",
            )
        self.assertLess(time.monotonic() - begin, 20)

    def test_what_comes_in_pieces_is_received_whole(self) -> None:
        ours, theirs = socket.socketpair()
        with ours, theirs:
            ours.settimeout(20)  # what is there comes at once then, not all that was asked for

            def send() -> None:
                for part in (b"abc", b"defg", b"h"):
                    theirs.sendall(part)
                    time.sleep(0.05)
                theirs.shutdown(socket.SHUT_WR)

            sending = threading.Thread(target=send)
            sending.start()
            self.assertEqual(receive_exactly(ours, 7), b"abcdefg")
            self.assertEqual(receive_exactly(ours, 7), b"h", "there is no more")
            self.assertEqual(receive_exactly(ours, 7), b"")
            sending.join()

    def test_a_helper_ends_with_its_socket_and_leaves_ctrl_c_to_the_main_process(self) -> None:
        helper = folders_ahead._Helper(msgspec.msgpack.encode(Terms(bytes(32), [])))
        self.write("a/b.txt", "b")
        handle = os.open(self.work, os.O_RDONLY)
        self.addCleanup(os.close, handle)
        for _ in range(2):
            helper.ask(Wanted(bytes(self.work), 1, os.fstat(handle).st_dev, [[(b"a", None)]]), handle)
            contents, one = (helper.folder(lambda: None) for _ in range(2))
            assert isinstance(one, NewFolder) and isinstance(contents, Contents)
            self.assertEqual((one.files, contents.contents, contents.pages), (1, [b"b"], [1]))
            helper._process.send_signal(signal.SIGINT)
        helper._socket.shutdown(socket.SHUT_RDWR)
        self.assertIsNone(helper.folder(lambda: None))
        helper.close()
        self.assertEqual(helper._process.returncode, 0)
