"""Restores that were made: killed and gone on with, walked as a tree before, listed in the Journal after."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QMessageBox

from good_tide.core.restoring import Action, Extent, RestoreState
from good_tide.desktop.link import AgentLink
from good_tide.desktop.shell.views import VIEWS
from good_tide.protocol.contract import Answer, Call
from good_tide.storage.store import Store
from tests.support.base import GoodTideTest, program, tree
from tests.support.windows import WindowTest, row_of


class KilledTest(GoodTideTest):
    def test_a_killed_restore_goes_on_and_leaves_nothing_half_made(self) -> None:
        store = self.folder / "open"
        program("store", "create", store, "--unencrypted")
        for number in range(1500):
            self.write(f"{number % 30}/{number}.txt", os.urandom(9000))
        program("snapshot", "--store", store, "--folder", self.work)
        before = tree(self.work)
        for number in range(0, 1500, 2):
            self.write(f"{number % 30}/{number}.txt", "spoilt")
        shutil.rmtree(self.work / "7")
        spoilt = tree(self.work)
        command = ("restore", "--store", str(store), "--snapshot", "latest", "--all", "--in-place")
        killed = 0
        for _ in range(3):
            with subprocess.Popen(
                [sys.executable, "-m", "good_tide", *command], stdout=subprocess.DEVNULL
            ) as running:
                self.wait_for(lambda: next(self.work.glob("Set aside*/*/*"), None) is not None, running)
                time.sleep(0.05)
                running.send_signal(signal.SIGKILL)
                killed += running.wait() == -signal.SIGKILL
            if killed:
                break
        self.assertTrue(killed, "it was always done sooner")
        self.assertEqual(list(self.work.rglob(".good-tide-*")), [], "nothing half made is left")
        listed = program("restores", "list", "--json")
        (note,) = json.loads(listed.stdout)["restores"]
        self.assertEqual((listed.returncode, note["state"]), (1, "cut off"))
        self.assertIn("go-on", program("restores", "list").stdout)
        done = json.loads(program("restores", "go-on", note["restore"], "--check", "--json").stdout)
        self.assertEqual(done["problems"], [])
        self.assertGreater(done["identical"], 700)
        after = tree(self.work)
        self.assertEqual({path for path in after if b"Set aside" not in path}, set(before))
        there = {path for path, what in before.items() if what[0] == "folder" and path in spoilt}
        odd = [path for path, what in before.items() if path not in there and after[path] != what]
        self.assertEqual(odd, [], "content, times and permissions of all that was brought")
        self.assertEqual(program("restores", "list").returncode, 0)
        self.assertEqual(program("restores", "go-on", note["restore"]).returncode, 2, "it is done")
        self.assertIn("Would be deleted: 7", program("restores", "let-go", note["restore"]).stdout)
        undone = json.loads(program("restores", "undo", note["restore"], "--json").stdout)
        self.assertEqual(undone["kept"], [])
        self.assertEqual(tree(self.work).keys(), spoilt.keys())
        self.assertEqual((self.work / "0/0.txt").read_text(), "spoilt")

    def wait_for(self, true: object, running: subprocess.Popen[bytes]) -> None:
        ends = time.monotonic() + 60
        while not true() and running.poll() is None and time.monotonic() < ends:  # type: ignore[operator]
            time.sleep(0.01)

    def test_an_item_is_left_out_by_command_and_what_was_set_aside_is_let_go(self) -> None:
        store = self.folder / "open"
        program("store", "create", store, "--unencrypted")
        for name in ("a/1.txt", "a/2.txt", "b/3.txt"):
            self.write(name, name)
        program("snapshot", "--store", store, "--folder", self.work)
        for name in ("a/1.txt", "a/2.txt", "b/3.txt"):
            self.write(name, "spoilt")
        command = ("restore", "--store", store, "--snapshot", "latest", "--all", "--in-place", "--json")
        done = json.loads(program(*command, "--without", self.work / "a").stdout)
        self.assertEqual((done["replaced"], (self.work / "a/1.txt").read_text()), (1, "spoilt"))
        (note,) = json.loads(program("restores", "list", "--json").stdout)["restores"]
        self.assertEqual((note["set_aside_files"], note["replaced"]), (1, 1))
        gone = json.loads(program("restores", "let-go", note["restore"], "--yes", "--json").stdout)
        self.assertEqual((gone["deleted"], gone["files"]), (True, 1))
        self.assertEqual(list(self.work.glob("Set aside*")), [])
        self.assertEqual(program("restores", "undo", note["restore"]).returncode, 2)
        self.assertEqual(program("restores", "undo", "nothing").returncode, 2)


class PlanTreeTest(WindowTest):
    def make_history(self, store: Store) -> None:
        for name in ("a/deep/1.txt", "a/deep/2.txt", "a/3.txt", "b/4.txt", "same.txt"):
            self.write(name, name)
        self.snap(store, 0)
        for name in ("a/deep/1.txt", "a/3.txt"):
            self.write(name, "spoilt")
        (self.work / "b/4.txt").unlink()
        self.snap(store, 1)

    def setUp(self) -> None:
        super().setUp()
        self.place = self.views.timeline
        self.until(lambda: not self.place.model.missing_views())
        self.place.go(1)
        self.place.plan([self.place.model.picked(os.fsencode(self.work))], Extent.ALL)
        self.until(lambda: self.place.dialog is not None and self.place.dialog.plan is not None)
        assert self.place.dialog is not None
        self.dialog = self.place.dialog
        self.items = self.dialog.items

    def names(self) -> list[str]:
        self.until(lambda: bool(self.listed()))
        return self.listed()

    def listed(self) -> list[str]:
        top = row_of(self.items, 0)
        return [top.child(number).text(0) for number in range(top.childCount())]  # type: ignore[union-attr]

    def test_folders_count_what_is_in_them_and_items_are_taken_out(self) -> None:
        self.assertEqual(self.names(), ["a", "b", "same.txt"])
        top = row_of(self.items, 0)
        folder = top.child(0)
        assert folder is not None
        self.assertIn("2 to replace", folder.text(1))
        self.assertIn("1 to create, 2 to replace", self.dialog._summary.text())
        folder.setExpanded(True)
        self.until(lambda: folder.childCount() == 2)
        deep = folder.child(0)
        assert deep is not None
        deep.setCheckState(0, Qt.CheckState.Unchecked)
        self.until(lambda: "taken out" in self.dialog._summary.text())
        self.assertEqual(self.dialog.without, (os.fsencode(self.work / "a/deep"),))
        self.assertIn("1 to create, 1 to replace", self.dialog._summary.text())
        self.dialog.accept()
        self.until(lambda: "Restored" in self.window.notice.text)
        self.assertEqual((self.work / "a/deep/1.txt").read_text(), "spoilt")
        self.assertEqual((self.work / "a/3.txt").read_text(), "a/3.txt")
        self.assertTrue(self.window.notice.show_button.isVisible())

    def test_listed_by_what_happens(self) -> None:
        self.names()
        words = [self.dialog.filter.itemText(number) for number in range(self.dialog.filter.count())]
        self.assertIn("1 to create", words)
        self.dialog.filter.setCurrentIndex(self.dialog.filter.findData(Action.CREATE))
        self.until(lambda: self.listed() == ["b"])
        for widget in (self.items, self.dialog.filter):
            self.assertTrue(widget.accessibleName())

    def test_the_list_is_filled_anew_while_a_folder_is_on_its_way(self) -> None:
        self.names()
        folder = row_of(self.items, 0).child(0)
        assert folder is not None
        link = self.window.link
        late: list[Callable[[], object]] = []

        def ask_late(call: Call[Answer], then: Callable[[Answer], object], *more: object) -> None:
            AgentLink.ask(link, call, lambda answer: late.append(lambda: then(answer)))

        with mock.patch.object(link, "ask", ask_late):
            folder.setExpanded(True)
            self.until(lambda: len(late) == 1)
            self.dialog.filter.setCurrentIndex(self.dialog.filter.findData(Action.CREATE))
            self.until(lambda: len(late) == 2)
            self.dialog.filter.setCurrentIndex(self.dialog.filter.findData(Action.REPLACE))
            self.until(lambda: len(late) == 3)
        inside, earlier, latest = late
        latest()
        self.assertEqual(self.names(), ["a"])
        listed = row_of(self.items, 0).child(0)
        for answer in (earlier, inside):
            answer()
            self.assertIs(row_of(self.items, 0).child(0), listed)

    def test_nothing_is_left_to_do_when_all_is_taken_out(self) -> None:
        self.names()
        row_of(self.items, 0).setCheckState(0, Qt.CheckState.Unchecked)
        self.until(lambda: "Nothing to do" in self.dialog._summary.text())
        self.assertFalse(self.dialog._go.isEnabled())

    def test_the_journal_lists_restores_undoes_them_and_lets_go(self) -> None:
        self.names()
        self.dialog.accept()
        self.until(lambda: "Restored" in self.window.notice.text)
        self.window.show_view(VIEWS[4])
        journal = self.views.journal
        journal.what.setCurrentIndex(3)
        made = journal.restores
        self.until(lambda: made.tree.topLevelItemCount() == 1)
        row = row_of(made.tree, 0)
        self.assertEqual((row.text(1), row.text(4)), ("done", "2 files, 12 B"))
        self.assertIn("2 replaced", made.says.text())
        self.assertFalse(made.go_on.isVisible())
        with mock.patch.object(QDesktopServices, "openUrl") as opened:
            self.press(made.show_it)
        self.assertEqual(opened.call_args.args[0].toLocalFile(), str(self.work))
        with mock.patch.object(made, "_sure", return_value=False):
            self.press(made.let_go)
        self.assertEqual(made.chosen and made.chosen.note.state, RestoreState.DONE)
        with mock.patch.object(made, "_sure", return_value=True):
            self.press(made.undo)
        self.until(lambda: "Undone" in self.window.notice.text)
        self.assertEqual((self.work / "a/3.txt").read_text(), "spoilt")
        made.refresh(0)
        self.until(lambda: row_of(made.tree, 0).text(1) == "undone")
        self.assertFalse(made.undo.isEnabled())

    def test_one_that_was_cut_off_goes_on_from_the_journal(self) -> None:
        self.names()
        self.dialog.accept()
        self.until(lambda: "Restored" in self.window.notice.text)
        restores = self.agent.context.restores
        note = restores.all()[0]
        restores.change(note.id, state=RestoreState.CUT_OFF, why="It was stopped")
        self.write("a/3.txt", "spoilt again")
        self.window.notice.hide()
        self.window.show_view(VIEWS[4])
        made = self.views.journal.restores
        self.views.journal.what.setCurrentIndex(3)
        self.until(made.go_on.isVisible)
        self.assertIn("It was stopped", made.says.text())
        self.press(made.go_on)
        self.until(lambda: self.window.notice.isVisible() and "Restored 1 item" in self.window.notice.text)
        self.assertEqual((self.work / "a/3.txt").read_text(), "a/3.txt")
        made.refresh(0)
        self.until(lambda: row_of(made.tree, 0).text(1) == "done")
        self.assertEqual(row_of(made.tree, 0).text(4), "3 files, 24 B")
        gone = [Path(folder) for folder in restores.all()[0].folders]
        with mock.patch.object(made, "_sure", return_value=True):
            self.press(made.let_go)
        self.until(lambda: row_of(made.tree, 0).text(1) == "let go")
        self.assertFalse(any(folder.exists() for folder in gone))

    def test_letting_go_asks_and_the_safe_answer_has_the_focus(self) -> None:
        made = self.views.journal.restores
        asked: list[str] = []

        def answered(box: QMessageBox) -> int:
            default = box.defaultButton()
            asked.append(default.text() if default is not None else "")
            return 0

        with mock.patch.object(QMessageBox, "exec", answered):
            self.assertFalse(made._sure("Let go?", "3 files will be deleted", "Delete it"))
        self.assertEqual(asked, ["Leave it"])
