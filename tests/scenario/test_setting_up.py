"""The quiet moment, from an empty machine to the first snapshot: by command line, through the agent, and in
the window."""

from __future__ import annotations

import os
import shutil
from pathlib import Path
from unittest import mock

import msgspec
from PySide6.QtCore import QPointF, Qt
from PySide6.QtPrintSupport import QPrinter
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QCheckBox, QPushButton

from good_tide.core.happenings import Filter
from good_tide.core.identifiers import JobId, SnapshotId
from good_tide.core.places import Level
from good_tide.core.progress import Progress, WorkKind
from good_tide.core.records import StoreHistory
from good_tide.core.restoring import Extent
from good_tide.desktop.setup.rescue import RescueDialog
from good_tide.desktop.shell.views import VIEWS
from good_tide.desktop.timeline.view import TimelineView
from good_tide.desktop.view import RestoreOffer
from good_tide.operations.jobs import in_menus
from good_tide.operations.workplace import load_jobs
from good_tide.protocol.agent_calls import Work
from good_tide.protocol.setup_calls import HistoryView, OpenedView
from good_tide.storage import header
from good_tide.storage.folder_place import FolderPlace
from good_tide.system import covered_list
from good_tide.system.desktop_entry import share_folder
from good_tide.system.stand_in_disks import StandIn
from tests.support.base import CHEAP, HOUR, MACHINE, OFFICE, OTHER_MACHINE, T0, open_store, tree
from tests.support.disk_facts import GIB
from tests.support.windows import SetUpWindowTest

WORDS = "harbour lantern slow curtain"


class WindowTest(SetUpWindowTest):
    def test_earlier_versions_come_into_the_menus_of_file_managers_where_that_is_wanted(self) -> None:
        self.assertFalse(self.page.menus.isVisible())  # these are not the person's own settings
        programs = self.folder / "bin"
        programs.mkdir()
        (programs / "pcmanfm-qt").write_text("#!/bin/sh")
        (programs / "pcmanfm-qt").chmod(0o755)
        own = mock.patch.object(in_menus, "own_settings_folder", lambda: self.settings)
        with own, mock.patch.dict(os.environ, {"PATH": str(programs)}):
            self.page._view = None
            self.page.start()
            self.settle(lambda: self.page.menus.isVisible())
            self.assertIn("PCManFM-Qt", self.page.menus.text())
            self.choose_disk("Pier")
            self.set_up()
            self.settle(lambda: (share_folder() / "file-manager" / "actions").is_dir())
        self.assertEqual(
            covered_list.read_list(), [str(self.home / "Documents"), str(self.home / "Pictures")]
        )

    def choose_disk(self, name: str) -> None:
        next(row for row in self.page.place.rows if row.view.facts.name == name).radio.click()
        self.settle()

    def set_up(self) -> str:
        """Take the proposal everywhere and begin; returns the recovery key."""
        self.page.secrecy.take_proposal()
        self.page.secrecy.remember.setChecked(True)
        self.settle(self.page.begin.isEnabled)
        QTest.mouseClick(self.page.begin, Qt.MouseButton.LeftButton)
        self.until(lambda: self.window.page is self.window.recovery)
        self.settle(lambda: self.window.overview.state == "ready" and self.window.overview.work is None)
        return self.window.recovery.key.text()

    def test_from_an_empty_machine_to_the_first_snapshot(self) -> None:
        self.assertEqual(
            [os.path.basename(folder) for folder in self.page.chosen()], ["Documents", "Pictures"]
        )
        self.assertEqual(self.page.place.folder, str(self.rack.folder("Pier") / "good-tide" / "desk"))
        self.assertEqual(self.page._what.text(), "3 files, 14.6 KiB")
        self.assertIn("Type a passphrase", self.page._trouble.text())
        self.assertFalse(self.page.begin.isEnabled())
        key = self.set_up()
        store = self.rack.folder("Pier") / "good-tide" / "desk"
        self.assertEqual(len(open_store(store, key).snapshot_ids()), 1)
        self.assertEqual(len(self.ring.kept), 1)
        recovery = self.window.recovery
        recovery.save_to(str(store.parent / "key.txt"))
        self.settle()
        self.assertIn("own disk", recovery.said.text())
        recovery.save_to(str(self.folder / "key.txt"))
        self.settle()
        self.assertIn(key, (self.folder / "key.txt").read_text())
        self.assertEqual((self.folder / "key.txt").stat().st_mode & 0o777, 0o600)
        printer = QPrinter()
        printer.setOutputFormat(QPrinter.OutputFormat.PdfFormat)
        printer.setOutputFileName(str(self.folder / "key.pdf"))
        recovery.print_on(printer)
        self.assertTrue((self.folder / "key.pdf").read_bytes().startswith(b"%PDF"))
        QTest.mouseClick(recovery.go_on, Qt.MouseButton.LeftButton)
        self.assertTrue(self.views.timeline_view.isVisible())
        self.assertEqual(recovery.key.text(), "")

    def test_doubts_are_accepted_knowingly_and_noted_and_disks_appear_by_themselves(self) -> None:
        self.choose_disk("Attic")
        self.assertIs(self.page.place.level(), Level.DOUBTFUL)
        self.page.secrecy.take_proposal()
        self.settle(self.page.begin.isEnabled)
        self.assertIn("same physical disk", self.page._summary.text())
        self.assertEqual(len(self.page.place.rows), 2)
        self.rack.plug("Mole")
        self.until(lambda: len(self.page.place.rows) == 3)
        self.settle()
        QTest.mouseClick(self.page.begin, Qt.MouseButton.LeftButton)
        self.until(lambda: self.window.overview.state == "ready")
        noted = [
            note
            for note in self.agent.context.journal.events(Filter(job=OFFICE))
            if any("same physical disk" in line for line in note.detail)
        ]
        self.assertEqual(len(noted), 1)

    def test_a_place_that_cannot_be_used_says_why(self) -> None:
        (self.rack.folder("Pier") / "letters").mkdir()
        (self.rack.folder("Pier") / "letters" / "a").touch()
        self.page.secrecy.take_proposal()
        self.page.place.choose(str(self.rack.folder("Pier") / "letters"), by_hand=True)
        self.settle()
        self.assertFalse(self.page.begin.isEnabled())
        self.assertIn("holds other things", self.page._trouble.text())
        self.page.place.choose(str(self.home.parent), by_hand=True)
        self.settle()
        self.assertIn("lies in the store", self.page._trouble.text())

    def test_a_slow_disk_is_measured_and_own_starting_points_are_offered(self) -> None:
        self.rack.add(StandIn(name="Old stick", capacity=900 * GIB, device="three", speed=2.0))
        self.until(lambda: len(self.page.place.rows) == 3)
        self.choose_disk("Old stick")
        self.settle(lambda: any("Slow: 2 MB a second" in check.what for check in self.page.place.list.checks))
        (self.home / "Papiere").mkdir()
        config = Path(os.environ["XDG_CONFIG_HOME"])
        config.mkdir(exist_ok=True)
        (config / "user-dirs.dirs").write_text('XDG_DOCUMENTS_DIR="$HOME/Papiere"\n')
        (self.settings / "starting-points").mkdir()
        (self.settings / "starting-points" / "mine.toml").write_text(
            'name = "Mine"\nfolders = ["$DOCUMENTS"]\nrules = ["exclude path x/"]\n'
        )
        (self.settings / "starting-points" / "broken.toml").write_text("name = \n")
        self.page._view = None
        self.page.start()
        self.settle(lambda: self.page.points.findText("Mine") >= 0)
        self.page.points.setCurrentText("Mine")
        self.page.points.activated.emit(self.page.points.currentIndex())
        self.settle(lambda: self.page.survey is not None and self.page.survey.done)
        self.assertEqual(
            ([os.path.basename(one) for one in self.page.chosen()], self.page._rules),
            (["Papiere"], ("exclude path x/",)),
        )
        self.assertIn("broken.toml", self.agent.context.journal.events(Filter())[0].what)

    def test_hints_and_passphrases_that_will_not_do(self) -> None:
        secrecy = self.page.secrecy
        for passphrase, again, hint, words in (
            ("low tide", "low tids", "", "differ"),
            ("low tide", "low tide", "LOW-TIDE", "hint contains"),
        ):
            secrecy.passphrase.setText(passphrase)
            secrecy.again.setText(again)
            secrecy.hint.setText(hint)
            self.assertIn(words, secrecy.missing())
            self.assertFalse(self.page.begin.isEnabled())
        self.until(lambda: secrecy.bar.score > 0)
        secrecy.open.click()
        self.assertIn("can read every file", secrecy.sentence.text())
        self.assertTrue(self.page.begin.isEnabled())

    def test_coverage_is_weighed_before_it_is_kept(self) -> None:
        self.set_up()
        self.window.show_view(VIEWS[1])
        place = self.views.coverage
        self.settle(lambda: place.survey is not None and place.survey.done)
        self.assertIn("3 files", place.sentence.text())
        place.rules.value.setText("Drafts/")
        QTest.keyClick(place.rules.value, Qt.Key.Key_Return)
        self.settle(place.keep.isEnabled)
        self.assertIn(
            "1 file, 4.9 KiB less in each snapshot; 1 file was in earlier snapshots and stays there",
            place._difference.text(),
        )
        self.assertEqual(
            load_jobs(self.settings)[0].rules[0], "exclude marker cachedir", "nothing is kept yet"
        )
        place.show_folder(os.fsencode(self.home / "Documents" / "Drafts"))
        self.settle()
        self.assertIn("Out: rule 1", place.why.text())
        QTest.mouseClick(place.keep, Qt.MouseButton.LeftButton)
        self.settle(lambda: not place.bar.isVisible())
        self.assertEqual(load_jobs(self.settings)[0].rules[0], "exclude path Drafts/")
        item = next(one for one in place._every_item() if one.text(0) == "Drafts")
        item.setCheckState(0, Qt.CheckState.Checked)
        self.settle(place.keep.isEnabled)
        self.assertEqual(place.rules.rules[0], "include path ~/Documents/Drafts/")
        QTest.mouseClick(place.discard, Qt.MouseButton.LeftButton)
        self.settle(lambda: not place.bar.isVisible())
        place.rules.add_line("exclude colour red")
        self.assertIn("no condition", place.rules.trouble.text())
        place.picture.grab()
        box, share = place.picture.boxes[-1]
        place.picture.chosen.emit(share.path)
        self.assertIsNotNone(place.picture.folder_at(QPointF(box.center())))

    def test_what_is_told_of_before_a_change_does_not_weigh_it(self) -> None:
        self.settle(lambda: self.page.survey is not None and self.page.survey.done)
        before, words = self.page.survey, self.page._what.text()
        assert before is not None
        self.page._items()[0].setCheckState(Qt.CheckState.Unchecked)
        self.page.take_survey(msgspec.structs.replace(before, files=7_000))
        self.assertEqual(self.page._what.text(), words)
        self.settle()
        self.set_up()
        self.window.show_view(VIEWS[1])
        place = self.views.coverage
        self.settle(lambda: place.survey is not None and place.survey.done)
        known = place.survey
        assert known is not None
        (self.home / "Plans").mkdir()
        place.cover(str(self.home / "Plans"))
        place.take_survey(known)
        self.assertFalse(place.keep.isEnabled())
        self.assertIn("Weighing", place._difference.text())

    def test_folders_are_covered_and_uncovered_and_deeper_ones_come_when_opened(self) -> None:
        self.set_up()
        (self.home / "Documents" / "one" / "two" / "three").mkdir(parents=True)
        (self.home / "Documents" / "one" / "two" / "three" / "x.txt").write_text("x")
        (self.home / "Plans").mkdir()
        (self.home / "Plans" / "house.svg").write_bytes(b"<svg/>" * 100)
        self.window.show_view(VIEWS[1])
        place = self.views.coverage
        self.settle(lambda: place.survey is not None and place.survey.done)
        for name in ("one", "two"):
            item = next(one for one in place._every_item() if one.text(0) == name)
            place.tree.expandItem(item)
            self.settle()
        self.assertIn("three", [one.text(0) for one in place._every_item()])
        place.cover(str(self.home / "Plans"))
        self.settle(place.keep.isEnabled)
        self.assertIn("1 file, 600 B more in each snapshot", place._difference.text())
        pictures = next(one for one in place._every_item() if one.text(0) == "~/Pictures")
        pictures.setCheckState(0, Qt.CheckState.Unchecked)
        self.settle(place.keep.isEnabled)
        self.assertEqual([os.path.basename(folder) for folder in place.folders], ["Documents", "Plans"])
        self.assertIn("less", place._difference.text())
        QTest.mouseClick(place.keep, Qt.MouseButton.LeftButton)
        self.settle(lambda: not place.bar.isVisible())
        self.assertEqual(
            [os.path.basename(folder) for folder in load_jobs(self.settings)[0].folders],
            ["Documents", "Plans"],
        )
        place.ask_why.setText("~/Pictures/poster.png")
        QTest.keyClick(place.ask_why, Qt.Key.Key_Return)
        self.settle()
        self.assertIn("in none of the covered folders", place.why.text())
        for last in ("Documents", "Plans"):
            place._uncover(str(self.home / last))
        self.assertEqual(
            [os.path.basename(folder) for folder in place.folders], ["Plans"], "the last one stays"
        )

    def test_a_second_store_is_added_history_carried_and_readers_changed(self) -> None:
        key = self.set_up()
        self.rack.plug("Mole")
        place = self.views.stores
        self.window.show_view(VIEWS[2])
        self.settle()
        QTest.mouseClick(place.add, Qt.MouseButton.LeftButton)
        self.settle(lambda: len(place.panel.place.rows) == 3 and bool(place.panel.place.folder))
        self.assertEqual(place.panel.place.folder, str(self.rack.folder("Mole") / "good-tide" / "desk"))
        for field in (place.panel.secrecy.passphrase, place.panel.secrecy.again):
            field.setText(WORDS)
        self.settle(place.panel.add.isEnabled)
        QTest.mouseClick(place.panel.add, Qt.MouseButton.LeftButton)
        self.settle(lambda: len(place.cards) == 2 and self.window.page is self.window.recovery)
        self.window.show_view(VIEWS[2])
        first, second = (card.view for card in place.cards)
        pier, mole = first.where, second.where
        place.cards[0].carry.emit(first, second)
        self.until(lambda: "Carried 1 snapshot" in self.window.notice.text)
        self.window.work_strip.show_work(Work(WorkKind.CARRY, False, Progress("Carrying"), 1.0))
        self.assertEqual(self.window.work_strip._words.text(), "Carrying snapshots over")
        self.assertFalse(self.window.work_strip.promise.isVisible())
        for past in range(5):
            progress = Progress("Reading", bytes_done=past << 30, bytes_total=4000 << 30)
            self.window.work_strip.show_work(Work(WorkKind.SNAPSHOT, False, progress, past), "Pier")
        told = self.window.work_strip.promise.text()
        self.assertIn("about 4.0 GiB are safe on Pier already", told)
        self.assertIn("goes on where it was. It lasts until about", told)
        self.window.work_strip.show_work(None)
        self.assertEqual(
            open_store(Path(mole), WORDS).snapshot_ids(), open_store(Path(pier), key).snapshot_ids()
        )
        place.turns.click()
        self.settle()
        self.assertEqual(load_jobs(self.settings)[0].store_use, "turns")
        place._readers(second)
        dialog = place.dialog
        assert dialog is not None
        self.settle(lambda: dialog.slots.topLevelItemCount() == 2)
        dialog.old.setText(WORDS)
        for field in (dialog.new.passphrase, dialog.new.again):
            field.setText("quite another passphrase")
        QTest.mouseClick(dialog.change, Qt.MouseButton.LeftButton)
        self.settle(lambda: "changed" in dialog.said.text())
        open_store(Path(mole), "quite another passphrase")
        dialog.close()
        place.cards[0].drop.emit(first)
        self.settle(lambda: len(place.cards) == 1)
        self.assertEqual([ref.name for ref in load_jobs(self.settings)[0].stores], ["Mole"])

    def test_a_store_of_another_machine_is_opened_to_read(self) -> None:
        self.set_up()
        other = self.new_store("theirs")
        self.write("plan.txt", "theirs")
        self.snap(other)
        place = self.views.stores
        self.window.show_view(VIEWS[2])
        place.open_panel()
        self.settle(lambda: bool(place.panel.place.rows))
        place.panel.place.choose(str(self.folder / "theirs"), by_hand=True)
        self.settle(place.panel.read.isVisible)
        self.assertIn("passphrase of the store there", place.panel.secrecy.sentence.text())
        place.panel.secrecy.passphrase.setText("tide and time")
        self.settle(place.panel.read.isEnabled)
        QTest.mouseClick(place.panel.read, Qt.MouseButton.LeftButton)
        self.settle(lambda: self.window.overview.reading)
        self.assertFalse(self.window.head.take.isEnabled())
        self.assertEqual(
            [self.window.head.job.itemText(number) for number in range(2)], ["Office", "desk (only to read)"]
        )
        self.window.head.job.activated.emit(0)
        self.settle(lambda: not self.window.overview.reading)

    def test_the_machine_is_dead_and_only_the_disk_and_the_recovery_key_are_there(self) -> None:
        lost = self.folder / "home" / "anna"
        for number in range(5):
            (lost / "Documents").mkdir(parents=True, exist_ok=True)
            (lost / "Documents" / f"{number}.txt").write_text(f"of the lost machine {number}")
        root = self.rack.folder("Pier") / "good-tide" / "desk"
        root.parent.mkdir()
        key = header.create_store(FolderPlace(root), WORDS, cost=CHEAP).recovery_key
        assert key is not None
        store = open_store(root, WORDS)
        self.snap(store, 0, OTHER_MACHINE, None, lost / "Documents")
        before = tree(lost / "Documents")
        shutil.rmtree(lost)
        self.assertIn("Was a machine lost?", self.page._lost.text())
        self.assertFalse(self.page.back.isEnabled())
        self.page.place.ask()
        self.settle(lambda: self.page.found.count() > 0)
        (button,) = [one for one in self.page.findChildren(QPushButton) if "desk on Pier" in one.text()]
        self.assertEqual(button.text(), "desk on Pier, 1 snapshot")
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)
        self.settle(
            lambda: self.page.place.examined is not None and self.page.place.examined.holds is not None
        )
        self.assertIn("A store lies in the place", self.page._lost.text())
        QTest.keyClicks(self.page.secrecy.passphrase, "quite another phrase")
        self.settle(self.page.back.isEnabled)
        QTest.mouseClick(self.page.back, Qt.MouseButton.LeftButton)
        self.until(lambda: self.page._trouble.isVisible() and bool(self.page._trouble.text()))
        self.page.secrecy.passphrase.clear()
        QTest.keyClicks(self.page.secrecy.passphrase, key)
        self.settle(self.page.back.isEnabled)
        QTest.mouseClick(self.page.back, Qt.MouseButton.LeftButton)
        timeline = self.views.timeline
        self.until(lambda: self.window.rescue is not None)
        rescue = self.window.rescue
        assert rescue is not None
        self.assertIn("1 snapshot", rescue.whose.item(0).text())
        self.assertIn("complete", rescue._moment.text())
        rescue.look.click()
        rescue.accept()
        self.until(lambda: self.window.overview.reading and len(timeline.model.rows()) == 1)
        self.until(lambda: "5 gone" in timeline.pane.folder.counts.text())
        timeline.pane.folder.bring.emit(timeline.model.root, Extent.EXACTLY)
        dialog = timeline.dialog
        assert dialog is not None
        self.until(lambda: dialog.plan is not None)
        here = self.folder / "new home"
        dialog.restore_home(str(lost), str(here))
        self.until(lambda: dialog._go.isEnabled() and str(here) in dialog._notes.text())
        self.assertFalse(dialog.grab().isNull())
        dialog.accept()
        self.until(lambda: self.window.notice.isVisible() and self.window.state.work is None)
        self.assertIn("5 read again and the same as in the store", self.window.notice._detail.text())
        self.assertEqual(tree(here / "Documents"), before)
        self.assertFalse(lost.exists())
        with self.subTest("its job goes on here"):
            with mock.patch.dict(os.environ, {"HOME": str(here)}):
                self.goes_on()
            (job,) = load_jobs(self.settings)
            self.assertEqual(job.machine and job.machine.id, OTHER_MACHINE.id)
            self.assertFalse(self.window.overview.reading)
            self.assertEqual(len(timeline.model.tide), 1, "with its history")

    def goes_on(self) -> None:
        """What was covered is here again under another home: the job of the lost machine is taken over."""
        timeline = self.window.views[VIEWS[0]]
        assert isinstance(timeline, TimelineView)
        self.settle(timeline.reading.isVisible)
        QTest.mouseClick(timeline.reading.take_over, Qt.MouseButton.LeftButton)
        first = timeline.going_on
        assert first is not None
        self.until(lambda: first.what.text() != "Looking…")
        self.assertIn("None of the folders of the job is here", first.what.text())
        self.assertFalse(first.go.isEnabled())
        first.reject()
        Path(self.folder / "home" / "anna" / "Documents").mkdir(parents=True)
        QTest.mouseClick(timeline.reading.take_over, Qt.MouseButton.LeftButton)
        dialog = timeline.going_on
        assert dialog is not None
        self.until(dialog.go.isEnabled)
        self.assertIn("writes no more", dialog._warning.text())
        QTest.mouseClick(dialog.go, Qt.MouseButton.LeftButton)
        self.until(lambda: not self.window.overview.reading and bool(load_jobs(self.settings)))

    def test_whose_history_which_moment_and_into_which_home(self) -> None:
        old = StoreHistory(OTHER_MACHINE, "", (), (b"/srv/shared",), 3, T0, SnapshotId("a" * 32), T0 - HOUR)
        lost = StoreHistory(
            MACHINE,
            "Office",
            ("anna",),
            (b"/home/anna/Documents", b"/home/anna/Pictures"),
            40,
            T0 + HOUR,
            SnapshotId("b" * 32),
            T0,
        )
        dialog = RescueDialog(
            OpenedView((HistoryView(JobId("one"), old), HistoryView(JobId("two"), lost)), T0 + 2 * HOUR),
            self.window,
        )
        dialog.open()
        chosen: list[tuple[object, object]] = []
        dialog.chosen.connect(lambda job, offer: chosen.append((job, offer)))
        self.assertEqual(dialog.history.history, lost, "the newest first")
        self.assertIn(f"{MACHINE.name} · Office, files of anna\n40 snapshots", dialog.whose.item(0).text())
        self.assertIn("the later ones lack something", dialog._moment.text())
        self.assertTrue(dialog.old_home.isVisible())
        dialog.new_home.setText("/home/ben")
        dialog.accept()
        offer = RestoreOffer(lost.complete, lost.complete_time, ("/home/anna", "/home/ben"))
        self.assertEqual(chosen, [("two", offer)])
        dialog.open()
        QTest.keyClick(dialog.whose, Qt.Key.Key_Down)
        self.assertFalse(dialog.old_home.isVisible(), "no home is known")
        dialog.accept()
        self.assertEqual(chosen[1], ("one", RestoreOffer(old.complete, old.complete_time)))
        dialog.open()
        dialog.look.click()
        dialog.accept()
        self.assertEqual(chosen[2], ("one", None))

    def test_everything_can_be_reached_by_keyboard_and_has_a_name(self) -> None:
        unnamed = [
            widget
            for widget in self.page.findChildren(QCheckBox)
            if widget.isVisible() and not (widget.text() or widget.accessibleName())
        ]
        self.assertEqual(unnamed, [])
        row = self.page.place.rows[0]
        self.assertIn("Pier", row.radio.accessibleName())
        row.radio.setFocus()
        QTest.keyClick(row.radio, Qt.Key.Key_Down)
        QApplication.processEvents()
        self.settle()
        self.assertIn("Attic", self.page.place.folder)
