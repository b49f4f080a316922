"""What belongs to people is not touched, and nobody is led astray: half-made stores, links of others, powers,
sockets, deep folders."""

from __future__ import annotations

import os
import resource
import socket
import subprocess
import sys
import threading
import unittest
from pathlib import Path
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.entries import Entry, Extent, Extra, Kind, Stat
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.pages import encode_page
from good_tide.core.places import Level, Wanted
from good_tide.core.progress import Progress, Silent, WorkKind
from good_tide.core.records import Snapshot, SnapshotRecord
from good_tide.core.restoring import Action, Existing
from good_tide.operations.history.browse import contents
from good_tide.operations.integrity.verify import verify
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Wish, plan_restore
from good_tide.operations.restore.set_aside import undo
from good_tide.operations.stores.disks import examine
from good_tide.operations.stores.opening import synced_catalog
from good_tide.protocol.agent_calls import AgentFacts, Hello, WorkEnded
from good_tide.protocol.client import agent_client
from good_tide.protocol.contract import Listen, Topic
from good_tide.protocol.server import Server
from good_tide.protocol.wire import call_line
from good_tide.source.ways import open_way
from good_tide.storage.content import small_digest
from good_tide.storage.header import create_store
from good_tide.storage.place import LocalPlace
from good_tide.storage.store import Store
from good_tide.storage.writer import WriteSession
from good_tide.system.limits import settle_limits
from good_tide.system.stand_in_disks import StandInDisks
from tests.base import CHEAP, MACHINE, PASSPHRASE, REPOSITORY, T0, GoodTideTest, program, tree
from tests.memory_place import PowerCutError


class HalfMadeTest(GoodTideTest):
    """A folder that looks like a half-made store is somebody's, unless it says that it is one."""

    def mine(self) -> dict[str, Path]:
        """Folders of people, by what is in them."""
        found = {}
        for name, files in {
            "keys": ("keys/door.txt",),
            "temporary": ("tmp/new-idea.txt", "tmp/sketch.txt"),
            "read me": ("README.txt",),
            "script": ("recover.py",),
            "all": ("keys/a.json", "tmp/new-x", "README.txt", "recover.py"),
        }.items():
            found[name] = self.folder / name
            for file in files:
                (found[name] / file).parent.mkdir(parents=True, exist_ok=True)
                (found[name] / file).write_text("mine")
        elsewhere = self.folder / "elsewhere"
        elsewhere.mkdir()
        (elsewhere / "door.json").write_text("mine")
        for name in ("keys", "tmp"):
            found[f"linked {name}"] = self.folder / f"linked {name}"
            found[f"linked {name}"].mkdir()
            (found[f"linked {name}"] / name).symlink_to(elsewhere)
        return found

    def test_nothing_of_anybody_is_removed_or_written_over(self) -> None:
        for name, folder in self.mine().items():
            before = tree(self.folder)
            with self.subTest(name):
                with self.assertRaisesRegex(PersonError, "is not empty"):
                    create_store(folder, None)
                self.assertEqual(tree(self.folder), before)
                disks = StandInDisks(self.folder / "rack")
                with mock.patch.object(disks, "of_folder", return_value=None):
                    self.assertTrue(
                        any(
                            check.level is Level.BAD
                            for check in examine(disks, folder, Wanted(), frozenset(), False).checks
                        )
                    )

    def test_by_command_and_with_a_job(self) -> None:
        for name, folder in self.mine().items():
            before = tree(folder)
            for words in (
                ("store", "create", folder, "--unencrypted"),
                ("job", "add", name, "--folder", self.work, "--store", folder, "--unencrypted"),
            ):
                with self.subTest(name, words=words[0]):
                    self.assertEqual(program(*words).returncode, 2)
                    self.assertEqual(tree(folder), before)

    def test_a_store_in_the_making_is_made_again_and_what_others_put_there_stays(self) -> None:
        for at in ("write_slot", "open_slot", "_write"):
            root = self.folder / at
            with (
                mock.patch(f"good_tide.storage.header.{at}", side_effect=PowerCutError),
                self.assertRaises(PowerCutError),
            ):
                create_store(root, None)
            self.assertTrue((root / "store.making").is_file())
            (root / "letter.txt").write_text("mine")
            with self.assertRaisesRegex(PersonError, "letter.txt"):
                create_store(root, None)
            (root / "letter.txt").unlink()
            (root / "keys").mkdir(exist_ok=True)
            (root / "keys" / "mine.json").write_text("{}")
            with self.assertRaises(PersonError):
                create_store(root, None)
            (root / "keys" / "mine.json").unlink()
            create_store(root, PASSPHRASE, cost=CHEAP)
            self.assertFalse((root / "store.making").exists())
            self.assertEqual(len(LocalPlace(root).names("keys")), 2)

    def test_links_in_a_store_are_not_followed(self) -> None:
        store, elsewhere = self.new_store(), self.folder / "elsewhere"
        elsewhere.mkdir()
        (elsewhere / "new-mine").write_text("mine")
        root = Path(store.place.title)
        for name in ("tmp", "pins", "writers"):
            if (root / name).exists():
                (root / name).rename(root / f"{name}-before")
            (root / name).symlink_to(elsewhere)
        (root / "index").mkdir(exist_ok=True)
        (root / "index" / "linked").symlink_to(elsewhere / "new-mine")
        for act in (
            lambda: store.place.clear_temporary("new-"),
            lambda: store.place.remove("pins/new-mine"),
            lambda: store.place.read("tmp/new-mine"),
            lambda: store.place.names("writers"),
            lambda: store.place.create("writers/a", "x"),
            lambda: store.place.size("index/linked"),
        ):
            with self.assertRaises(PlaceError):
                act()
        self.assertEqual((elsewhere / "new-mine").read_text(), "mine")
        self.assertEqual(sorted(path.name for path in elsewhere.iterdir()), ["new-mine"])


class PowersTest(GoodTideTest):
    """Bits and attributes that give powers come back only with the owner."""

    def made(self, **facts: int) -> tuple[Store, Snapshot]:
        store = self.new_store(passphrase=None)
        with WriteSession(store, "x-") as session:
            session.put(b"run me")
            chunk = store.keys.chunk_id(b"run me")
            extra = Extra(
                attributes=(
                    (b"security.capability", bytes.fromhex("0100000202000000" + "00" * 12)),
                    (b"user.kind", b"tool"),
                )
            )
            stat = Stat(**{"mode": 0o6755, "size": 6, **facts})
            entry = Entry(
                b"tool", Kind.FILE, stat, small_digest(store.keys, b"run me"), (Extent(chunk, 0, 6),), extra
            )
            page = session.put_page(encode_page([entry]))
            session.settle()
            roots = encode_page(
                [Entry(b"/office", Kind.FOLDER, Stat(mode=0o755), extents=(Extent(page, 0, 0),))]
            )
            return store, session.publish(lambda new, stored: SnapshotRecord(T0, MACHINE, roots))

    def test_without_the_owner_they_are_dropped_and_said(self) -> None:
        store, taken = self.made(uid=54321, gid=54321)
        with mock.patch("os.geteuid", return_value=1000):
            report = self.restore(store, taken, b"/office", self.folder / "into")
        tool = self.folder / "into/office/tool"
        self.assertEqual((tool.stat().st_mode & 0o7777, os.listxattr(tool)), (0o755, ["user.kind"]))
        said = " ".join(note.reason for note in report.metadata_notes)
        self.assertIn("set-user-id", said)
        self.assertIn("security.capability", said)

    @unittest.skipUnless(os.geteuid() == 0, "only root gives files to others")
    def test_with_the_owner_they_are_back(self) -> None:
        store, taken = self.made(uid=54321, gid=54321)
        self.assertEqual(self.restore(store, taken, b"/office", self.folder / "into").metadata_notes, [])
        tool = (self.folder / "into/office/tool").stat()
        self.assertEqual((tool.st_mode & 0o7777, tool.st_uid), (0o6755, 54321))

    def test_what_a_file_system_refuses_is_told_once_and_everything_is_there(self) -> None:
        for number in range(30):
            self.write(f"letters/{number}.txt", f"letter {number}")
        store = self.new_store(passphrase=None)
        taken = self.snap(store)
        refuse = mock.Mock(side_effect=PermissionError(1, "Operation not permitted"))
        with (
            mock.patch("os.fchmod", refuse),
            mock.patch("os.utime", refuse),
            mock.patch("os.geteuid", return_value=0),
            mock.patch("good_tide.operations.restore.metadata._chown", refuse),
        ):
            report = self.restore(store, taken, self.work, self.folder / "into")
        self.assertEqual((report.problems, len(list((self.folder / "into").rglob("*.txt")))), ([], 30))
        self.assertEqual(len(report.metadata_notes), 3)
        self.assertTrue(
            all("and of 31 more" in note.reason for note in report.metadata_notes), report.metadata_notes
        )


class WayTest(GoodTideTest):
    """Links on the way to a target: one's own and root's are followed, those of others are not."""

    def test_a_covered_folder_that_became_somebody_elses_link_is_not_followed(self) -> None:
        self.write("plan.txt", "then")
        store = self.new_store(passphrase=None)
        taken = self.snap(store)
        elsewhere = self.folder / "elsewhere"
        self.work.rename(elsewhere)
        self.work.symlink_to(elsewhere)
        (elsewhere / "plan.txt").write_text("now")
        with mock.patch(
            "os.geteuid", return_value=4242
        ):  # the link belongs to whoever runs the test, and so to somebody else
            plan = plan_restore(
                store, [Wish(taken, os.fsencode(self.work))], None, Existing.SET_ASIDE, Silent()
            )
        if os.getuid():
            self.assertEqual({step.action for step in plan.steps}, {Action.BLOCKED})
        else:  # root's own links are followed: give it to somebody else
            os.chown(self.work, 54321, 54321, follow_symlinks=False)
            plan = plan_restore(
                store, [Wish(taken, os.fsencode(self.work))], None, Existing.SET_ASIDE, Silent()
            )
            self.assertEqual([step.action for step in plan.steps], [Action.BLOCKED])
            with self.assertRaises(PlaceError):
                open_way(self.work)
        self.assertEqual((elsewhere / "plan.txt").read_text(), "now")

    def test_ones_own_links_are(self) -> None:
        (self.folder / "real").mkdir()
        (self.folder / "link").symlink_to("real")
        (self.folder / "loop").symlink_to("loop")
        handle, made = open_way(self.folder / "link" / ".." / "link" / "new", make=True)
        os.close(handle)
        self.assertTrue(made and (self.folder / "real" / "new").is_dir())
        with self.assertRaises(OSError):
            open_way(self.folder / "loop")
        with self.assertRaises(FileNotFoundError):
            open_way(self.folder / "nothing")


class SocketTest(GoodTideTest):
    """Passphrases go over the socket: only to and from one's own processes, in a folder of one's own."""

    def test_a_folder_that_others_can_enter_is_refused_by_both_ends(self) -> None:
        folder = self.folder / "open"
        folder.mkdir(mode=0o777)
        folder.chmod(0o777)
        linked = self.folder / "linked"
        (self.folder / "private").mkdir(mode=0o700)
        linked.symlink_to(self.folder / "private")
        for place in (folder, linked):
            with self.subTest(place.name):
                with self.assertRaisesRegex(PlaceError, "your own"):
                    Server(place / "a.sock", (), lambda count: None)
                with self.assertRaisesRegex(PlaceError, "your own"), agent_client(place / "a.sock"):
                    pass

    def test_who_does_not_read_holds_nobody_up(self) -> None:
        path = self.folder / "own" / "a.sock"
        server = Server(path, [Hello.by(lambda wanted: AgentFacts("the agent", 5, 1))], lambda count: None)
        self.addCleanup(server.close)
        threading.Thread(target=server.serve, daemon=True).start()
        with socket.socket(socket.AF_UNIX) as stopped:
            stopped.connect(str(path))
            stopped.settimeout(600)
            stopped.sendall(call_line(Listen(frozenset(Topic)), 1))
            self.assertIn(b"null", stopped.recv(200))

            def tell() -> None:
                for _ in range(400):
                    server.tell(WorkEnded(WorkKind.CARRY, words="x" * 100_000))

            telling = threading.Thread(
                target=tell,
                daemon=True,
            )
            telling.start()
            telling.join(60)
            self.assertFalse(
                telling.is_alive(), "whoever tells something waits for a client that stands still"
            )
            with agent_client(path) as client:
                assert client is not None
                self.assertEqual(client.ask(Hello()).version, "the agent")
            while stopped.recv(1 << 20):
                pass  # what was sent until it was let go

    def test_somebody_elses_folder_is_refused_by_command_and_window(self) -> None:
        planted = self.folder / "tmp" / f"good-tide-{os.getuid()}"
        planted.mkdir(parents=True)
        planted.chmod(0o755)
        environment = {name: value for name, value in os.environ.items() if name != "XDG_RUNTIME_DIR"}
        environment.update(TMPDIR=str(self.folder / "tmp"), QT_QPA_PLATFORM="offscreen")
        for words in (("agent", "status"), ("window",)):
            ended = subprocess.run(
                [sys.executable, "-m", "good_tide", *words],
                env=environment,
                capture_output=True,
                text=True,
                timeout=600,
                check=False,
            )
            self.assertEqual(ended.returncode, 3, ended.stderr)
            self.assertIn("your own", ended.stderr)

    def test_a_peer_of_another_user_is_sent_nothing(self) -> None:
        private = self.folder / "private"
        private.mkdir(mode=0o700)
        with socket.socket(socket.AF_UNIX) as listening:
            listening.bind(str(private / "a.sock"))
            listening.listen()
            strange = mock.patch("good_tide.protocol.client.is_own_process", return_value=False)
            with (
                strange,
                self.assertRaisesRegex(PlaceError, "somebody else"),
                agent_client(private / "a.sock"),
            ):
                pass
            heard, _ = listening.accept()
            with heard:
                self.assertEqual(heard.recv(100), b"")


class DeepTest(GoodTideTest):
    """Folders two thousand deep, in and out again."""

    def setUp(self) -> None:
        super().setUp()
        before = resource.getrlimit(resource.RLIMIT_NOFILE)
        self.addCleanup(resource.setrlimit, resource.RLIMIT_NOFILE, before)
        resource.setrlimit(resource.RLIMIT_NOFILE, (1024, before[1]))
        settle_limits()

    def deepen(self, top: Path, depth: int) -> None:
        top.mkdir(parents=True)
        handle = os.open(top, os.O_RDONLY)
        for _ in range(depth):
            os.mkdir("d", dir_fd=handle)
            outer, handle = handle, os.open("d", os.O_RDONLY, dir_fd=handle)
            os.close(outer)
        file = os.open("leaf.txt", os.O_WRONLY | os.O_CREAT, 0o644, dir_fd=handle)
        os.write(file, b"at the bottom")
        os.close(file)
        os.close(handle)

    def test_everything_goes_that_deep(self) -> None:
        self.deepen(self.work / "deep", 1990)
        store = self.new_store(passphrase=None)
        taken = self.snap(store)
        self.assertEqual((taken.gaps, taken.record.tally.files, taken.record.tally.folders), (0, 1, 1992))
        self.assertEqual(len(contents(store, taken, None, True)), 1993)
        self.assertTrue(verify(store, True, Silent()).ok)
        into = self.folder / "into"
        report = self.restore(store, taken, self.work, into)
        self.assertEqual((report.created, report.problems), (1993, []))
        identical = self.restore(store, taken, self.work, None)
        self.assertEqual((identical.created, identical.identical), (0, 1993))
        catalog, damage = synced_catalog(store, self.cache)
        self.addCleanup(catalog.close)
        self.assertEqual((damage, catalog.tide(MACHINE.id)[0].files), ([], 1))
        subprocess.run(["rm", "-rf", str(self.work / "deep")], check=True)
        (self.work / "deep").write_text("a file now")
        gone = self.snap(store, 1)
        self.assertEqual(synced_catalog(store, self.cache)[0].tide(MACHINE.id)[1].removed, 1)
        self.assertEqual(gone.record.tally.files, 1)
        back = self.restore(store, taken, self.work, None)
        self.assertEqual((back.replaced, back.problems), (1, []))
        self.assertEqual(undo(back.set_aside[0]).put_back, 1)
        self.assertEqual((self.work / "deep").read_text(), "a file now")

    def test_what_is_deeper_is_named(self) -> None:
        self.deepen(self.work / "deep", 2005)
        taken = self.snap(self.new_store(passphrase=None))
        self.assertEqual([item.reason for item in taken.record.left_out], ["too-deep"])


class EndTest(GoodTideTest):
    """A signal to end ends a command, whatever holds it up."""

    def test_a_command_that_hangs_is_ended(self) -> None:
        code = (
            "import sys, threading; from good_tide.cli import output\n"
            "output._STOPPING_SECONDS = 0.3\n"
            "with output.steered(None, True):\n"
            "    print('hanging', flush=True); threading.Event().wait()\n"
        )
        child = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
        assert child.stdout is not None
        child.stdout.readline()
        child.terminate()
        self.assertEqual(child.wait(300), 5)
        child.stdout.close()

    def test_no_picture_of_the_memory_is_left(self) -> None:
        code = (
            "from good_tide.system.limits import settle_limits; settle_limits(); import resource;"
            " print(resource.getrlimit(resource.RLIMIT_CORE))"
        )
        ended = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(ended.stdout.strip(), "(0, 0)")


class LinearTest(GoodTideTest):
    """Restoring takes as much for the last file as for the first."""

    def test_nothing_is_summed_anew_for_each_file(self) -> None:
        for number in range(300):
            self.write(f"letters/{number}.txt", f"letter {number}")
        store = self.new_store(passphrase=None)
        plan = plan_restore(
            store,
            [Wish(self.snap(store), os.fsencode(self.work))],
            self.folder / "into",
            Existing.SET_ASIDE,
            Silent(),
        )
        seen: list[Progress] = []
        control = mock.Mock()
        control.report = seen.append
        with mock.patch.object(type(plan.steps[0]), "payload", mock.PropertyMock(return_value=1)) as asked:
            report = carry_out(store, plan, SetClock(Nanoseconds(T0)), control)
        self.assertEqual(report.created, 302)
        self.assertLess(asked.call_count, 3 * len(plan.steps))
        self.assertGreaterEqual(len(seen), 300)


class ScriptTest(GoodTideTest):
    """The recovery script on the disk is compared with the true one."""

    def test_a_changed_script_is_damage_and_an_earlier_one_a_note(self) -> None:
        store = self.new_store()
        root, words = Path(store.place.title), self.folder / "words"
        words.write_text(PASSPHRASE)
        self.assertEqual(program("verify", "--store", root, passphrase=words).returncode, 0)
        script = root / "recover.py"
        true = script.read_bytes()
        script.write_bytes(true.replace(b"import sys", b"import sys, harm", 1))
        ended = program("verify", "--store", root, passphrase=words)
        self.assertEqual(ended.returncode, 4)
        self.assertIn("Do not run it", ended.stdout)
        script.write_bytes((REPOSITORY / "tests/frozen/v1-open/recover.py").read_bytes())
        ended = program("verify", "--store", root, passphrase=words)
        self.assertEqual(ended.returncode, 0)
        self.assertIn("earlier version", ended.stdout)
        self.assertEqual(program("store", "recovery-script", root).returncode, 0)
        self.assertEqual(script.read_bytes(), true)
        elsewhere = self.folder / "stick.py"
        self.assertEqual(program("store", "recovery-script", elsewhere).returncode, 0)
        self.assertEqual(elsewhere.read_bytes(), true)
        self.assertEqual(program("store", "recovery-script", elsewhere).returncode, 2)
