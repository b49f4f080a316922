"""The real window, offscreen, with a real agent process and the demo's history behind it."""

from __future__ import annotations

import os
import select
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from unittest import mock

import msgspec
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QAccessible, QMouseEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QToolButton
from tools.window_driver import Views, wait_until

from good_tide.demo import story
from good_tide.demo.build import DemoFolders, build_demo
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import NAME_WIDTH
from good_tide.desktop.shell.application import make_application
from good_tide.desktop.shell.views import VIEWS
from good_tide.desktop.shell.window import MainWindow
from good_tide.desktop.timeline.lifelines import ROW
from good_tide.operations.workplace import load_jobs, save_job
from good_tide.protocol.sockets import agent_socket, answers
from tests.support.base import BY_HAND
from tests.support.windows import put_away


class DemoWindowTest(unittest.TestCase):
    """One demo and one agent for all; each test has a window of its own."""

    root: Path
    demo: DemoFolders
    agent: subprocess.Popen[bytes]
    socket: Path
    seconds: float
    look: Palette
    application: QApplication

    @classmethod
    def setUpClass(cls) -> None:
        cls.root = Path(tempfile.mkdtemp(prefix="good-tide-window-"))
        names = (
            "HOME",
            "XDG_CACHE_HOME",
            "XDG_STATE_HOME",
            "XDG_DATA_HOME",
            "XDG_CONFIG_HOME",
            "XDG_RUNTIME_DIR",
        )
        cls.enterClassContext(
            mock.patch.dict(os.environ, {name: str(cls.root / name.lower()) for name in names})
        )
        (cls.root / "xdg_runtime_dir").mkdir(mode=0o700)
        begun = time.process_time()
        cls.demo = build_demo(
            cls.root / "demo",
            datetime(2026, 11, 20, 18, 0).astimezone(),
            lambda done, total: None,
            cls.root / "xdg_cache_home" / "good-tide",
            cls.root / "state",
        )
        cls.seconds = time.process_time() - begun
        job = load_jobs(cls.demo.settings)[0]
        save_job(
            cls.demo.settings, msgspec.structs.replace(job, rhythm=BY_HAND)
        )  # or the agent begins with a snapshot of its own
        cls.socket = agent_socket(cls.root / "xdg_runtime_dir" / "good-tide", cls.demo.settings)
        cls.agent = subprocess.Popen(
            [sys.executable, "-m", "good_tide", "agent", "run", "--settings", str(cls.demo.settings)]
        )
        while not answers(cls.socket) and cls.agent.poll() is None:
            select.select([], [], [], 0.02)
        cls.application, cls.look = make_application("light")

    @classmethod
    def tearDownClass(cls) -> None:
        cls.agent.terminate()
        cls.agent.wait()
        shutil.rmtree(cls.root, ignore_errors=True)

    def setUp(self) -> None:
        self.window = MainWindow(self.look, self.socket, self.demo.settings)
        self.views = Views(self.window)
        self.place, self.lines = self.views.timeline, self.views.timeline.lines
        self.window.show()
        self.window.start()
        self.until(lambda: self.window.overview.state == "ready" and len(self.place.model.rows()) == 3)
        self.window.activateWindow()
        self.lines.setFocus()

    def tearDown(self) -> None:
        put_away(self.window)

    def until(self, true: Callable[[], bool]) -> None:
        wait_until(true)

    def key(self, key: Qt.Key, modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        QTest.keyClick(self.lines, key, modifiers)
        QApplication.processEvents()

    def enter(self, path: str) -> None:
        self.place.enter(os.fsencode(self.demo.workstation / path))
        self.until(lambda: not self.place.model.missing_views())

    def select(self, name: str) -> None:
        self.place.select(self.place.model.root + b"/" + os.fsencode(name))
        self.until(lambda: not self.window.link.waits and not self.place.pane.settle.isActive())

    def test_the_demo_tells_its_stories(self) -> None:
        allowed = 60 if sys.gettrace() is None else 180  # being measured costs time
        self.assertLess(self.seconds, allowed, "of processor, so that a busy machine is no fault of the demo")
        self.assertGreater(len(self.window.overview.tide), 280)
        self.assertEqual(len(self.place.model.floods), 1)
        self.enter("Productions/Winter play/Set drawings")
        gone = [row for row in self.place.model.rows() if row.line.gone]
        self.assertEqual([row.title for row in gone], ["First scheme"])
        self.enter("Office/Letters")
        self.select("letter to the council.txt")
        row = self.place.model.row_of(self.place.model.selected)
        assert row is not None
        self.assertEqual(len(row.line.spans), 11)

    def test_keys_reach_everything(self) -> None:
        self.key(Qt.Key.Key_Down)
        self.key(Qt.Key.Key_Down)
        self.key(Qt.Key.Key_Return)
        self.until(lambda: not self.place.model.missing_views())
        self.assertEqual([name for name, _ in self.place.model.crumbs()], ["Productions"])
        before = self.place.model.moment
        self.key(Qt.Key.Key_Left)
        self.assertEqual(self.place.model.moment, before - 1)
        self.key(Qt.Key.Key_Home)
        self.assertEqual(self.place.model.moment, 1)
        self.key(Qt.Key.Key_Right, Qt.KeyboardModifier.AltModifier)
        self.assertGreater(self.place.model.moment, 1)
        self.key(Qt.Key.Key_Backspace)
        self.until(lambda: len(self.place.model.rows()) == 3)
        for number, kind in enumerate(VIEWS, 1):
            QTest.keyClick(self.window, getattr(Qt.Key, f"Key_{number}"), Qt.KeyboardModifier.ControlModifier)
            self.assertIs(self.window.page, self.window.views[kind])

    def test_zooming_panning_and_clicking(self) -> None:
        self.enter("Office/Budgets")
        axis = self.place.model.axis
        span = axis.end - axis.start
        chart = self.place.chart
        where = QPointF(NAME_WIDTH + 300, 60)
        for _ in range(6):
            event = QWheelEvent(
                where,
                chart.mapToGlobal(where),
                QPoint(),
                QPoint(0, 480),
                Qt.MouseButton.NoButton,
                Qt.KeyboardModifier.ControlModifier,
                Qt.ScrollPhase.NoScrollPhase,
                False,
            )
            QApplication.sendEvent(chart, event)
        self.assertLess(axis.end - axis.start, span / 10)
        QTest.mouseClick(chart, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, where.toPoint())
        self.assertEqual(self.place.model.moment, self.place.model.nearest(axis.time(300)))
        start = axis.start
        QTest.mousePress(chart, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, where.toPoint())
        QTest.mouseMove(chart, QPoint(NAME_WIDTH + 420, 60))
        QTest.mouseRelease(
            chart, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(NAME_WIDTH + 420, 60)
        )
        self.assertLess(axis.start, start)
        self.key(Qt.Key.Key_0)
        self.assertEqual(axis.end - axis.start, span)

    def test_lifelines_answer_the_mouse(self) -> None:
        self.enter("Office/Budgets")
        port = self.lines.viewport()
        rows = self.place.model.rows()
        number = next(at for at, row in enumerate(rows) if row.title == "winter play budget.csv")
        y = 6 + number * ROW + ROW // 2
        line, model = rows[number].line, self.place.model
        ends = {span: model.time_of(span.last or len(model.tide)) for span in line.spans}
        widest = max(line.spans, key=lambda span: ends[span] - model.time_of(span.first))
        x = int(NAME_WIDTH + model.axis.x((model.time_of(widest.first) + ends[widest]) / 2))
        version = line.version_number(widest)
        QTest.mouseClick(port, Qt.MouseButton.LeftButton, pos=QPoint(x, y))
        self.until(lambda: self.place.model.selected == rows[number].path)
        self.assertIs(line.at(model.moment), widest)
        self.lines._tell(
            self.place.model,
            QMouseEvent(
                QEvent.Type.MouseMove,
                QPointF(x, y),
                QPointF(x, y),
                Qt.MouseButton.NoButton,
                Qt.MouseButton.NoButton,
                Qt.KeyboardModifier.NoModifier,
            ),
        )
        self.assertIn(f"Version {version}, ", self.place.glimpse._words.text())
        self.key(Qt.Key.Key_Plus)
        for _ in range(4):
            wheel = QWheelEvent(
                QPointF(x, y),
                QPointF(x, y),
                QPoint(),
                QPoint(0, 120),
                Qt.MouseButton.NoButton,
                Qt.KeyboardModifier.ControlModifier,
                Qt.ScrollPhase.NoScrollPhase,
                False,
            )
            QApplication.sendEvent(port, wheel)
        before = (self.place.model.axis.start, self.place.model.axis.end)
        QTest.mousePress(port, Qt.MouseButton.LeftButton, pos=QPoint(NAME_WIDTH + 300, y))
        QTest.mouseMove(port, QPoint(NAME_WIDTH + 200, y))
        moved = QMouseEvent(
            QEvent.Type.MouseMove,
            QPointF(NAME_WIDTH + 200, y),
            QPointF(NAME_WIDTH + 200, y),
            Qt.MouseButton.NoButton,
            Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        )
        QApplication.sendEvent(port, moved)
        QTest.mouseRelease(port, Qt.MouseButton.LeftButton, pos=QPoint(NAME_WIDTH + 200, y))
        after = (self.place.model.axis.start, self.place.model.axis.end)
        self.assertNotEqual(before, after)
        self.assertEqual(before[1] - before[0], after[1] - after[0], "a drag pans and does not zoom")
        self.assertEqual(self.place.model.selected, rows[number].path, "a drag chooses nothing")
        self.enter("Office")
        QTest.mouseDClick(port, Qt.MouseButton.LeftButton, pos=QPoint(60, 6 + ROW // 2))
        self.until(lambda: self.place.model.root.endswith(b"Office/Budgets"))

    def test_finding_restoring_and_undoing_the_budget(self) -> None:
        budget = self.demo.workstation / story.BUDGET
        overwritten = budget.read_bytes()
        QTest.keyClicks(self.lines, "b")
        field = self.place.search.field
        QTest.keyClicks(field, "udget win play")
        self.assertEqual(field.text(), "budget win play")
        QTest.keyClick(field, Qt.Key.Key_Down)
        self.until(lambda: self.place.model.found is not None and self.lines.hasFocus())
        rows = self.place.model.rows()
        self.assertEqual([row.title for row in rows if not row.caption], ["winter play budget.csv"])
        self.assertIn("Office › Budgets", rows[0].caption)
        self.key(Qt.Key.Key_Down)
        self.key(Qt.Key.Key_Return)
        self.until(lambda: not self.place.model.missing_views())
        self.assertEqual((self.place.model.found, field.text()), (None, ""))
        self.assertEqual(self.place.model.selected, os.fsencode(budget))
        self.key(Qt.Key.Key_Left, Qt.KeyboardModifier.AltModifier)
        self.key(Qt.Key.Key_Left)
        self.until(
            lambda: (
                self.place.inspector._detail is not None
                and self.place.inspector._detail.snapshot
                == self.place.model.tide[self.place.model.moment - 1].name
            )
        )
        self.place.inspector._modes.button(1).click()
        self.until(
            lambda: (
                "only here" in self.place.inspector._verdict.text()
                or "cell" in self.place.inspector._verdict.text()
            )
        )
        QTest.mouseClick(self.place.inspector._open_with, Qt.MouseButton.LeftButton)
        self.until(lambda: "does not ask which program" in self.place.inspector.says.text())
        QTest.mouseClick(self.place.inspector._restore, Qt.MouseButton.LeftButton)
        dialog = self.place.dialog
        assert dialog is not None
        self.until(lambda: dialog._go.isEnabled())
        self.assertIn("1 to replace", dialog._summary.text())
        QTest.mouseClick(dialog._go, Qt.MouseButton.LeftButton)
        self.until(lambda: self.window.notice.isVisible() and self.window.notice.undo_button.isVisible())
        self.assertNotEqual(budget.read_bytes(), overwritten)
        self.assertGreater(len(budget.read_bytes()), 1000)
        QTest.mouseClick(self.window.notice.undo_button, Qt.MouseButton.LeftButton)
        self.until(lambda: "Undone" in self.window.notice.text and self.window.notice.isVisible())
        self.assertEqual(budget.read_bytes(), overwritten)

    def test_a_snapshot_taken_in_the_window_appears_with_the_new_version(self) -> None:
        self.enter("Office")
        before = len(self.place.model.tide)
        (self.demo.workstation / "Office" / "contacts.csv").write_text(f"changed at {time.time()}\n")
        self.select("contacts.csv")
        QTest.mouseClick(self.window.head.take, Qt.MouseButton.LeftButton)
        self.until(lambda: len(self.place.model.tide) == before + 1 and not self.place.model.missing_views())
        row = self.place.model.row_of(self.place.model.selected)
        assert row is not None
        self.assertEqual((row.line.spans[-1].first, self.place.model.moment), (before + 1, before + 1))
        self.until(
            lambda: (
                self.place.inspector._detail is not None
                and "changed at" in str(self.place.inspector._detail.preview)
            )
        )

    def test_the_restore_list_gathers_from_several_moments(self) -> None:
        self.enter("Office/Budgets")
        self.select("tour budget.csv")
        QTest.mouseClick(self.place.inspector._gather, Qt.MouseButton.LeftButton)
        self.place.go(20)
        self.select("winter play budget.csv")
        QTest.mouseClick(self.place.inspector._gather, Qt.MouseButton.LeftButton)
        self.assertEqual(len(self.place.restore_list.items), 2)
        self.place.plan(self.place.restore_list.items)
        dialog = self.place.dialog
        assert dialog is not None
        out = self.root / "restored"
        dialog.restore_into(str(out))
        self.until(lambda: "2 to create" in dialog._summary.text() or "3 to create" in dialog._summary.text())
        dialog.reject()

    def test_what_is_not_seen_is_said(self) -> None:
        self.enter("Office/Budgets")
        self.select("winter play budget.csv")
        interface = QAccessible.queryAccessibleInterface(self.lines)
        self.assertRegex(
            interface.text(QAccessible.Text.Description), r"winter play budget.csv: \d+ versions, there now"
        )
        chart = QAccessible.queryAccessibleInterface(self.place.chart)
        self.assertIn("changed", chart.text(QAccessible.Text.Description))
        named = [child.accessibleName() or child.text() for child in self.place.findChildren(QToolButton)]
        self.assertTrue(named and all(named))

    def test_a_version_without_text_and_one_that_is_gone(self) -> None:
        self.enter("Productions/Spring musical/Script")
        self.select("scene 01.txt")
        self.assertIn("noise", self.place.inspector.content.text.text.document_text())
        self.place.go(1)
        self.until(
            lambda: (
                self.place.inspector._detail is not None
                and self.place.inspector._detail.snapshot == self.place.model.tide[0].name
            )
        )
        detail = self.place.inspector._detail
        assert detail is not None
        with_disk = detail.with_disk
        assert with_disk is not None
        self.assertIn("Differs", with_disk.words)
        self.place.inspector._modes.button(1).click()
        self.until(lambda: "can be read any more" in self.place.inspector._verdict.text())
        self.place.inspector._modes.button(0).click()
        self.enter("Sound")
        self.place.go(len(self.place.model.tide))
        self.select("full run recording.wav")
        self.assertIn("Last seen", self.place.inspector._facts.text())
        QTest.mouseClick(self.place.inspector._earlier, Qt.MouseButton.LeftButton)
        self.until(lambda: self.place.inspector.content.page is self.place.inspector.content.sound)
        self.assertIn("6 min 40 s", self.place.inspector.content.sound._heads[0].text())

    def test_void_calls_keep_their_reference_to_none(self) -> None:
        before = sys.getrefcount(None)
        for _ in range(1000):
            self.window.update()
        self.assertGreater(sys.getrefcount(None), before - 500)

    def test_painting_is_quick(self) -> None:
        self.enter("Productions/Spring musical/Script")
        times = []
        for _ in range(20):
            begun = time.thread_time()
            self.place.model.axis.pan(3)
            self.place._view_moved()
            QApplication.processEvents()
            times.append(time.thread_time() - begun)
        self.assertLess(sorted(times)[10], 0.05)
