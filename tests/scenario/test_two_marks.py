"""The worried person's stories in the real window: the folder that is gone, what changed since, and the
afternoon of noise, found and brought back; by keys where that is said."""

from __future__ import annotations

import os
import random
import shutil

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QTreeWidgetItem

from good_tide.core.comparing import Comparison, Verdict
from good_tide.core.differences import Counts, Differences, Differing, What
from good_tide.core.restoring import Extent
from good_tide.core.words import size_words
from good_tide.desktop.painting.picture import NAME_WIDTH
from good_tide.desktop.timeline.folder_pane import FolderPane
from good_tide.protocol.history_calls import DifferencesView
from good_tide.protocol.schedule_calls import TakeSnapshot
from good_tide.protocol.version_calls import Beside, ComparisonView
from good_tide.storage.store import Store
from tests.support.base import OFFICE, tree
from tests.support.windows import WindowTest, row_of


class TwoMarksTest(WindowTest):
    def make_history(self, store: Store) -> None:
        rng = random.Random(8)
        for number in range(12):
            self.write(f"letters/{number}.txt", " ".join(rng.choices(["act", "scene", "cue"], k=200)))
        self.write("plans/stage/plan.txt", "the stage")
        self.write("plans/light.txt", "the light")
        self.snap(store, 0)
        self.write("letters/0.txt", "another letter")
        self.snap(store, 1)
        self.before = tree(self.work)
        self.write("plans/light.txt", "another light")
        self.snap(store, 2)

    def setUp(self) -> None:
        super().setUp()
        self.place = self.views.timeline
        self.pane = self.place.pane
        self.place.lines.setFocus()
        self.until(lambda: not self.place.model.missing_views())

    def key(self, key: Qt.Key, modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        QTest.keyClick(self.place.lines, key, modifiers)
        QApplication.processEvents()

    def says(self, words: str) -> None:
        """Wait until the pane of a folder says it."""
        folder = self.pane.folder
        self.until(lambda: self.pane.currentWidget() is folder and words in folder.counts.text())

    def accept(self) -> None:
        """Carry the plan out that is shown."""
        self.until(lambda: self.place.dialog is not None and self.place.dialog.plan is not None)
        assert self.place.dialog is not None
        self.window.notice.hide()
        self.place.dialog.accept()
        self.until(lambda: self.window.notice.isVisible() and self.window.state.work is None)

    def item(self, *names: str) -> QTreeWidgetItem:
        """An item of the tree by the names that lead to it, when it has come."""
        self.until(lambda: self.item_now(*names) is not None)
        found = self.item_now(*names)
        assert found is not None
        return found

    def item_now(self, *names: str) -> QTreeWidgetItem | None:
        tree = self.pane.folder.tree
        found: QTreeWidgetItem | None = None
        for name in names:
            many = (
                [tree.topLevelItem(at) for at in range(tree.topLevelItemCount())]
                if found is None
                else [found.child(at) for at in range(found.childCount())]
            )
            found = next((one for one in many if one is not None and one.text(0) == name), None)
            if found is None:
                return None
        return found

    def test_a_folder_is_never_an_empty_pane(self) -> None:
        self.says("Nothing differs.")
        self.assertFalse(self.pane.folder.exactly.isEnabled())
        self.key(Qt.Key.Key_Down)
        self.says("Nothing differs.")
        self.assertIn("letters", self.pane.folder.title.text())
        self.press(self.pane.folder.one)
        self.until(lambda: self.place.dialog is not None and self.place.dialog.plan is not None)
        assert self.place.dialog is not None
        out = self.folder / "a copy"
        self.place.dialog.restore_into(str(out))
        self.until(self.place.dialog._go.isEnabled)
        self.accept()
        self.assertEqual((out / "letters/3.txt").read_bytes(), (self.work / "letters/3.txt").read_bytes())

    def test_the_folder_that_is_gone_is_brought_back(self) -> None:
        shutil.rmtree(self.work / "plans")
        (self.work / "letters/3.txt").unlink()
        self.place.go(3)
        self.place.pane.forget()
        self.place.enter(os.fsencode(self.work))
        lost = (self.work / "letters/4.txt").stat().st_size
        self.says("3 gone")
        self.assertGreater(lost, 0)
        self.assertEqual(self.item("plans", "stage", "plan.txt").text(1), "gone")
        self.assertEqual(self.item("letters").text(1), "1")
        self.press(self.pane.folder.gone)
        self.accept()
        self.assertEqual((self.work / "plans/light.txt").read_text(), "another light")
        self.assertTrue((self.work / "letters/3.txt").exists())

    def test_one_thing_of_the_tree_is_brought_back_and_shown(self) -> None:
        (self.work / "plans/stage/plan.txt").unlink()
        (self.work / "letters/3.txt").unlink()
        self.place.pane.forget()
        self.place.enter(os.fsencode(self.work))
        self.says("2 gone")
        self.pane.folder.tree.setCurrentItem(self.item("plans", "stage", "plan.txt"))
        self.press(self.pane.folder.one)
        self.accept()
        self.assertTrue((self.work / "plans/stage/plan.txt").exists())
        self.assertFalse((self.work / "letters/3.txt").exists())
        self.pane.folder.tree.itemActivated.emit(self.item("letters", "3.txt"), 0)
        self.assertEqual(self.place.model.selected, os.fsencode(self.work / "letters/3.txt"))

    def test_what_is_opened_and_chosen_in_the_tree_stays_while_nothing_differs_otherwise(self) -> None:
        (self.work / "plans/stage/plan.txt").unlink()
        self.pane.forget()
        self.place.enter(os.fsencode(self.work))
        self.until(lambda: "1 gone" in self.pane.folder.counts.text())
        chosen = self.item("plans", "stage", "plan.txt")
        self.pane.folder.tree.setCurrentItem(chosen)
        self.window.state.ask()
        self.until(lambda: not self.window.link.waits and not self.pane.settle.isActive())
        self.assertIs(self.pane.folder.tree.currentItem(), chosen)
        (self.work / "plans/light.txt").unlink()
        self.window.state.ask()
        self.until(lambda: "2 gone" in self.pane.folder.counts.text())

    def test_a_second_mark_by_keys_and_by_mouse(self) -> None:
        self.place.go(1)
        self.key(Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
        self.assertEqual((self.place.model.moment, self.place.model.against), (1, 2))
        self.says("1 changed")
        self.assertEqual(self.item("letters", "0.txt").text(1), "changed")
        self.assertFalse(self.pane.folder.changed.isEnabled(), "the past is not written to")
        self.key(Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
        self.says("2 changed")
        self.assertTrue(self.place.unmark.isVisible())
        self.assertFalse(self.place.chart.grab().isNull())
        self.key(Qt.Key.Key_Escape)
        self.assertEqual((self.place.model.against, self.place.unmark.isVisible()), (0, False))
        at = NAME_WIDTH + int(self.place.model.axis.x(self.place.model.time_of(2)))
        shift = Qt.KeyboardModifier.ShiftModifier
        QTest.mouseClick(self.place.chart, Qt.MouseButton.LeftButton, shift, QPoint(at, 100))
        self.assertEqual((self.place.model.moment, self.place.model.against), (1, 2))
        QTest.mouseClick(self.place.lines.viewport(), Qt.MouseButton.LeftButton, shift, QPoint(at, 15))
        self.assertEqual(self.place.model.against, 2)
        QTest.keyClicks(self.place.search.field, "txt")
        self.until(lambda: self.place.model.found is not None)
        self.press(self.place.search.between)
        self.until(lambda: self.place.model.found is not None and self.place.model.found.count == 1)
        self.assertEqual(self.place.model.rows()[-1].title, "0.txt")

    def test_the_afternoon_of_noise_by_keys_only(self) -> None:
        self.window.link.ask(TakeSnapshot(OFFICE))
        self.until(lambda: len(self.window.overview.tide) == 4 and self.window.state.work is None)
        before = tree(self.work)
        for path in (self.work / "letters").iterdir():
            path.write_bytes(random.Random(1).randbytes(900))
        self.write("letters/READ ME.txt", "pay")
        self.place.pane.forget()
        self.key(Qt.Key.Key_End)
        self.place.enter(os.fsencode(self.work))
        self.key(Qt.Key.Key_Down)
        self.says("12 changed")
        self.says(f"1 new ({size_words(3)})")
        self.assertEqual(self.item("READ ME.txt").text(1), "new")
        self.until(self.pane.folder.exactly.isEnabled)
        self.pane.folder.exactly.setFocus()
        QTest.keyClick(self.pane.folder.exactly, Qt.Key.Key_Space)
        self.until(lambda: self.place.dialog is not None)
        assert self.place.dialog is not None
        self.assertEqual(self.place.dialog._extent.currentData(), Extent.EXACTLY)
        self.accept()
        now = {path: what for path, what in tree(self.work).items() if b"Set aside" not in path}
        self.assertEqual({path: what[0] for path, what in now.items()}, {p: w[0] for p, w in before.items()})
        self.assertEqual(now.keys(), before.keys())
        self.assertEqual(len(list(self.work.rglob("READ ME.txt"))), 1, "it is set aside, not deleted")

    def test_rows_are_chosen_together_gathered_and_brought_back(self) -> None:
        self.place.enter(os.fsencode(self.work / "letters"))
        self.until(lambda: not self.place.model.missing_views())
        self.place.go(1)
        self.key(Qt.Key.Key_Down)
        shift = Qt.KeyboardModifier.ShiftModifier
        self.key(Qt.Key.Key_Down, shift)
        self.key(Qt.Key.Key_Down, shift)
        rows = self.place.model.rows()
        self.assertEqual(self.place.model.several, [row.path for row in rows[:3]])
        self.assertIs(self.pane.currentWidget(), self.pane.several)
        self.assertIn("3 things chosen", self.pane.several.title.text())
        control = Qt.KeyboardModifier.ControlModifier
        QTest.mouseClick(
            self.place.lines.viewport(), Qt.MouseButton.LeftButton, control, QPoint(60, 6 + 30 * 5 + 15)
        )
        self.assertEqual(len(self.place.model.several), 4)
        QTest.mouseClick(self.place.lines.viewport(), Qt.MouseButton.LeftButton, control, QPoint(60, 6 + 15))
        self.assertEqual(
            [os.path.basename(path) for path in self.place.model.several], [b"1.txt", b"10.txt", b"3.txt"]
        )
        self.assertFalse(self.place.lines.grab().isNull())
        self.press(self.pane.several.list_it)
        gathered = self.place.restore_list
        self.assertEqual(len(gathered.items), 3)
        self.place.lines.setFocus()
        self.key(Qt.Key.Key_Escape)
        self.assertEqual(self.place.model.several, [])
        self.key(Qt.Key.Key_A, control)
        self.assertEqual(len(self.place.model.several), 12)
        with self.subTest("the list is looked into, and changed"):
            self.press(gathered.open)
            self.assertTrue(gathered.tree.isVisible())
            gathered.tree.setCurrentItem(row_of(gathered.tree, 0))
            self.place.go(3)
            self.press(gathered.moment)
            self.assertEqual(gathered.items[0].snapshot, self.place.model.tide[2].name)
            self.assertEqual(gathered.twice.text(), "")
            gathered.tree.setCurrentItem(row_of(gathered.tree, 1))
            self.press(gathered.off)
            self.assertEqual(len(gathered.items), 2)
            self.place.go(1)
            gathered.add(self.place.model.picked(gathered.items[0].path), 0)
            self.assertIn("more than one moment", gathered.twice.text())
        for number in (1, 3):
            (self.work / "letters" / f"{number}.txt").unlink()
        self.place.plan(gathered.items)
        self.until(lambda: self.place.dialog is not None and self.place.dialog.plan is not None)
        assert self.place.dialog is not None
        self.assertIn("1 not possible", self.place.dialog._summary.text())
        self.accept()
        self.assertTrue((self.work / "letters/1.txt").exists() and (self.work / "letters/3.txt").exists())
        self.assertEqual(gathered.items, [])

    def test_the_phrase_that_disappeared(self) -> None:
        self.place.enter(os.fsencode(self.work / "plans"))
        self.until(lambda: not self.place.model.missing_views())
        self.place.select(os.fsencode(self.work / "plans/light.txt"))
        self.until(lambda: self.pane.inspector.phrase.isVisible())
        field = self.pane.inspector.phrase
        field.setFocus()
        QTest.keyClicks(field, "THE light")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.until(lambda: "1 of 2 versions" in self.pane.inspector.says.text())
        row = self.place.model.row_of(self.place.model.selected)
        assert row is not None
        self.assertEqual([self.place.model.says_it(row, span) for span in row.line.spans], [True, False])
        self.assertFalse(self.place.lines.grab().isNull())
        field.clear()
        self.assertIsNone(self.place.model.says)
        QTest.keyClicks(field, "never said")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.until(lambda: "No version says it" in self.pane.inspector.says.text())
        self.place.select(os.fsencode(self.work / "plans/stage"))
        self.assertEqual(self.pane.currentWidget(), self.pane.folder)

    def test_a_path_that_goes_very_deep_is_shown(self) -> None:
        path = os.fsencode(self.work) + b"/d" * 1500 + b"/file.txt"
        item = Differing(path, What.CHANGED, "f", 1, 2)
        counts = dict.fromkeys(What, Counts()) | {What.CHANGED: Counts(1, 2)}
        pane = FolderPane(self.place.chart._look)
        pane.ask(os.fsencode(self.work), "work", "")
        pane.show_differences(DifferencesView(Differences((item,)), counts), True)
        self.assertEqual(pane.tree.topLevelItemCount(), 1)
        self.assertEqual(row_of(pane.tree, 0).text(1), "1")
        pane.fail("The disk is not here")
        pane.show_differences(DifferencesView(Differences((item,)), counts), True)
        self.assertIn("1 changed", pane.counts.text())

    def test_a_file_is_compared_with_the_second_mark(self) -> None:
        self.place.enter(os.fsencode(self.work / "plans"))
        self.until(lambda: not self.place.model.missing_views())
        self.place.go(1)
        self.place.select(os.fsencode(self.work / "plans/light.txt"))
        self.place.mark(3)
        mode = self.pane.inspector._modes.button(1)
        self.until(lambda: mode.text() == "Against mark")
        QTest.mouseClick(mode, Qt.MouseButton.LeftButton)
        self.until(
            lambda: "Differs from the other mark: 1 line only here" in self.pane.inspector._verdict.text()
        )
        self.assertIn("at the other mark", self.pane.inspector.content.difference._one_head.text())
        picked, third = self.pane.inspector._picked, self.place.model.tide[2].name
        self.place.mark(2)
        same = "The same as the other mark"
        self.until(lambda: same in self.pane.inspector._verdict.text())
        late = Comparison(Verdict.OTHER, "Differs from the other mark")
        view = ComparisonView(picked.path, picked.snapshot, Beside.MARK, late)
        self.pane.inspector.take_comparison(view, third)
        self.assertIn(same, self.pane.inspector._verdict.text(), "what comes late is of the mark before")
        self.place.mark(1)
        self.until(lambda: mode.text() == "Against now")

    def test_the_pane_is_as_wide_as_one_likes(self) -> None:
        QTest.keyClick(self.place.lines, Qt.Key.Key_F6)
        self.assertFalse(self.place.lines.isVisible())
        QTest.keyClick(self.window, Qt.Key.Key_F6)
        self.assertTrue(self.place.lines.isVisible())
        self.place.sides.setSizes([500, 500])
        self.place.sides.splitterMoved.emit(500, 1)
        width = self.place.sides.sizes()[1]
        self.assertEqual(type(self.place.sides)(self.place.chart, self.place.pane)._width, width)
