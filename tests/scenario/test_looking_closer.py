"""What the window shows to somebody who looks closer: contents of every kind, what has gone, gaps of a run,
files written out, pictures by mouse, wheel and keyboard."""

from __future__ import annotations

import os
from collections.abc import Callable
from unittest import mock

from PySide6.QtCore import QBuffer, QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QImage, QMouseEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QLabel, QWidget

from good_tide.core.happenings import Run
from good_tide.core.ladder import READY, Ladder
from good_tide.desktop.shell.views import VIEWS
from good_tide.storage.store import Store
from tests.support.base import HOUR, OFFICE, T0, restless
from tests.support.windows import WindowTest, row_of

SVG = (
    b'<svg xmlns="http://www.w3.org/2000/svg" width="40" height="20"><rect width="40" height="20"'
    b' fill="#246"/></svg>'
)


def turn(widget: QWidget, x: float, down: int, modifiers: Qt.KeyboardModifier, sideways: int = 0) -> None:
    """A turn of the wheel over a widget."""
    at = QPointF(x, widget.height() / 2)
    wheel = QWheelEvent(
        at,
        QPointF(widget.mapToGlobal(at.toPoint())),
        QPoint(),
        QPoint(sideways, down),
        Qt.MouseButton.NoButton,
        modifiers,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(widget, wheel)


def hover(widget: QWidget, x: float, y: float) -> None:
    """The pointer comes over a widget, with no button pressed."""
    at = QPointF(x, y)
    move = QMouseEvent(
        QEvent.Type.MouseMove,
        at,
        QPointF(widget.mapToGlobal(at.toPoint())),
        Qt.MouseButton.NoButton,
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
    )
    QApplication.sendEvent(widget, move)


class InspectorTest(WindowTest):
    def make_history(self, store: Store) -> None:
        """A file of each kind; one comes later, one goes, one gets another name, one will not hold still."""
        image = QImage(30, 20, QImage.Format.Format_RGB32)
        image.fill(Qt.GlobalColor.darkCyan)
        buffer = QBuffer()
        buffer.open(QBuffer.OpenModeFlag.WriteOnly)
        image.save(buffer, "PNG")  # type: ignore[call-overload]  # as PySide wants it
        contents: dict[str, bytes] = {
            "stage.png": bytes(buffer.data().data()),
            "plan.svg": SVG,
            "broken.png": b"\x89PNG\r\n\x1a\n" + bytes(200),
            "empty.txt": b"",
            "old.txt": "Bühne frei".encode("latin-1"),
            "cue.bin": bytes(range(256)) * 8,
            "long.txt": b"a line of a long list\n" * 40_000,
            "gone.txt": b"goes at noon",
        }
        for name, content in contents.items():
            self.write(name, content)
        self.snap(store, 0)
        (self.work / "gone.txt").unlink()
        (self.work / "cue.bin").rename(self.work / "cue 14.bin")
        with restless(self.write("restless.log", "restless")):
            self.snap(store, 1)

    def look_at(self, name: str, true: Callable[[], bool]) -> None:
        place = self.views.timeline
        place.enter(os.fsencode(self.work))
        self.until(lambda: not place.model.missing_views())
        place.select(place.model.root + b"/" + os.fsencode(name))
        self.until(lambda: not self.window.link.waits and not place.pane.settle.isActive() and true())

    def test_every_kind_of_content_is_shown_or_it_is_said_why_not(self) -> None:
        place = self.views.timeline
        shown = place.inspector
        for name in ("stage.png", "plan.svg"):
            self.look_at(name, lambda: shown._stack.currentWidget() is shown._picture)
            self.assertFalse(shown._picture.pixmap().isNull(), name)
        words = {
            "broken.png": "This picture cannot be shown",
            "empty.txt": "An empty file",
            "old.txt": "Bühne frei",
            "long.txt": "Only the beginning is shown",
        }
        for name, expected in words.items():
            self.look_at(name, lambda expected=expected: expected in shown._text.toPlainText())  # type: ignore[misc]
        self.look_at("old.txt", lambda: "Read as" in shown._text.toPlainText())
        self.look_at("cue 14.bin", lambda: "Same content under another name: cue.bin" in shown._notes.text())
        self.look_at("restless.log", lambda: "changed while it was read" in shown._notes.text())

    def test_what_is_not_there_at_this_moment_is_found_again(self) -> None:
        place, shown = self.views.timeline, self.views.timeline.inspector
        self.look_at("gone.txt", lambda: "No longer there at this moment" in shown._facts.text())
        self.press(shown._earlier)
        self.until(lambda: place.model.moment == 1 and "Version 1 of 1" in shown._facts.text())
        self.look_at("restless.log", lambda: "Not there yet at this moment" in shown._facts.text())
        self.press(shown._earlier)
        self.until(lambda: place.model.moment == 2)

    def test_the_gaps_of_a_run_are_unfolded_in_the_journal(self) -> None:
        name = self.window.overview.tide[-1].name
        self.agent.context.journal.add_run(
            Run(
                OFFICE,
                "Pier",
                "hand",
                T0 + HOUR,
                1.0,
                "gaps",
                files=9,
                changed=1,
                new_bytes=8,
                stored=9,
                gaps=1,
                snapshot=name,
            )
        )
        journal = self.views.journal
        self.window.show_view(VIEWS[4])
        journal.what.setCurrentIndex(1)
        self.until(lambda: journal.runs.topLevelItemCount() == 2)
        row = next(
            row
            for row in (row_of(journal.runs, number) for number in range(2))
            if row.childIndicatorPolicy().name == "ShowIndicator"
        )
        row.setExpanded(True)
        journal.runs.itemExpanded.emit(row)
        self.until(lambda: row.childCount() > 0)
        child = row.child(0)
        assert child is not None
        shown = journal.runs.itemWidget(child, 0)
        words = shown.text() if isinstance(shown, QLabel) else child.text(0)
        self.assertEqual(words, f"{self.work / 'restless.log'}: changed while it was read")

    def test_the_journal_and_a_report_are_written_to_files(self) -> None:
        journal = self.views.journal
        self.window.show_view(VIEWS[4])
        self.until(lambda: journal.view is not None)
        target = str(self.folder / "out")
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(target, "Table (*.csv)")):
            journal._export()
        self.until(lambda: "The journal was written to" in self.window.notice._words.text())
        self.assertIn("Office", (self.folder / "out.csv").read_text())
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=(target + ".html", "")):
            journal._report()
        self.until(lambda: "The report was written to" in self.window.notice._words.text())
        self.assertIn("Office", (self.folder / "out.html").read_text())
        with mock.patch.object(QFileDialog, "getSaveFileName", return_value=("", "")):
            journal._export()
            journal._report()
        self.assertFalse(self.window.link.waits, "who changed their mind asked for nothing")


class PicturesTest(WindowTest):
    def test_the_ladder_is_moved_by_keys_between_its_neighbours(self) -> None:
        self.window.show_view(VIEWS[3])
        self.until(lambda: self.views.rhythm.view is not None)
        card = self.views.rhythm.ladder
        picture = card.picture
        QTest.keyClick(picture, Qt.Key.Key_Right)
        self.assertEqual(picture.ladder, Ladder(), "without a rung there is nothing to move")
        card.choose("usual")
        usual = READY["usual"]
        QTest.keyClick(picture, Qt.Key.Key_Right)
        self.assertNotEqual(picture.ladder.rungs[0].reach, usual.rungs[0].reach)
        self.assertEqual(picture.ladder.rungs[1:], usual.rungs[1:])
        QTest.keyClick(picture, Qt.Key.Key_Left)
        self.assertEqual(picture.ladder, usual)
        QTest.keyClick(picture, Qt.Key.Key_Down)
        QTest.keyClick(picture, Qt.Key.Key_Left)
        self.assertEqual(picture.ladder.rungs[0], usual.rungs[0])
        self.assertNotEqual(picture.ladder.rungs[1].reach, usual.rungs[1].reach)
        QTest.keyClick(picture, Qt.Key.Key_Up)
        for _ in range(60):
            QTest.keyClick(picture, Qt.Key.Key_Right)
        ends = picture._ends()
        self.assertEqual(ends, sorted(ends), "no rung passes the next")
        self.assertEqual(card.rungs.text(), "; ".join(rung.text() for rung in picture.ladder.rungs))
        hover(picture, ends[0], 60)
        self.assertEqual(picture.cursor().shape(), Qt.CursorShape.SplitHCursor)
        hover(picture, (ends[0] + ends[1]) / 2, 60)
        self.assertEqual(picture.cursor().shape(), Qt.CursorShape.ArrowCursor)
        self.assertEqual(self.job().ladder, Ladder(), "nothing is kept yet")

    def test_what_each_snapshot_holds_is_zoomed_panned_and_chosen_with_the_mouse(self) -> None:
        self.window.show_view(VIEWS[2])
        stores = self.views.stores
        self.until(lambda: bool(stores.cards) and stores.cards[0].what.isVisible())
        self.press(stores.cards[0].what)
        picture = stores.room_page.picture
        self.until(lambda: len(picture.snapshots) == 6)
        names = [one.id for one in picture.snapshots]
        places = [picture.place_of(one) for one in picture.snapshots]
        middle = picture.height() // 2
        for number in (1, 3):
            QTest.mouseClick(
                picture,
                Qt.MouseButton.LeftButton,
                Qt.KeyboardModifier.ControlModifier,
                QPoint(round(places[number]), middle),
            )
        self.assertEqual(picture.chosen, {names[1], names[3]})
        QTest.mouseClick(
            picture,
            Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.ControlModifier,
            QPoint(round(places[1]), middle),
        )
        self.assertEqual(picture.chosen, {names[3]})
        QTest.mouseClick(
            picture, Qt.MouseButton.LeftButton, pos=QPoint(round((places[4] + places[5]) / 2), middle)
        )
        self.assertEqual(picture.chosen, set(), "a click beside all of them chooses none")
        hover(picture, places[2], middle)
        self.assertIn("that only this one needs", picture.words(picture.snapshots[2]))
        turn(picture, places[2], 120, Qt.KeyboardModifier.ControlModifier)
        zoomed = [picture.place_of(one) for one in picture.snapshots]
        self.assertGreater(zoomed[3] - zoomed[2], places[3] - places[2])
        self.assertAlmostEqual(zoomed[2], places[2], delta=1, msg="what is under the pointer stays there")
        turn(picture, places[2], 0, Qt.KeyboardModifier.NoModifier, sideways=60)
        panned = [picture.place_of(one) for one in picture.snapshots]
        self.assertNotEqual(panned, zoomed)
        turn(picture, places[2], -120, Qt.KeyboardModifier.NoModifier)
        self.assertEqual(
            [picture.place_of(one) for one in picture.snapshots],
            panned,
            "a plain turn scrolls the page, not the picture",
        )
        picture.setFocus()
        picture._at = -1
        QTest.keyClick(picture, Qt.Key.Key_Left)
        QTest.keyClick(picture, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
        self.assertEqual(len(picture.chosen), 2)
        self.assertTrue(
            all(
                0 <= picture.place_of(one) <= picture.width()
                for one in picture.snapshots
                if one.id in picture.chosen
            )
        )
