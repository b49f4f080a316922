"""The icon in the desktop's panel: how everything stands, at a glance, and what one wants from there."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QMenu, QSystemTrayIcon

from good_tide.core.identifiers import JobId
from good_tide.core.progress import WorkKind
from good_tide.core.standing import JobStanding
from good_tide.core.status import Action, Mood, Status
from good_tide.core.translation import tr
from good_tide.core.words import time_words, tomorrow_morning
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.signs import panel_icon
from good_tide.protocol.agent_calls import DisksChanged, HistoryChanged, StandingsChanged, StopWork, WorkEnded
from good_tide.protocol.contract import Topic
from good_tide.protocol.schedule_calls import (
    EjectableDisk,
    PanelView,
    PauseRhythm,
    ReadPanel,
    RunDue,
    TakeSnapshot,
)
from good_tide.protocol.starting import show_window
from good_tide.protocol.store_calls import EjectDisk

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
        topics = frozenset((Topic.WORK, Topic.HISTORY, Topic.STANDINGS, Topic.DISKS))
        self.link = AgentLink(socket, settings, topics, self)
        self.icon = QSystemTrayIcon(panel_icon(Mood.ATTENTION), self)
        self.menu = QMenu()
        self.icon.setContextMenu(self.menu)
        self.icon.setToolTip(tr("Good Tide: looking for the agent"))
        self.icon.activated.connect(self._activated)
        self.view: PanelView | None = None
        self.link.connected.connect(self.refresh)
        self.link.lost.connect(self._lost)
        for kind in (StandingsChanged, DisksChanged, HistoryChanged):
            self.link.hear(kind, lambda note: self.refresh())
        self.link.hear(WorkEnded, self._ended)
        timer = QTimer(self, interval=_REFRESH_MS)
        timer.timeout.connect(self.refresh)
        timer.start()

    def start(self) -> None:
        """Show the icon and connect to the agent."""
        self.icon.show()
        self.link.open()

    def refresh(self) -> None:
        """Ask how everything stands."""
        self.link.ask(ReadPanel(), self._take)

    def _ended(self, ended: WorkEnded) -> None:
        if ended.error and ended.what in (WorkKind.SNAPSHOT, WorkKind.RUN_DUE):
            self.icon.setToolTip(tr("Good Tide: {error}").format(error=ended.error))
        self.refresh()

    def _lost(self) -> None:
        self.icon.setIcon(panel_icon(Mood.HARM))
        self.icon.setToolTip(tr("Good Tide: the agent has gone; starting it again"))

    def _activated(self, reason: QSystemTrayIcon.ActivationReason) -> None:
        if reason is QSystemTrayIcon.ActivationReason.Trigger:
            self._show("timeline")

    def _show(self, view: str) -> None:
        show_window(self._settings, JobId(""), view)

    def _unlock(self, job: JobId) -> None:
        """Let the window ask for it; the agent keeps it in its memory then."""
        show_window(self._settings, job, "timeline")

    def _take(self, view: PanelView) -> None:
        self.view = view
        status = worst(view.standings)
        self.icon.setIcon(panel_icon(status.mood if status is not None else Mood.ATTENTION))
        lines = [f"{one.name}: {one.status.sentence}" for one in view.standings]
        self.icon.setToolTip("\n".join(lines) or tr("Good Tide: nothing is protected on this machine yet"))
        self._fill(view)

    def _fill(self, view: PanelView) -> None:
        menu, now = self.menu, view.now
        menu.clear()
        for one in view.standings:
            name = f"{one.name}: " if len(view.standings) > 1 else ""
            for words in (
                f"{name}{one.status.sentence}",
                "    " + tr("Last: {last}").format(last=time_words(one.last, now))
                if one.last
                else "    " + tr("No snapshot yet"),
                "    " + tr("Next: {next}").format(next=time_words(one.next, now))
                if one.next
                else "    " + tr("Next: by hand"),
            ):
                menu.addAction(words).setEnabled(False)
        for one in view.standings:
            if one.status.action is Action.UNLOCK:
                menu.addAction(
                    tr("Give the passphrase of {name}…").format(name=one.name), partial(self._unlock, one.job)
                )
        if not view.standings:
            menu.addAction(tr("Set up…"), lambda: self._show("timeline"))
        menu.addSeparator()
        for one in view.standings:
            words = (
                tr("Take snapshot of {name}").format(name=one.name)
                if len(view.standings) > 1
                else tr("Take snapshot")
            )
            action = menu.addAction(words, partial(self._snapshot, one.job))
            action.setEnabled(not view.working)
        if view.working:
            menu.addAction(tr("Stop what is being done"), lambda: self.link.ask(StopWork()))
        if view.paused_until > now:
            menu.addAction(
                tr("Go on (paused until {paused_until})").format(
                    paused_until=time_words(view.paused_until, now)
                ),
                lambda: self._pause(0),
            )
        else:
            menu.addAction(tr("Pause for an hour"), lambda: self._pause(now + _HOUR))
            menu.addAction(tr("Pause until tomorrow"), lambda: self._pause(tomorrow_morning(now)))
        menu.addAction(tr("Look at the timeline"), lambda: self._show("timeline"))
        menu.addSeparator()
        for disk in view.ejectable:
            menu.addAction(tr("Eject {name}").format(name=disk.name), partial(self._eject, disk))
        day = menu.addMenu(tr("Last run of the day"))
        day.addAction(tr("Run everything, then suspend"), lambda: self.link.ask(RunDue("suspend")))
        day.addAction(tr("Run everything, then switch off"), lambda: self.link.ask(RunDue("power-off")))

    def _snapshot(self, job: JobId) -> None:
        self.link.ask(TakeSnapshot(job))

    def _pause(self, until: int) -> None:
        self.link.ask(PauseRhythm(until), lambda done: self.refresh())

    def _eject(self, disk: EjectableDisk) -> None:
        def tell(words: str) -> None:
            self.icon.showMessage("Good Tide", words)
            self.refresh()

        self.link.ask(EjectDisk(disk.job, disk.store), tell, lambda fault: tell(str(fault)))
