"""The icon in the desktop's panel: how everything stands, at a glance, and what one wants from there."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QMenu, QSystemTrayIcon

from good_tide.core.status import JobStanding, Mood, Status
from good_tide.core.words import time_words, tomorrow_morning
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.signs import panel_icon
from good_tide.protocol.messages import Finished
from good_tide.protocol.starting import show_window
from good_tide.protocol.upkeep_messages import PanelView

_REFRESH_MS = 60_000
_ORDER = (Mood.HARM, Mood.ATTENTION, Mood.APART, Mood.PAUSED, Mood.WORKING, Mood.WELL)
"""What is shown of several jobs: the first of these."""
_HOUR = 3600 * 1_000_000_000


def worst(standings: tuple[JobStanding, ...]) -> Status | None:
    """The status that matters most."""
    return min((one.status for one in standings), key=lambda status: _ORDER.index(status.mood), default=None)


class PanelIcon(QObject):
    """The icon and its menu."""

    def __init__(self, socket: Path, settings: Path, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._settings = settings
        self.link = AgentLink(socket, settings, self)
        self.icon = QSystemTrayIcon(panel_icon(Mood.ATTENTION), self)
        self.menu = QMenu()
        self.icon.setContextMenu(self.menu)
        self.icon.setToolTip("Good Tide: looking for the agent")
        self.icon.activated.connect(self._activated)
        self.view: PanelView | None = None
        self.link.connected.connect(self.refresh)
        self.link.lost.connect(self._lost)
        self.link.notified.connect(self._notified)
        timer = QTimer(self, interval=_REFRESH_MS)
        timer.timeout.connect(self.refresh)
        timer.start()

    def start(self) -> None:
        """Show the icon and connect to the agent."""
        self.icon.show()
        self.link.open()

    def refresh(self) -> None:
        """Ask how everything stands."""
        self.link.ask("panel", None, PanelView, self._take)

    def _notified(self, method: str, content: bytes) -> None:
        if method in ("status", "disks", "history"):
            self.refresh()
        elif method == "finished":
            finished = msgspec.json.decode(content, type=Finished)
            if finished.error and finished.what in ("snapshot", "run-due"):
                self.icon.setToolTip(f"Good Tide: {finished.error}")
            self.refresh()

    def _lost(self) -> None:
        self.icon.setIcon(panel_icon(Mood.HARM))
        self.icon.setToolTip("Good Tide: the agent has gone; starting it again")

    def _activated(self, reason: QSystemTrayIcon.ActivationReason) -> None:
        if reason is QSystemTrayIcon.ActivationReason.Trigger:
            self._show("timeline")

    def _show(self, place: str, job: str = "") -> None:
        show_window(self._settings, job, place)

    def _take(self, view: PanelView) -> None:
        self.view = view
        status = worst(view.standings)
        self.icon.setIcon(panel_icon(status.mood if status is not None else Mood.ATTENTION))
        lines = [f"{one.job}: {one.status.sentence}" for one in view.standings]
        self.icon.setToolTip("\n".join(lines) or "Good Tide: nothing is protected on this machine yet")
        self._fill(view)

    def _fill(self, view: PanelView) -> None:
        menu, now = self.menu, view.now
        menu.clear()
        for one in view.standings:
            name = f"{one.job}: " if len(view.standings) > 1 else ""
            for words in (
                f"{name}{one.status.sentence}",
                f"    Last: {time_words(one.last, now)}" if one.last else "    No snapshot yet",
                f"    Next: {time_words(one.next, now)}" if one.next else "    Next: by hand",
            ):
                menu.addAction(words).setEnabled(False)
        if not view.standings:
            menu.addAction("Set up…", lambda: self._show("timeline"))
        menu.addSeparator()
        for one in view.standings:
            words = f"Take snapshot of {one.job}" if len(view.standings) > 1 else "Take snapshot"
            action = menu.addAction(words, partial(self._snapshot, one.job))
            action.setEnabled(not view.working)
        if view.working:
            menu.addAction("Stop what is being done", lambda: self.link.ask("stop"))
        if view.paused_until > now:
            menu.addAction(
                f"Go on (paused until {time_words(view.paused_until, now)})", lambda: self._pause(0)
            )
        else:
            menu.addAction("Pause for an hour", lambda: self._pause(now + _HOUR))
            menu.addAction("Pause until tomorrow", lambda: self._pause(tomorrow_morning(now)))
        menu.addAction("Look at the timeline", lambda: self._show("timeline"))
        menu.addSeparator()
        for disk, folder in view.ejectable:
            menu.addAction(f"Eject {disk}", partial(self._eject, folder))
        day = menu.addMenu("Last run of the day")
        day.addAction("Run everything, then suspend", lambda: self.link.ask("run-due", {"then": "suspend"}))
        day.addAction(
            "Run everything, then switch off", lambda: self.link.ask("run-due", {"then": "power-off"})
        )

    def _snapshot(self, job: str) -> None:
        self.link.ask("snapshot", job=job)

    def _pause(self, until: int) -> None:
        self.link.ask("pause-rhythm", {"moment": until}, None, lambda result: self.refresh())

    def _eject(self, folder: str) -> None:
        def tell(words: str) -> None:
            self.icon.showMessage("Good Tide", words)
            self.refresh()

        self.link.ask(
            "eject", {"words": folder}, str, tell, lambda fault: tell(f"{fault.message}. {fault.data}.")
        )
