"""What the window shows to somebody who looks closer: contents of every kind, what has gone, gaps of a run,
files written out, pictures by mouse, wheel and keyboard."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from PySide6.QtCore import QBuffer, QEvent, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDesktopServices, QImage, QMouseEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QLabel, QTreeWidgetItem, QWidget

from good_tide.core.happenings import Run
from good_tide.core.ladder import READY, Ladder
from good_tide.desktop.shell.views import VIEWS
from good_tide.operations.history.copies import clear_copies
from good_tide.storage.store import Store
from tests.support import documents
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
            "letter.odt": documents.open_text("Dear council"),
            "list.xlsx": documents.sheet([["Item", "Price"], ["Tape", 12], ["Screws", 3]]),
            "programme.pdf": documents.pages(),
            "cue.wav": documents.sound(0.5),
            "all.zip": documents.zipped(a_txt="12345"),
            "poster.png": documents.picture(),
            "cue sheet.txt": b"house to half\nslow fade\n",
        }
        for name, content in contents.items():
            self.write(name, content)
        self.snap(store, 0)
        (self.work / "gone.txt").unlink()
        self.write("list.xlsx", documents.sheet([["Item", "Price"], ["Tape", 14], ["Screws", 3]]))
        self.write("poster.png", documents.picture(44))
        self.write("cue sheet.txt", b"house to half\nblackout\n")
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
        shown = self.views.timeline.inspector
        content = shown.content
        for name in ("stage.png", "plan.svg"):
            self.look_at(name, lambda: content.page is content.picture)
            self.assertFalse(content.picture.canvas.mine.isNull(), name)
        for name, page in (
            ("list.xlsx", content.table),
            ("programme.pdf", content.pages),
            ("cue.wav", content.sound),
            ("all.zip", content.listing),
        ):
            self.look_at(name, lambda page=page: content.page is page)  # type: ignore[misc]
        self.assertEqual(content.listing.tree.topLevelItemCount(), 1)
        words = {
            "broken.png": "It is damaged",
            "old.txt": "Bühne frei",
            "letter.odt": "Dear council",
        }
        for name, expected in words.items():
            self.look_at(name, lambda expected=expected: expected in content.text.text.document_text())  # type: ignore[misc]
        for name, note in (
            ("empty.txt", "An empty file"),
            ("long.txt", "Only the beginning"),
            ("old.txt", "Read as"),
        ):
            self.look_at(name, lambda note=note: note in content.text._note.text())  # type: ignore[misc]
        self.look_at("restless.log", lambda: "changed while it was read" in shown._notes.text())

    def test_a_renamed_file_has_one_line_of_life(self) -> None:
        place, shown = self.views.timeline, self.views.timeline.inspector
        self.look_at("cue 14.bin", lambda: "Before, it was called" in shown._notes.text())
        row = place.model.row_of(place.model.selected)
        assert row is not None
        self.assertEqual([os.path.basename(path) for path, _ in row.life], [b"cue.bin", b"cue 14.bin"])
        self.assertIn("before that called cue.bin", place.lines.accessibleDescription())
        place.go(1)
        self.until(lambda: "Then called" in shown._notes.text())
        self.assertIn("Version 1 of 2", shown._facts.text())
        self.assertEqual(place.model.picked(row.path).path, os.fsencode(self.work / "cue.bin"))
        place.go(2)
        self.look_at("cue.bin", lambda: "It goes on as" in shown._facts.text())
        self.press(shown._later)
        self.until(lambda: place.model.selected == os.fsencode(self.work / "cue 14.bin"))

    def test_two_versions_are_shown_together_in_every_way_there_is(self) -> None:
        place, shown = self.views.timeline, self.views.timeline.inspector
        content = shown.content
        place.sides.setSizes([400, 800])
        self.look_at("poster.png", lambda: content.page is content.picture)
        self.press(shown._modes.button(2))
        self.until(lambda: not content.picture.canvas.other.isNull())
        for way in content.picture.arrangements:
            self.press(content._buttons[way])
            self.assertEqual(content.picture.canvas.arrangement, way)
            self.assertFalse(content.picture.grab().isNull())
        self.assertEqual(content.picture.fade.isVisible(), False)
        self.look_at("list.xlsx", lambda: content.page is content.tables)
        self.assertIn("1 cell otherwise", shown._verdict.text())
        for way in content.tables.arrangements:
            self.press(content._buttons[way])
            marked = [row.marked for row in content.tables.left.rows.rows if row.marked]
            self.assertIn({1}, marked, way)
        self.look_at("cue sheet.txt", lambda: content.page is content.difference)
        self.press(content._buttons[content.difference.arrangements[0]])
        self.assertIn("blackout", content.difference.left.document_text())
        self.assertIn("slow fade", content.difference.right.document_text())
        self.assertIn("+ 2", content.difference.left._signs)

    def test_words_are_found_in_what_is_shown(self) -> None:
        place, shown = self.views.timeline, self.views.timeline.inspector
        content = shown.content
        self.look_at("long.txt", lambda: content.page is content.text)
        self.press(shown._modes.button(0))
        shown.phrase.setText("LONG list")
        self.until(lambda: "2,000 times here" in shown.says.text())
        first = content.text.text.textCursor().position()
        content.page.go_to_word()
        self.assertGreater(content.text.text.textCursor().position(), first)
        content.page.go_to_word(backward=True)
        self.look_at("list.xlsx", lambda: content.page is content.table)
        shown.phrase.setText("screws")
        self.assertEqual(content.table.view.currentIndex().row(), 2)
        shown.phrase.setText("nowhere")
        self.assertIn("Not in what is shown", shown.says.text())
        self.assertIsNotNone(place)

    def test_the_strip_tells_the_big_change_and_leads_to_it_by_keys(self) -> None:
        place, strip = self.views.timeline, self.views.timeline.inspector.strip
        self.look_at("cue sheet.txt", lambda: strip.isVisible())
        self.until(lambda: strip.change_words(1) == "+1 −1")
        self.assertIn("Version 2 of 2", strip.accessibleDescription())
        strip.setFocus()
        QTest.keyClick(strip, Qt.Key.Key_Left)
        self.until(lambda: place.model.moment == 1)
        QTest.keyClick(strip, Qt.Key.Key_End)
        self.until(lambda: place.model.moment == 2)
        QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(20, 40))
        self.until(lambda: place.model.moment == 1)
        self.look_at("poster.png", lambda: strip.change_words(1) not in ("…", "first"))
        self.assertNotIn("lines", strip.words(1))

    def test_who_rests_on_a_version_sees_it_small(self) -> None:
        place = self.views.timeline
        self.look_at("cue sheet.txt", lambda: True)
        glimpse, lines = place.glimpse, place.lines
        rows = [row.path for row in lines._rows]
        for name, seen in (("cue sheet.txt", glimpse._text), ("poster.png", glimpse._picture)):
            y = rows.index(os.fsencode(self.work / name)) * 30 + 20 - lines.verticalScrollBar().value()
            hover(lines.viewport(), lines.width() - 24, y)
            self.assertTrue(glimpse.isVisible())
            glimpse.rest.stop()
            glimpse._ask()
            self.until(seen.isVisible)
        hover(lines.viewport(), 20, 20)
        self.assertFalse(glimpse.isVisible())

    def test_a_copy_is_opened_that_can_be_read_only(self) -> None:
        shown = self.views.timeline.inspector
        self.look_at("letter.odt", lambda: shown._open.isVisible())
        opened: list[QUrl] = []

        def takes(url: QUrl) -> bool:
            opened.append(url)
            return True

        with mock.patch.object(QDesktopServices, "openUrl", side_effect=takes):
            self.press(shown._open)
            self.until(lambda: bool(opened))
        copy = Path(opened[0].toLocalFile())
        self.assertRegex(copy.name, r"^letter \(.*\)\.odt$")
        self.assertEqual(copy.stat().st_mode & 0o777, 0o400)
        with mock.patch.object(QDesktopServices, "openUrl", return_value=False):
            self.press(shown._open)
            self.until(lambda: "No program opens such files" in shown.says.text())
        cache = self.agent.context.here.cache
        self.assertEqual(clear_copies(cache, int(time.time() * 1e9)), 0)
        self.assertEqual(clear_copies(cache, int((time.time() + 4 * 86400) * 1e9)), 2)
        self.assertFalse(copy.exists())

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

        def with_gaps() -> QTreeWidgetItem:
            rows = (row_of(journal.runs, number) for number in range(2))
            return next(row for row in rows if row.childIndicatorPolicy().name == "ShowIndicator")

        with mock.patch.object(self.window.link, "ask") as asked:
            with_gaps().setExpanded(True)
        _, told = asked.call_args.args
        journal.refresh()
        self.until(lambda: not with_gaps().isExpanded())
        told(["of a row that is gone"])
        with_gaps().setExpanded(True)
        self.until(lambda: with_gaps().childCount() > 0)
        child = with_gaps().child(0)
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
