"""The stories of somebody who has lost something, without a mouse: every key goes to where the focus is."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QTreeWidget, QWidget

from good_tide.desktop.shell.views import VIEWS
from good_tide.storage.store import Store
from tests.support import documents
from tests.support.windows import WindowTest, row_of

NONE = Qt.KeyboardModifier.NoModifier
MOST_TABS = 80


class ByKeysTest(WindowTest):
    def make_history(self, store: Store) -> None:
        self.write("Budgets/play.csv", "Item;Planned\nTimber;494\nPaint;565\n")
        self.write("Letters/guest.odt", documents.open_text("Your fee is 120 a night."))
        self.write("Drawings/plan.svg", '<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"/>')
        self.snap(store, 0)
        self.write("Budgets/play.csv", "Item;Planned\nnew;0\n")
        self.write("Letters/guest.odt", documents.open_text("We thank you."))
        shutil.rmtree(self.work / "Drawings")
        self.snap(store, 1)

    def setUp(self) -> None:
        super().setUp()
        self.place = self.views.timeline
        self.until(lambda: not self.place.model.missing_views())
        self.window.activateWindow()
        self.place.lines.setFocus()  # where the window puts it when the view is entered

    def key(self, key: Qt.Key, modifiers: Qt.KeyboardModifier = NONE) -> None:
        if QApplication.activeWindow() is None:
            self.window.activateWindow()  # as the desktop does when a dialog closes
            self.until(lambda: QApplication.focusWidget() is not None)
        focus = QApplication.focusWidget()
        assert focus is not None, "the focus is nowhere"
        QTest.keyClick(focus, key, modifiers)
        QApplication.processEvents()

    def write_keys(self, words: str) -> None:
        for letter in words:
            focus = QApplication.focusWidget()
            assert focus is not None
            QTest.keyClicks(focus, letter)

    def tab_to(self, wanted: QWidget) -> None:
        """Go on with Tab until a widget has the focus: whoever has no mouse comes there."""
        self.until(lambda: wanted.isEnabled() and wanted.isVisible())
        for _ in range(MOST_TABS):
            if wanted.hasFocus():
                return
            self.key(Qt.Key.Key_Tab)
        self.fail(f"{wanted.accessibleName() or wanted.objectName()!r} cannot be reached by Tab")

    def press_by_key(self, wanted: QWidget) -> None:
        self.tab_to(wanted)
        self.key(Qt.Key.Key_Space)

    def find(self, words: str, path: str) -> None:
        """Type, go down into what is found, and on to it."""
        self.place.lines.setFocus()
        self.write_keys(words)
        self.until(lambda: self.place.model.found is not None and bool(self.place.model.rows()))
        self.key(Qt.Key.Key_Down)
        wanted = os.fsencode(self.work / path)
        for _ in range(10):
            if self.place.model.selected == wanted:
                return
            self.key(Qt.Key.Key_Down)
        self.fail(f"{path} is not reached among {[row.title for row in self.place.model.rows()]}")

    def restored(self, path: str, true: Callable[[bytes], bool]) -> None:
        dialog = self.place.dialog
        assert dialog is not None
        self.until(dialog._go.isEnabled)
        self.press_by_key(dialog._go)
        self.until(lambda: "Restored" in self.window.notice.text)
        self.assertTrue(true((self.work / path).read_bytes()))

    def test_the_overwritten_budget(self) -> None:
        shown = self.place.inspector
        self.find("play", "Budgets/play.csv")
        self.until(lambda: shown.content.page is shown.content.table)
        self.tab_to(shown.strip)
        self.key(Qt.Key.Key_Left)
        self.until(lambda: self.place.model.moment == 1)
        self.tab_to(shown._modes.button(0))
        self.key(Qt.Key.Key_Right)
        self.until(lambda: shown.content.page is shown.content.tables)
        self.assertIn("2 rows only here, 1 row only there", shown._verdict.text())
        self.press_by_key(shown._restore)
        self.restored("Budgets/play.csv", lambda data: b"Timber" in data)
        self.press_by_key(self.window.notice.undo_button)
        self.until(lambda: "Undone" in self.window.notice.text)
        self.assertIn(b"new;0", (self.work / "Budgets/play.csv").read_bytes())

    def test_the_folder_gone_in_between(self) -> None:
        self.find("plan", "Drawings/plan.svg")
        shown = self.place.inspector
        self.until(shown._earlier.isVisible)
        self.press_by_key(shown._earlier)
        self.until(lambda: shown.content.page is shown.content.picture)
        self.press_by_key(shown._restore)
        self.restored("Drawings/plan.svg", lambda data: b"<svg" in data)

    def test_the_phrase_that_disappeared(self) -> None:
        self.find("guest", "Letters/guest.odt")
        shown = self.place.inspector
        self.until(shown.phrase.isVisible)
        self.tab_to(shown.phrase)
        self.write_keys("fee is 120")
        self.key(Qt.Key.Key_Return)
        self.until(lambda: "1 of 2 versions" in shown.says.text())
        self.tab_to(shown.strip)
        self.key(Qt.Key.Key_Home)
        self.until(lambda: "fee is 120" in shown.content.text.text.document_text())

    def test_what_was_set_aside_is_let_go_in_the_journal(self) -> None:
        self.find("play", "Budgets/play.csv")
        self.key(Qt.Key.Key_Left, Qt.KeyboardModifier.AltModifier)
        self.until(lambda: self.place.model.moment == 1)
        self.press_by_key(self.place.inspector._restore)
        self.restored("Budgets/play.csv", lambda data: b"Timber" in data)
        self.key(Qt.Key.Key_5, Qt.KeyboardModifier.ControlModifier)
        self.until(lambda: self.window.current is VIEWS[4])
        journal = self.views.journal
        self.tab_to(journal.what)
        self.key(Qt.Key.Key_End)
        made = journal.restores
        self.until(lambda: made.tree.topLevelItemCount() == 1)
        self.tab_to(made.let_go)

    def test_the_plan_is_walked_and_changed(self) -> None:
        self.key(Qt.Key.Key_Home)
        self.key(Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
        self.until(lambda: self.place.pane.currentWidget() is self.place.pane.several)
        several = self.place.pane.several
        self.press_by_key(several.back)
        dialog = self.place.dialog
        assert dialog is not None
        self.until(lambda: dialog.plan is not None)
        tree: QTreeWidget = dialog.items
        self.tab_to(tree)
        self.key(Qt.Key.Key_Home)
        self.until(lambda: tree.currentItem() is not None)
        first = row_of(tree, 0).text(0)
        self.key(Qt.Key.Key_Space)
        self.until(lambda: bool(dialog.without))
        self.assertEqual([os.path.basename(os.fsdecode(path)) for path in dialog.without], [first])
        self.key(Qt.Key.Key_Space)
        self.until(lambda: not dialog.without)
        self.key(Qt.Key.Key_Escape)
        self.assertFalse(dialog.isVisible())
