"""Earlier versions as folders, by the real program and the system's own tools."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import time
import unittest
from pathlib import Path
from unittest import mock

from PySide6.QtCore import QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QAbstractButton

from good_tide.core.errors import PlaceError
from good_tide.operations.mount import mounting
from good_tide.protocol.version_calls import ShowAsFolder
from tests.support.base import OFFICE, PASSPHRASE, GoodTideTest, open_store, program, tree
from tests.support.windows import WindowTest


def _possible() -> bool:
    try:
        mounting.check_possible()
    except PlaceError:
        return False
    return True


@unittest.skipUnless(_possible(), "mounting needs /dev/fuse and the package fuse3")
class MountTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.past, self.store = self.folder / "past", self.folder / "store"
        self.addCleanup(self.unmount)
        program("store", "create", self.store, "--unencrypted")

    def unmount(self) -> None:
        subprocess.run(["fusermount3", "-u", "-z", str(self.past)], capture_output=True, check=False)

    def snap(self, *more: str) -> str:  # type: ignore[override]
        done = program("snapshot", "--store", self.store, "--folder", self.work, "--json", *more)
        return str(json.loads(done.stdout)["snapshot"])

    def mount(self, *more: str) -> None:
        done = program("mount", self.store, self.past, *more)
        self.assertEqual(done.returncode, 0, done.stderr)

    @property
    def latest(self) -> Path:
        return self.past / "moments" / "latest" / str(self.work)[1:]

    def test_every_program_reads_what_was(self) -> None:
        self.write("plan.txt", "first")
        self.write("deep/er/notes.txt", "notes")
        self.write("large", os.urandom(3_000_000))
        self.write(b"\xff\xfe", "no UTF-8")
        self.write("secret", "x").chmod(0o600)
        self.write("hole").write_bytes(b"begin")
        os.truncate(self.work / "hole", 5_000_000)
        os.symlink("plan.txt", self.work / "way")
        os.link(self.work / "large", self.work / "same")
        os.setxattr(self.work / "plan.txt", "user.cue", b"LX 14")
        subprocess.run(["setfacl", "-m", "u:1234:r", str(self.work / "plan.txt")], check=True)
        before = tree(self.work)
        self.snap()
        self.mount()
        self.assertEqual(tree(self.latest), before)
        there = self.latest / "same", self.latest / "large"
        self.assertEqual(there[0].stat().st_ino, there[1].stat().st_ino)
        self.assertLess((self.latest / "hole").stat().st_blocks, 100)
        acl = subprocess.run(
            ["getfacl", "-c", self.latest / "plan.txt"], capture_output=True, check=True
        ).stdout
        self.assertIn(b"user:1234:r--", acl)
        self.assertEqual((self.latest / "plan.txt").stat().st_uid, os.getuid())
        commands: list[list[str | Path]] = [
            ["diff", "-r", "--no-dereference", self.work, self.latest],
            ["rsync", "-n", "-a", "--delete", f"{self.work}/", f"{self.latest}/"]
            if shutil.which("rsync")
            else ["true"],
            ["cp", "-a", self.latest, self.folder / "copy"],
            ["tar", "-C", self.latest, "-cf", self.folder / "all.tar", "."],
        ]
        for command in commands:
            done = subprocess.run(command, capture_output=True, check=False)
            self.assertEqual((done.returncode, done.stdout, done.stderr), (0, b"", b""), command)
        self.assertEqual(tree(self.folder / "copy"), before)
        with (self.latest / "large").open("rb") as file:
            file.seek(2_999_990)
            self.assertEqual(file.read(), (self.work / "large").read_bytes()[-10:])
        for refused in (
            lambda: (self.latest / "plan.txt").write_text("no"),
            lambda: (self.latest / "new").mkdir(),
            lambda: (self.latest / "plan.txt").unlink(),
        ):
            with self.assertRaises(OSError):
                refused()

    def test_versions_lie_beside_each_other_and_what_is_gone_is_there(self) -> None:
        self.write("plan.txt", "first")
        self.write("gone.txt", "gone")
        self.write("away/in.txt", "in")
        self.snap("--at", "2026-11-17 12:00")
        self.write("plan.txt", "second")
        self.snap("--at", "2026-11-17 13:00")
        (self.work / "gone.txt").unlink()
        shutil.rmtree(self.work / "away")
        self.snap("--at", "2026-11-17 14:00")
        self.mount()
        inside = str(self.work)[1:]
        versions = self.past / "files" / inside / "plan.txt"
        self.assertEqual(
            {path.name: path.read_text() for path in versions.iterdir()},
            {"2026-11-17 12.00.txt": "first", "2026-11-17 13.00.txt": "second"},
        )
        self.assertEqual(os.readlink(self.past / "moments" / "latest"), "2026-11-17 14.00")
        gone = self.past / "gone" / inside
        self.assertEqual(sorted(os.listdir(gone)), ["away", "gone.txt"])
        self.assertEqual((gone / "gone.txt").read_text(), "gone")
        self.assertEqual((gone / "away" / "in.txt").read_text(), "in")
        latest = self.past / "moments" / "latest" / inside / "plan.txt"
        self.assertEqual(latest.read_text(), "second")
        self.write("plan.txt", "third")
        self.snap()
        ends = time.monotonic() + 20
        while len(os.listdir(versions)) < 3 and time.monotonic() < ends:
            time.sleep(0.5)
        self.assertEqual(len(os.listdir(versions)), 3, "new snapshots come by themselves")
        self.assertEqual(latest.read_text(), "third")

    def test_it_is_never_over_something_and_ends_as_asked(self) -> None:
        self.write("plan.txt", "first")
        self.snap()
        full = self.folder / "full"
        full.mkdir()
        (full / "mine").write_text("mine")
        for where, words in ((full, "not empty"), (full / "mine", "no folder")):
            refused = program("mount", self.store, where)
            self.assertEqual(refused.returncode, 2)
            self.assertIn(words, refused.stderr)
        self.mount("--json")
        again = program("mount", self.store, self.past)
        self.assertEqual((again.returncode, "mounted in" in again.stderr), (2, True))
        (one,) = json.loads(program("mounts", "--json").stdout)["mounts"]
        self.assertEqual((one["folder"], one["answers"]), (str(self.past), True))
        with subprocess.Popen(["sleep", "60"], cwd=self.past) as sleeping:
            busy = program("unmount", self.past)
            self.assertEqual((busy.returncode, "in use" in busy.stderr), (2, True))
            self.assertEqual(program("unmount", self.past, "--force").returncode, 0)
            sleeping.kill()
        self.wait_until(lambda: not self.past.exists(), "it was made for this, and goes")
        self.assertEqual(program("unmount", self.past).returncode, 2)

    def wait_until(self, true: object, words: str, seconds: float = 20) -> None:
        ends = time.monotonic() + seconds
        while not true() and time.monotonic() < ends:  # type: ignore[operator]
            time.sleep(0.1)
        self.assertTrue(true(), words)  # type: ignore[operator]

    def test_what_a_killed_process_leaves_is_found_and_cleared(self) -> None:
        self.write("plan.txt", "first")
        self.snap()
        self.mount()
        self.kill()
        self.assertIn("was killed", program("mounts").stdout)
        self.mount()
        self.assertEqual((self.latest / "plan.txt").read_text(), "first")
        self.kill()
        self.assertEqual(program("unmount", self.past).returncode, 0)

    def processes(self) -> list[int]:
        """The processes of this test's mounts."""
        found = subprocess.run(
            ["pgrep", "-f", "good_tide.operations.mount.process"], capture_output=True, text=True, check=False
        )
        here = os.fsencode(self.folder)
        return [int(one) for one in found.stdout.split() if here in Path(f"/proc/{one}/environ").read_bytes()]

    def test_a_folder_by_a_link_is_found_again(self) -> None:
        self.write("plan.txt", "first")
        self.snap()
        (self.folder / "way").symlink_to(self.folder)
        self.assertEqual(program("mount", self.store, self.folder / "way" / "past").returncode, 0)
        self.assertEqual((self.latest / "plan.txt").read_text(), "first")
        self.assertEqual(program("unmount", self.folder / "way" / "past").returncode, 0)

    def kill(self) -> None:
        for one in self.processes():
            os.kill(one, signal.SIGKILL)
        self.wait_until(lambda: not os.path.isdir(self.past), "it is killed")

    def test_a_passphrase_is_in_no_argument_and_no_environment(self) -> None:
        self.write("plan.txt", "first")
        self.store, right, wrong = (self.folder / name for name in ("sealed", "right", "wrong"))
        right.write_text(PASSPHRASE)
        wrong.write_text("another one")
        program("store", "create", self.store, passphrase=right)
        program("snapshot", "--store", self.store, "--folder", self.work, passphrase=right)
        refused = program("mount", self.store, self.past, passphrase=wrong)
        self.assertEqual((refused.returncode, self.past.exists()), (3, False))
        done = program("mount", self.store, self.past, passphrase=right)
        self.assertEqual((done.returncode, (self.latest / "plan.txt").read_text()), (0, "first"))
        (process,) = self.processes()
        for what in ("cmdline", "environ"):
            self.assertNotIn(PASSPHRASE.encode(), Path(f"/proc/{process}/{what}").read_bytes())

    def test_it_ends_by_itself_when_nobody_looks(self) -> None:
        self.write("plan.txt", "first")
        self.snap()
        self.mount("--idle", "0.1")
        self.wait_until(lambda: self.past not in self.mounted(), "it ended", 30)
        self.wait_until(lambda: not self.past.exists(), "the folder that was made for it goes")

    def mounted(self) -> list[Path]:
        """Mounts, without looking into them."""
        lines = Path("/proc/self/mountinfo").read_text().splitlines()
        return [Path(line.split()[4]) for line in lines if "fuse.good-tide" in line]

    def test_what_is_lost_gives_an_error_and_all_the_rest_is_there(self) -> None:
        self.write("whole.bin", os.urandom(300_000))
        self.write("lost.bin", os.urandom(9_000_000))
        self.snap()
        self.mount()
        packs = sorted((self.store / "packs").rglob("*"), key=lambda one: one.stat().st_size)
        data = bytearray(packs[-1].read_bytes())
        for at in range(500_000, len(data) - 500_000, 4096):
            data[at : at + 2048] = bytes(2048)
        packs[-1].chmod(0o600)
        packs[-1].write_bytes(data)
        read = subprocess.run(["cat", self.latest / "lost.bin"], capture_output=True, check=False)
        self.assertEqual((read.returncode, b"Input/output error" in read.stderr), (1, True))
        self.assertEqual(sorted(os.listdir(self.latest)), ["lost.bin", "whole.bin"])

    def test_a_disk_that_goes_gives_errors_and_the_mount_ends(self) -> None:
        for number in range(8):
            self.write(f"{number}.bin", os.urandom(400_000))
        self.snap()
        self.mount()
        self.assertEqual(len(os.listdir(self.latest)), 8)
        self.store.rename(self.folder / "pulled")
        readers = [
            subprocess.Popen(
                ["cat", self.latest / f"{number}.bin"], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE
            )
            for number in range(8)
        ]
        for reader in readers:
            with reader:
                _, errors = reader.communicate(timeout=60)
                self.assertEqual((reader.returncode, b"Input/output error" in errors), (1, True))
        self.wait_until(lambda: not self.past.exists(), "it ended", 60)

    def test_snapshots_leave_it_out_by_themselves(self) -> None:
        self.write("plan.txt", "first")
        self.snap()
        self.past = self.work / "past"
        self.mount()
        self.left_out("a mount is not taken in")
        tag = (self.past / "CACHEDIR.TAG").read_bytes()
        self.assertTrue(tag.startswith(b"Signature: 8a477f597d28d172789f06886806bc55"))
        self.kill()
        self.left_out("nor what a killed one left")

    def left_out(self, words: str) -> None:
        done = program("snapshot", "--store", self.store, "--folder", self.work, "--json")
        said = json.loads(done.stdout)
        reasons = [(one["path"], one["reason"]) for one in said["left_out"]]
        self.assertEqual(
            (done.returncode, said["files"], reasons), (0, 1, [(str(self.past), "store")]), words
        )


@unittest.skipUnless(_possible(), "mounting needs /dev/fuse and the package fuse3")
class MountFromTheWindowTest(WindowTest):
    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(self.unmount)

    def unmount(self) -> None:
        past = self.folder / "run" / "good-tide" / "past" / "Office"
        subprocess.run(["fusermount3", "-u", "-z", str(past)], capture_output=True, check=False)

    def opened(self, button: QAbstractButton) -> Path:
        """The folder that the file manager is to show after a button is pressed."""
        shown: list[QUrl] = []

        def takes(url: QUrl) -> bool:
            shown.append(url)
            return True

        with mock.patch.object(QDesktopServices, "openUrl", side_effect=takes):
            self.press(button)
            self.until(lambda: bool(shown))
        return Path(shown[0].toLocalFile())

    def test_what_was_there_is_shown_in_the_file_manager_until_the_agent_ends(self) -> None:
        place = self.views.timeline
        place.enter(os.fsencode(self.work))
        self.until(lambda: not place.model.missing_views() and place.model.moment == 6)
        self.until(lambda: place.pane.currentWidget() is place.pane.folder)
        folder = self.opened(place.pane.folder.files)
        past = self.folder / "run" / "good-tide" / "past" / "Office"
        self.assertEqual(folder.parents[len(self.work.parts) - 1], past / "moments")
        self.assertEqual((folder / "plan.txt").read_text(), "5")
        place.go(2)
        place.select(place.model.root + b"/plan.txt")
        self.until(lambda: not self.window.link.waits and place.pane.currentWidget() is place.inspector)
        before = self.opened(place.inspector._files)
        self.assertEqual((before / "plan.txt").read_text(), "1", "its folder, at that moment")
        self.assertNotEqual(before, folder)
        with mock.patch.object(QDesktopServices, "openUrl", return_value=False):
            self.press(place.inspector._files)
            self.until(lambda: str(before) in place.inspector.says.text())
        self.write("plan.txt", "6")
        newest = self.snap(open_store(self.root, None), 7)
        answers: list[str] = []
        call = ShowAsFolder(OFFICE, bytes(self.work), newest.id, newest.time)
        self.window.link.ask(call, answers.append)
        self.until(lambda: bool(answers))
        self.assertEqual((Path(answers[0]) / "plan.txt").read_text(), "6", "one that came a moment ago")
        self.agent.end()
        ends = time.monotonic() + 30
        while past.exists() and time.monotonic() < ends:
            time.sleep(0.1)
        self.assertFalse(past.exists(), "it ends with the agent")

    def test_where_nothing_can_be_mounted_it_is_said(self) -> None:
        place = self.views.timeline
        place.enter(os.fsencode(self.work))
        self.until(lambda: place.pane.currentWidget() is place.pane.folder)
        with mock.patch("shutil.which", return_value=None):
            self.press(place.pane.folder.files)
            self.until(
                lambda: "Earlier versions cannot be shown as folders here" in place.pane.folder.counts.text()
            )
