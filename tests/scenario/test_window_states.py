"""The window when not all is well: no job, disk away, locked, damaged, empty; and while long work is done."""

from __future__ import annotations

import os
import random
import signal
import threading
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from tools.window_driver import Views, wait_until

from good_tide.agent.service import Agent
from good_tide.core.clock import SystemClock
from good_tide.core.progress import Progress, WorkKind
from good_tide.core.settings import Job, StoreRef
from good_tide.core.status import Mood
from good_tide.desktop.shell.application import make_application
from good_tide.desktop.shell.views import VIEWS
from good_tide.desktop.shell.window import MainWindow
from good_tide.operations.workplace import Workplace, save_job
from good_tide.protocol.agent_calls import AgentFacts, Hello, RestoreResult, Work, WorkEnded, WorkGoesOn
from good_tide.protocol.sockets import agent_socket
from tests.support.base import BY_HAND, MACHINE, OFFICE, PASSPHRASE, GoodTideTest
from tests.support.stand_ins import quiet
from tests.support.windows import end, row_of


class StateTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        _, self.look = make_application("light")
        self.settings = self.folder / "settings"
        self.settings.mkdir()
        self.here = Workplace(
            self.cache, self.state, self.folder, self.settings, self.folder / "run" / "good-tide", MACHINE
        )
        self.write("plan.txt", "first\n")

    def job(self, secret: str = "") -> None:
        file = self.folder / "secret"
        file.write_text(secret)
        file.chmod(0o600)
        save_job(
            self.settings,
            Job(
                id=OFFICE,
                name="Office",
                folders=(str(self.work),),
                stores=(StoreRef(path=str(self.folder / "store"), name="Pier"),),
                machine=MACHINE,
                passphrase_file=str(file) if secret else "",
                rhythm=BY_HAND,
            ),
        )

    def open(self) -> MainWindow:
        agent = Agent(self.here, SystemClock(), environment=quiet(self.settings))
        thread = threading.Thread(target=agent.run)
        thread.start()
        window = MainWindow(self.look, agent_socket(self.here.runtime, self.settings), self.settings)
        window.show()
        window.start()
        self.addCleanup(end, window, agent, thread)
        self.until(lambda: window.head.sentence.text() != "Looking for the agent…")
        return window

    def until(self, true: Callable[[], bool]) -> None:
        wait_until(true)

    def shown(self, window: MainWindow) -> str:
        page, view = Views(window).state_page, Views(window).timeline_view
        self.assertIs(window.page, view)
        self.assertTrue(page.isVisible())
        return f"{page._title.text()}\n{page._words.text()}"

    def test_no_job(self) -> None:
        window = self.open()
        self.until(lambda: window.page is window.set_up)
        self.assertIn("Nothing is protected", window.head.sentence.text())
        self.assertFalse(window.head.take.isEnabled())
        self.assertIs(window.head.sign.mood, Mood.ATTENTION)

    def test_the_first_snapshot_begins_the_timeline(self) -> None:
        self.new_store()
        self.job(PASSPHRASE)
        window = self.open()
        self.assertIn("No snapshot yet", self.shown(window))
        QTest.mouseClick(window.head.take, Qt.MouseButton.LeftButton)
        self.until(lambda: window.overview.state == "ready" and bool(Views(window).timeline.model.rows()))
        self.assertTrue(Views(window).timeline.isVisible())
        self.assertEqual([row.title for row in Views(window).timeline.model.rows()], ["plan.txt"])
        self.assertIs(window.head.sign.mood, Mood.WELL)

    def test_a_long_history_is_read_while_the_window_says_how_far_it_is(self) -> None:
        store = self.new_store()
        for hour in range(70):
            self.write("plan.txt", f"{hour}")
            self.snap(store, hour)
        self.job(PASSPHRASE)
        told: list[str] = []
        real = MainWindow._show

        def listen(window: MainWindow) -> None:
            real(window)
            title = Views(window).state_page._title.text()
            told.append(f"{window.overview.state} {title} {window.head.sentence.text()}")

        with mock.patch.object(MainWindow, "_show", listen):
            window = self.open()
            self.until(lambda: window.overview.state == "ready" and bool(Views(window).timeline.model.rows()))
        self.assertEqual(told[0], "catching-up Reading history Reading history.")
        self.assertEqual(len(window.overview.tide), 70)
        self.assertTrue(Views(window).timeline.isVisible())

    def test_a_disk_that_comes_back(self) -> None:
        self.snap(self.new_store())
        self.job(PASSPHRASE)
        store, away = self.folder / "store", self.folder / "away"
        store.rename(away)
        window = self.open()
        self.assertIn("The disk Pier is not here", self.shown(window))
        away.rename(store)
        QTest.mouseClick(Views(window).state_page.look_again, Qt.MouseButton.LeftButton)
        self.until(lambda: window.overview.state == "ready")
        self.assertTrue(Views(window).timeline.isVisible())

    def test_a_locked_store_opens_with_its_passphrase_only(self) -> None:
        self.snap(self.new_store())
        self.job()
        window = self.open()
        self.assertIn("locked", self.shown(window))
        page = Views(window).state_page
        page._passphrase.setText("nonsense")
        QTest.mouseClick(page.open, Qt.MouseButton.LeftButton)
        self.until(lambda: page._wrong.isVisible())
        self.assertIn("does not open", page._wrong.text())
        page._passphrase.setText(PASSPHRASE)
        QTest.keyClick(page._passphrase, Qt.Key.Key_Return)
        self.until(lambda: window.overview.state == "ready")

    def test_a_damaged_store_says_what_is_wrong(self) -> None:
        store = self.new_store()
        self.snap(store)
        self.job(PASSPHRASE)
        for header in Path(store.place.title).rglob("store.json"):
            header.write_bytes(b"{}")
        window = self.open()
        self.assertIn("store.json", self.shown(window))
        self.assertIs(window.head.sign.mood, Mood.HARM)

    def test_one_damaged_snapshot_does_not_hide_the_others(self) -> None:
        store = self.new_store()
        self.snap(store, 0)
        self.write("plan.txt", "second\n")
        bad = self.snap(store, 1)
        for file in Path(store.place.title).rglob(bad.id):
            file.write_bytes(file.read_bytes()[:-1])
        self.job(PASSPHRASE)
        window = self.open()
        self.until(lambda: window.notice.isVisible())
        self.assertIn("damaged", window.notice.text)
        self.assertEqual(len(Views(window).timeline.model.tide), 1)

    def test_gaps_are_told_in_status_journal_and_lifeline(self) -> None:
        store = self.new_store()
        self.snap(store, 0)
        (self.work / "plan.txt").unlink()
        os.mkfifo(self.work / "plan.txt")
        self.snap(store, 1)
        self.job(PASSPHRASE)
        window = self.open()
        self.until(lambda: bool(Views(window).timeline.model.rows()))
        row = Views(window).timeline.model.rows()[0]
        self.assertEqual([span.kind for span in row.line.spans], ["f", "x"])
        Views(window).timeline.select(row.path)
        self.assertIn("Could not be read", Views(window).timeline.inspector._facts.text())

    def test_pause_go_on_and_stop_from_the_window(self) -> None:
        self.snap(self.new_store())
        for number in range(6):
            self.write(f"{number}.bin", random.Random(number).randbytes(30_000_000))
        self.job(PASSPHRASE)
        window = self.open()
        self.until(lambda: window.head.take.isEnabled())
        QTest.mouseClick(window.head.take, Qt.MouseButton.LeftButton)
        self.until(lambda: window.work_strip.isVisible())
        QTest.mouseClick(window.work_strip.pause, Qt.MouseButton.LeftButton)
        self.until(lambda: "paused" in window.head.sentence.text())
        self.assertEqual(window.work_strip.pause.text(), "Go on")
        QTest.mouseClick(window.work_strip.pause, Qt.MouseButton.LeftButton)
        self.until(lambda: window.work_strip.pause.text() == "Pause")
        QTest.mouseClick(window.work_strip.stop, Qt.MouseButton.LeftButton)
        self.until(lambda: not window.work_strip.isVisible() and window.notice.isVisible())
        self.assertIn("Stopped", window.notice.text)
        self.assertEqual(len(Views(window).timeline.model.tide), 1)

    def test_progress_and_results_in_words(self) -> None:
        self.snap(self.new_store())
        self.job(PASSPHRASE)
        window = self.open()
        self.until(lambda: window.overview.state == "ready")
        for second in range(11):
            work = Work(
                WorkKind.RESTORE,
                False,
                Progress("Restoring", 1, 4, second << 20, 30 << 20, "/home/ada/poster.png"),
                float(second),
            )
            window.state._goes_on(WorkGoesOn(work))
        self.assertEqual(
            window.work_strip._facts.text(), "10.0 MiB of 30.0 MiB   1.0 MiB/s   about 20 s left   poster.png"
        )
        aside = ("/home/ada/Set aside",)
        result = RestoreResult(1, 2, 0, 0, 5, aside, ("plan.txt: damaged",), 1, 2, aside)
        window.state._ended(WorkEnded(WorkKind.RESTORE, restore=result, words="Restored 3 items"))
        self.assertIn("1 created, 2 replaced", window.notice._detail.text())
        self.assertIn("1 set aside that were not there then", window.notice._detail.text())
        self.assertIn("2 read again", window.notice._detail.text())
        self.assertIn("plan.txt: damaged", window.notice._detail.text())
        self.assertTrue(window.notice.undo_button.isVisible())
        window.state._ended(WorkEnded(WorkKind.SNAPSHOT, error="No room left on the disk"))
        self.assertEqual(
            (window.notice.text, window.notice.objectName()), ("No room left on the disk", "trouble")
        )

    def test_the_other_places_show_what_is(self) -> None:
        self.write("sub/deep/list.txt", "x" * 3000)
        self.snap(self.new_store())
        self.job(PASSPHRASE)
        window = self.open()
        self.until(lambda: window.overview.state == "ready")
        for kind in VIEWS[1:]:
            window.show_view(kind)
            self.until(lambda: not window.link.waits)
            if kind is VIEWS[1]:
                self.until(lambda: (seen := Views(window).coverage.survey) is not None and seen.done)
            self.assertFalse(window.grab().isNull())
        top = row_of(Views(window).coverage.tree, 0)
        below = top.child(0)
        assert below is not None
        self.assertEqual((top.text(2), below.text(0)), ("2", "sub"))
        self.assertEqual([card.view.snapshots for card in Views(window).stores.cards], [1])
        self.assertEqual(Views(window).rhythm.sentence.text(), "Snapshots are taken only by hand.")
        self.assertEqual(
            [
                Views(window).journal.events.topLevelItemCount(),
                Views(window).journal.runs.topLevelItemCount(),
            ],
            [1, 1],
        )

    def test_a_lost_agent_is_told_and_started_again(self) -> None:
        self.snap(self.new_store())
        self.job(PASSPHRASE)
        first = Agent(self.here, SystemClock(), environment=quiet(self.settings))
        thread = threading.Thread(target=first.run)
        thread.start()
        window = MainWindow(self.look, agent_socket(self.here.runtime, self.settings), self.settings)
        window.show()
        window.start()
        self.addCleanup(window.close)
        self.until(lambda: window.overview.state == "ready")
        states: list[str] = []
        window.link.lost.connect(lambda: states.append(window.head.sentence.text()))
        first.end()
        thread.join()
        self.until(lambda: "last snapshot" in window.head.sentence.text().lower() and bool(states))
        self.assertEqual(states, ["The agent has gone."])
        greetings: list[AgentFacts] = []
        window.link.ask(Hello(), greetings.append)
        self.until(lambda: bool(greetings))
        self.assertNotEqual(greetings[0].process, os.getpid())
        window.close()
        os.kill(greetings[0].process, signal.SIGTERM)

    def test_larger_type_still_fits(self) -> None:
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        before = application.styleSheet()
        application.setStyleSheet(before.replace("font-size: 10pt", "font-size: 15pt"))
        self.addCleanup(application.setStyleSheet, before)
        self.snap(self.new_store())
        self.job(PASSPHRASE)
        window = self.open()
        self.until(lambda: bool(Views(window).timeline.model.rows()))
        self.assertLessEqual(window.minimumSizeHint().width(), 1280)
        for button in (window.head.take, Views(window).timeline.inspector._restore):
            self.assertGreaterEqual(
                button.sizeHint().width(), button.fontMetrics().horizontalAdvance(button.text())
            )
