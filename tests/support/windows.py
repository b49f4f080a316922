"""A window on a job with some history, with a real agent behind."""

from __future__ import annotations

import os
import sys
import threading
import traceback
from collections.abc import Callable
from pathlib import Path
from types import TracebackType
from typing import Any
from unittest import TestCase

from PySide6.QtCore import QCoreApplication, QEvent, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QTreeWidget, QTreeWidgetItem
from tools.window_driver import Views, wait_until

from good_tide.agent.service import Agent
from good_tide.core.clock import SetClock, SystemClock
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.job_facts import StoreState
from good_tide.core.settings import Job, StoreRef
from good_tide.desktop.shell.application import make_application
from good_tide.desktop.shell.window import MainWindow
from good_tide.operations.workplace import Workplace, load_jobs
from good_tide.protocol.sockets import agent_socket
from good_tide.storage.store import Store
from good_tide.system.disk_choice import STAND_IN_FILE
from good_tide.system.keyrings import StandInKeyRing
from good_tide.system.stand_in_disks import StandIn, StandInDisks
from tests.support.base import HOUR, MACHINE, T0, GoodTideTest
from tests.support.cheap_keys import cheap_keys
from tests.support.disk_facts import GIB
from tests.support.stand_ins import quiet


def put_away(window: MainWindow) -> None:
    """Close a window, and forget it: what tests leave behind slows down whatever looks at all widgets."""
    window.close()
    window.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


def end(window: MainWindow, agent: Agent, thread: threading.Thread) -> None:
    """End a window and the agent behind it."""
    put_away(window)
    agent.end()
    thread.join()


def tell_faults(test: TestCase) -> None:
    """Let a test fail where something that the window's loop called raised: nobody else is told of it."""
    faults: list[str] = []

    def note(kind: type[BaseException], fault: BaseException, where: TracebackType | None) -> None:
        faults.append("".join(traceback.format_exception(kind, fault, where)))

    def look() -> None:
        if faults:
            raise AssertionError("the window raised:\n" + "\n".join(faults))

    before, sys.excepthook = sys.excepthook, note
    test.addCleanup(look)
    test.addCleanup(setattr, sys, "excepthook", before)


def row_of(tree: QTreeWidget, number: int) -> QTreeWidgetItem:
    """A row of a list, which is there."""
    item = tree.topLevelItem(number)
    assert item is not None
    return item


class WindowTest(GoodTideTest):
    store_name = "store"
    passphrase: str | None = None
    begins_as = StoreState.READY

    def setUp(self) -> None:
        super().setUp()
        tell_faults(self)
        _, look = make_application(os.environ.get("GOOD_TIDE_TEST_THEME", "light"))
        self.settings = self.folder / "settings"
        self.root = self.folder / self.store_name
        self.root.parent.mkdir(exist_ok=True)
        store = self.new_store(self.store_name, passphrase=self.passphrase)
        self.save_office(self.settings, (StoreRef(path=str(self.root), name="Pier"),))
        self.make_history(store)
        here = Workplace(
            self.cache, self.state, self.folder, self.settings, self.folder / "run" / "good-tide", MACHINE
        )
        self.clock = SetClock(Nanoseconds(T0 + 20 * HOUR))
        self.ring = StandInKeyRing()
        self.agent = Agent(here, self.clock, ring=self.ring, environment=quiet(self.settings))
        thread = threading.Thread(target=self.agent.run)
        thread.start()
        self.window = MainWindow(look, agent_socket(here.runtime, self.settings), self.settings)
        self.notices = self.record_notices()
        self.views = Views(self.window)
        self.window.show()
        self.window.start()
        self.addCleanup(end, self.window, self.agent, thread)
        self.until(lambda: self.window.overview.state is self.begins_as)

    def make_history(self, store: Store) -> None:
        """Six snapshots, an hour apart, of one file that changes each time."""
        for hour in range(6):
            self.write("plan.txt", str(hour))
            self.snap(store, hour)

    def record_notices(self) -> list[str]:
        """What notices say from now on: one may be replaced by the next before a test looks."""
        told: list[str] = []
        tell = self.window.notice.tell

        def telling(words: str, *more: Any, **others: Any) -> None:
            told.append(words)
            tell(words, *more, **others)

        self.window.notice.tell = telling  # type: ignore[method-assign]
        return told

    def until(self, true: Callable[[], bool]) -> None:
        try:
            wait_until(true)
        except RuntimeError as error:
            shown = self.window
            raise RuntimeError(
                f"{error}; it was told {self.notices}; {shown.overview.state}, {shown.state.work}"
            ) from error

    def job(self) -> Job:
        return load_jobs(self.settings)[0]

    def press(self, button: QAbstractButton) -> None:
        self.until(button.isEnabled)
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)


class SetUpWindowTest(GoodTideTest):
    """The set-up and the places, on stand-in disks, with a real agent behind them."""

    def setUp(self) -> None:
        super().setUp()
        tell_faults(self)
        self.enterContext(cheap_keys())
        self.home = Path(os.environ["HOME"])
        for name in (
            "Documents/budget.csv",
            "Documents/Drafts/one.txt",
            "Pictures/poster.png",
            "Documents/x.tmp",
        ):
            (self.home / name).parent.mkdir(parents=True, exist_ok=True)
            (self.home / name).write_bytes(b"x" * 5000)
        self.rack = StandInDisks(self.folder / "rack")
        self.rack.add(StandIn(name="Pier", capacity=900 * GIB, device="one"))
        self.rack.add(
            StandIn(name="Attic", kind="internal", capacity=90 * GIB, device="stand-in system disk")
        )
        self.rack.add(StandIn(name="Mole", capacity=90 * GIB, device="two", plugged=False))
        self.settings = self.folder / "settings"
        self.settings.mkdir()
        (self.settings / STAND_IN_FILE).write_text(str(self.rack.root))
        here = Workplace(
            self.cache, self.state, self.folder, self.settings, self.folder / "run" / "good-tide", MACHINE
        )
        self.ring = StandInKeyRing()
        self.agent = Agent(here, SystemClock(), environment=quiet(self.settings), ring=self.ring)
        thread = threading.Thread(target=self.agent.run)
        thread.start()
        _, look = make_application("light")
        self.window = MainWindow(look, agent_socket(here.runtime, self.settings), self.settings)
        self.views = Views(self.window)
        self.window.show()
        self.window.start()
        self.addCleanup(end, self.window, self.agent, thread)
        self.page = self.window.set_up
        self.until(lambda: self.window.page is self.page)
        self.settle(lambda: self.page.survey is not None and self.page.survey.done)

    def until(self, true: Callable[[], bool]) -> None:
        wait_until(true)

    def settle(self, true: Callable[[], bool] = lambda: True) -> None:
        """Wait until something is so, no question is open and no short timer runs."""
        self.until(
            lambda: (
                true()
                and not self.window.link.waits
                and not self.page._timer.isActive()
                and not self.views.coverage._timer.isActive()
            )
        )
