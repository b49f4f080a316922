"""Handing out from the window: dragged, copied, saved as an archive; and dropped onto it."""

from __future__ import annotations

import os
import zipfile
from pathlib import Path
from typing import Any
from unittest import mock

from PySide6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDrag, QDragEnterEvent, QDropEvent, QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from good_tide.agent import handing_handlers
from good_tide.core.progress import WorkKind
from good_tide.storage.store import Store
from tests.support.windows import WindowTest


def kept(drag: QDrag) -> QMimeData:
    """What is dragged, which goes with the drag."""
    data = QMimeData()
    for form in drag.mimeData().formats():
        data.setData(form, drag.mimeData().data(form))
    return data


class HandingTest(WindowTest):
    def make_history(self, store: Store) -> None:
        for hour in range(3):
            self.write("letters/bank.txt", f"dear bank {hour}")
            self.write("letters/old/school.txt", "dear school")
            self.write("plan.txt", f"plan {hour}")
            self.write("empty.txt", "")
            self.snap(store, hour)

    def setUp(self) -> None:
        super().setUp()
        self.page = self.views.timeline
        self.until(lambda: not self.page.model.missing_views())
        self.page.go(2)
        self.dragged: list[QMimeData] = []
        self.addCleanup(QApplication.clipboard().clear)

    def row(self, name: str) -> QPoint:
        """The middle of a row's name."""
        titles = [row.title for row in self.page.model.rows()]
        return QPoint(60, 6 + 15 + 30 * titles.index(name))

    def drag(self, name: str, held: bool = True) -> None:
        """Drag a row by its name; what is given to other programs is kept."""

        def taken(drag: QDrag, actions: Any) -> Any:
            self.dragged.append(kept(drag))
            self.assertEqual(actions, Qt.DropAction.CopyAction)
            return actions

        buttons = Qt.MouseButton.LeftButton if held else Qt.MouseButton.NoButton
        with (
            mock.patch.object(QDrag, "exec", taken),
            mock.patch.object(QGuiApplication, "mouseButtons", lambda: buttons),
        ):
            at = self.row(name)
            QTest.mousePress(self.page.lines.viewport(), Qt.MouseButton.LeftButton, pos=at)
            for by in (4, 12, 24):
                QTest.mouseMove(self.page.lines.viewport(), at + QPoint(by, by))
                QApplication.processEvents()
            self.until(lambda: not self.window.link.waits)

    def paths(self, data: QMimeData) -> list[Path]:
        return [Path(url.toLocalFile()) for url in data.urls()]

    def test_a_row_is_dragged_as_it_was_at_the_moment(self) -> None:
        self.drag("plan.txt")
        (path,) = self.paths(self.dragged[0])
        self.assertEqual(path.read_text(), "plan 1")
        self.assertRegex(path.name, r"^plan \(.*\)\.txt$")
        listed = self.dragged[0].data("x-special/gnome-copied-files").data()
        self.assertEqual(listed, b"copy\n" + QUrl.fromLocalFile(str(path)).toEncoded().data())
        self.drag("letters")
        (folder,) = self.paths(self.dragged[1])
        self.assertEqual((folder / "bank.txt").read_text(), "dear bank 1")

    def test_rows_that_are_chosen_together_go_together(self) -> None:
        self.page.model.choose(os.fsencode(self.work / "letters"))
        self.page.model.also(os.fsencode(self.work / "plan.txt"))
        self.drag("plan.txt")
        self.assertEqual(len(self.paths(self.dragged[0])), 2)

    def test_who_let_go_already_is_told_to_drag_again(self) -> None:
        self.drag("plan.txt", held=False)
        self.assertEqual(self.dragged, [])
        self.until(lambda: "drag it again" in self.window.notice.text)

    def test_much_is_copied_as_work_first(self) -> None:
        with mock.patch.object(handing_handlers, "_AT_ONCE_FILES", 1):
            self.drag("letters")
            self.until(lambda: any("are ready" in one for one in self.notices))
            self.assertEqual(self.dragged, [])
            self.drag("letters")
        (folder,) = self.paths(self.dragged[0])
        self.assertEqual((folder / "old" / "school.txt").read_text(), "dear school")

    def test_many_files_without_content_are_work_as_well(self) -> None:
        with mock.patch.object(handing_handlers, "_AT_ONCE_FILES", 0):
            self.drag("empty.txt")
            self.until(lambda: any("are ready" in one for one in self.notices))
        self.assertFalse(any("Nothing of it" in one for one in self.notices), self.notices)

    def test_a_life_is_moved_and_not_dragged(self) -> None:
        with mock.patch.object(self.page.lines, "dragged") as begun:
            at = QPoint(500, self.row("plan.txt").y())
            QTest.mousePress(self.page.lines.viewport(), Qt.MouseButton.LeftButton, pos=at)
            QTest.mouseMove(self.page.lines.viewport(), at + QPoint(40, 0))
            QTest.mouseRelease(self.page.lines.viewport(), Qt.MouseButton.LeftButton, pos=at + QPoint(40, 0))
        begun.emit.assert_not_called()

    def test_copied_to_be_pasted(self) -> None:
        QApplication.clipboard().clear()
        self.page.select(os.fsencode(self.work / "plan.txt"))
        self.page.lines.setFocus()
        QTest.keyClick(self.page.lines, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
        kept = QApplication.clipboard
        self.until(lambda: kept().mimeData() is not None and bool(kept().mimeData().urls()))
        (path,) = self.paths(QApplication.clipboard().mimeData())
        self.assertEqual(path.read_text(), "plan 1")
        self.until(lambda: "paste it" in self.window.notice.text)

    def test_the_restore_list_is_dragged_and_saved(self) -> None:
        shown = self.page.restore_list
        self.page.pane.gather.emit(self.page.model.picked(os.fsencode(self.work / "plan.txt")))
        shown.open.setChecked(True)
        shown.tree.selectAll()
        with (
            mock.patch.object(QDrag, "exec", lambda drag, actions: self.dragged.append(kept(drag))),
            mock.patch.object(QGuiApplication, "mouseButtons", lambda: Qt.MouseButton.LeftButton),
        ):
            shown.tree.startDrag(Qt.DropAction.CopyAction)
            self.until(lambda: bool(self.dragged))
        self.press(shown.save)
        dialog = self.page.handing.dialog
        assert dialog is not None
        self.assertIn("plan.txt", os.path.basename(dialog.target))

    def test_saved_as_an_archive_with_sums(self) -> None:
        self.page.select(os.fsencode(self.work / "letters"))
        self.until(lambda: self.page.pane.currentWidget() is self.page.pane.folder)
        self.press(self.page.pane.folder.save)
        dialog = self.page.handing.dialog
        assert dialog is not None
        target = self.folder / "letters.zip"
        dialog.path.setText(str(self.folder / "letters.rar"))
        self.assertFalse(dialog.save.isEnabled())
        dialog.path.setText(str(self.folder / "nowhere" / "letters.zip"))
        self.assertIn("no folder", dialog.trouble.text())
        dialog.path.setText(str(target))
        dialog.check.setChecked(True)
        self.press(dialog.save)
        self.until(lambda: any("letters.zip" in one for one in self.notices))
        inside = str(self.work).lstrip("/")
        with zipfile.ZipFile(target) as found:
            self.assertEqual(found.read(f"{inside}/letters/bank.txt"), b"dear bank 1")
        self.assertIn("bank.txt", (self.folder / "letters.zip.sha256").read_text())
        self.page.handing.save([self.page.model.picked(os.fsencode(self.work / "letters"))], 0)
        again = self.page.handing.dialog
        assert again is not None
        again.path.setText(str(target))
        self.assertIn("already", again.trouble.text())
        again._kinds.button(1).click()
        self.assertTrue(again.target.endswith("letters.tar.zst"))
        again.reject()

    def test_all_that_is_covered_is_saved(self) -> None:
        self.page.enter(b"")
        self.until(lambda: self.page.pane.folder.title.text() == "All covered folders")
        self.press(self.page.pane.folder.save)
        dialog = self.page.handing.dialog
        assert dialog is not None
        dialog.path.setText(str(self.folder / "all.zip"))
        self.press(dialog.save)
        self.until(lambda: any("all.zip" in one for one in self.notices))
        with zipfile.ZipFile(self.folder / "all.zip") as found:
            self.assertEqual(len([one for one in found.namelist() if not one.endswith("/")]), 4)

    def test_what_is_dropped_is_looked_up(self) -> None:
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(self.work / "letters" / "bank.txt"))])
        at, copy = QPointF(200, 200), Qt.DropAction.CopyAction
        buttons, none = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        enters = QDragEnterEvent(at.toPoint(), copy, data, buttons, none)
        self.page.lines.dragEnterEvent(enters)
        self.assertTrue(enters.isAccepted())
        self.page.lines.dropEvent(QDropEvent(at, copy, data, buttons, none, QEvent.Type.Drop))
        self.until(lambda: self.page.model.selected == os.fsencode(self.work / "letters" / "bank.txt"))
        text = QMimeData()
        text.setText("no file")
        refused = QDragEnterEvent(at.toPoint(), copy, text, buttons, none)
        refused.ignore()
        self.page.lines.dragEnterEvent(refused)
        self.assertFalse(refused.isAccepted())

    def test_what_is_gone_from_history_says_so(self) -> None:
        picked = self.page.model.picked(os.fsencode(self.work / "never.txt"))
        self.page.handing.copy([picked])
        self.until(lambda: "never.txt" in self.window.notice.text)
        self.assertEqual(WorkKind.HAND_OUT.value, "hand-out")
