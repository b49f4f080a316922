"""Driving the window from outside, for its pictures and for the tests."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import cast

from PySide6.QtCore import QEventLoop, QTimer

from good_tide.desktop.coverage.view import COVERAGE, CoveragePage
from good_tide.desktop.journal.view import JOURNAL, JournalPage
from good_tide.desktop.rhythm.view import RHYTHM, RhythmPage
from good_tide.desktop.shell.window import MainWindow
from good_tide.desktop.stores.view import STORES, StoresPage
from good_tide.desktop.timeline.view import TIMELINE, TimelineView

_WAIT_MS = 180_000
_RAISES_SECONDS = 10.0


class Views:
    """The views of a window, each as what it is."""

    def __init__(self, window: MainWindow) -> None:
        self.timeline_view = cast(TimelineView, window.views[TIMELINE])
        self.timeline = self.timeline_view.history
        self.state_page = self.timeline_view.state
        self.coverage = cast(CoveragePage, window.views[COVERAGE])
        self.stores = cast(StoresPage, window.views[STORES])
        self.rhythm = cast(RhythmPage, window.views[RHYTHM])
        self.journal = cast(JournalPage, window.views[JOURNAL])


def settle(milliseconds: int = 120) -> None:
    """Let pending events and short timers happen, and other threads run (which Qt's own wait for tests does
    not let)."""
    loop = QEventLoop()
    QTimer.singleShot(milliseconds, loop.quit)
    loop.exec()


def wait_until(true: Callable[[], bool]) -> None:
    """Run the event loop until something is so.

    Raises:
        RuntimeError: it was not so within three minutes, which a busy machine may take.
        Exception: what looking whether it is so raises, for ten seconds each time; something may be about to
            come.
    """
    loop = QEventLoop()
    reached = []
    faults: list[tuple[float, Exception]] = []

    def look() -> None:
        try:
            if true():
                reached.append(True)
                loop.quit()
            faults.clear()
        except Exception as fault:
            faults.append((time.monotonic(), fault))
            if faults[-1][0] - faults[0][0] > _RAISES_SECONDS:
                loop.quit()

    timer = QTimer(interval=20)
    timer.timeout.connect(look)
    timer.start()
    QTimer.singleShot(_WAIT_MS, loop, loop.quit)
    loop.exec()
    timer.stop()
    if faults:
        raise faults[-1][1]
    # Not asked once more: what was so may have ended before the loop came to its end.
    if not reached:
        raise RuntimeError("the window did not get what it waits for")
