"""What lies above every place: what the agent is doing, and what has just been done."""

from __future__ import annotations

import time
from collections.abc import Callable

from PySide6.QtCore import QTimer, QUrl, Signal
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QFrame, QHBoxLayout, QProgressBar, QSizePolicy, QToolButton, QVBoxLayout

from good_tide.core.clock import SECOND
from good_tide.core.pace import Pace
from good_tide.core.progress import Stage, WorkKind
from good_tide.core.translation import tr
from good_tide.core.words import duration_words, printable, size_words, time_words
from good_tide.core.work_words import work_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.icons import icon
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, label, line
from good_tide.protocol.agent_calls import PauseWork, ResumeWork, StopWork, TakeItEasy, Work
from good_tide.protocol.health_calls import AlarmView

_NAMES = 4
_LASTS = 120
"""Seconds from which on a first snapshot is explained."""


class WorkStrip(QFrame):
    """What the agent is doing: how far it has come, how fast, how long still; pause, stop, and how much it
    may claim of the machine."""

    def __init__(self, link: AgentLink) -> None:
        super().__init__()
        self.setObjectName("notice")
        self._paused = self._easy = False
        self._pace = Pace()
        self._what: tuple[WorkKind | None, str] = None, ""
        self._words = label("", "strong")
        self._facts = label("", "quiet")
        self._facts.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self._bar = QProgressBar()
        self._bar.setTextVisible(False)
        self.easy, self.pause, self.stop = button(tr("Take it easy")), button(tr("Pause")), button(tr("Stop"))
        self.easy.setToolTip(
            tr("Rest between stretches of work, so that the machine is free for other things")
        )
        box = QVBoxLayout()
        box.setSpacing(4)
        row = line(self._words, spacing=14)
        row.addWidget(self._facts, 1)
        box.addLayout(row)
        box.addWidget(self._bar)
        self.promise = label("", "quiet", wrap=True)
        self.promise.hide()
        box.addWidget(self.promise)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 8, 14, 8)
        layout.setSpacing(8)
        layout.addLayout(box, 1)
        for one in (self.easy, self.pause, self.stop):
            layout.addWidget(one)
        self.easy.clicked.connect(lambda: link.ask(TakeItEasy(not self._easy)))
        self.pause.clicked.connect(lambda: link.ask(ResumeWork() if self._paused else PauseWork()))
        self.stop.clicked.connect(lambda: link.ask(StopWork()))
        self.hide()

    def show_work(self, work: Work | None, first_on: str = "") -> None:
        """Show how far it has come; None hides the strip.

        :param first_on: the disk that the first snapshot goes to, while it is that one which is taken.
        """
        self.setVisible(work is not None)
        if work is None:
            self._what = None, ""
            return
        progress = work.progress
        if (work.what, progress.phase) != self._what:
            self._pace, self._what = Pace(), (work.what, progress.phase)
        if not work.paused:
            self._pace.add(work.seconds, progress.bytes_done)
        self._paused, self._easy = work.paused, work.easy
        self.pause.setText(tr("Go on") if work.paused else tr("Pause"))
        self.easy.setText(tr("Full speed") if work.easy else tr("Take it easy"))
        self._words.setText(
            work_words(work.what, work.paused)
            + (", " + tr("taking it easy") if work.easy and not work.paused else "")
        )
        self._facts.setText("   ".join(self._said(work)))
        self._facts.setToolTip(progress.current)
        promise = self._first_words(work, first_on) if first_on else ""
        self.promise.setText(promise)
        self.promise.setVisible(bool(promise))
        total = progress.bytes_total
        self._bar.setMaximum(1000 if total else 0)
        self._bar.setValue(int(1000 * min(1.0, progress.bytes_done / total)) if total else 0)

    def _first_words(self, work: Work, disk: str) -> str:
        """What the first snapshot is, when it lasts: how much is safe, that it may be left, and until
        when."""
        progress, left = work.progress, self._pace.left(work.progress.bytes_total)
        if left is None or (left < _LASTS and work.seconds < _LASTS):
            return ""
        safe = tr("This is the first snapshot: about {done} are safe on {disk} already.").format(
            done=size_words(progress.bytes_done), disk=disk
        )
        goes_on = tr(
            "You may close the window, let the machine sleep or switch it off: it goes on where it was."
        )
        end = time.time_ns() + int(left) * SECOND
        until = tr("It lasts until about {end}.").format(end=time_words(end, time.time_ns()))
        return f"{safe} {goes_on} {until}" if left >= _LASTS else f"{safe} {goes_on}"

    def _said(self, work: Work) -> list[str]:
        progress, facts = work.progress, []
        if progress.stage is Stage.LAST_MINUTE:
            return [progress.phase]
        if progress.bytes_total:
            facts.append(
                tr("{bytes_done} of {bytes_total}").format(
                    bytes_done=size_words(progress.bytes_done), bytes_total=size_words(progress.bytes_total)
                )
            )
        elif progress.bytes_done:
            facts.append(size_words(progress.bytes_done))
        rate, left = self._pace.rate, self._pace.left(progress.bytes_total)
        if rate and not work.paused:
            facts.append(f"{size_words(int(rate))}/s")
            if left is not None and left >= 1:
                facts.append(tr("about {left} left").format(left=duration_words(left)))
        if progress.current:
            facts.append(progress.current.rpartition("/")[2][:60])
        return facts or [progress.phase]


NEWS_MS = 20_000
"""How long news that need nothing stay."""


class NoticeStrip(QFrame):
    """What has just been done, or went wrong; with Undo where there is something to undo. Plain news goes by
    itself after a while, unless the mouse is over it; trouble and what offers a button stay until they are
    put away."""

    undo = Signal(object)
    """What was done is to be undone, by these folders."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._undo: tuple[str, ...] = ()
        self._words = label("", "strong", wrap=True)
        self._detail = label("", "quiet", wrap=True)
        self.undo_button = button(tr("Undo"))
        self.show_button = button(tr("Show in files"))
        self.act_button = button("", primary=True)
        self._act: Callable[[], None] | None = None
        self._place = ""
        close = QToolButton()
        close.setIcon(icon("close", look.ink, 16))
        close.setToolTip(tr("Put away"))
        close.setAccessibleName(tr("Put away"))
        box = QVBoxLayout()
        box.setSpacing(2)
        box.addWidget(self._words)
        box.addWidget(self._detail)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 8, 10, 8)
        layout.addLayout(box, 1)
        layout.addWidget(self.show_button)
        layout.addWidget(self.undo_button)
        layout.addWidget(self.act_button)
        layout.addWidget(close)
        self._leave = QTimer(self, singleShot=True, interval=NEWS_MS)
        self._leave.timeout.connect(self._go)
        self.undo_button.clicked.connect(lambda: self.undo.emit(self._undo))
        self.show_button.clicked.connect(lambda: QDesktopServices.openUrl(QUrl.fromLocalFile(self._place)))
        self.act_button.clicked.connect(self._do)
        close.clicked.connect(self.hide)
        self.hide()

    def _do(self) -> None:
        """What the notice offers, once."""
        act, self._act = self._act, None
        self.hide()
        if act is not None:
            act()

    @property
    def text(self) -> str:
        """The words shown."""
        return self._words.text()

    def tell(
        self,
        words: str,
        detail: str = "",
        trouble: bool = False,
        undo: tuple[str, ...] = (),
        place: str = "",
        act: tuple[str, Callable[[], None]] | None = None,
    ) -> None:
        """Show a notice; ``undo``: the folders by which what was done is undone; ``place``: the folder in
        which it can be seen; ``act``: what can be done about it, in words."""
        self.setObjectName("trouble" if trouble else "notice")
        self.style().unpolish(self)
        self.style().polish(self)
        self._words.setText(words)
        self._detail.setText(detail)
        self._detail.setVisible(bool(detail))
        self._undo = undo
        self.undo_button.setVisible(bool(undo))
        self._place = place
        self.show_button.setVisible(bool(place))
        self._act = act[1] if act is not None else None
        self.act_button.setText(act[0] if act is not None else "")
        self.act_button.setVisible(act is not None)
        self.show()
        if trouble or undo or place or act:
            self._leave.stop()
        else:
            self._leave.start()

    def _go(self) -> None:
        if self.underMouse():
            self._leave.start()
        else:
            self.hide()


class AlarmStrip(QFrame):
    """Files were destroyed, as it seems: what is so, the way back to the moment before, and that it was
    meant.

    ``back``: everything is to be as it was (``AlarmView``). ``meant``: a person says that it was meant.
    """

    back = Signal(object)
    meant = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("trouble")
        self.alarm: AlarmView | None = None
        self.words, self.detail = label("", "strong", wrap=True), label("", "quiet", wrap=True)
        self.undo, self.dismiss = (
            button(tr("Everything as it was before…"), primary=True),
            button(tr("It was meant")),
        )
        self.undo.setToolTip(
            tr(
                "Open the restore plan of all covered folders at the last moment before; nothing is lost"
                " by it"
            )
        )
        self.dismiss.setToolTip(tr("Let snapshots be released again, as before"))
        box = QVBoxLayout()
        box.setSpacing(2)
        box.addWidget(self.words)
        box.addWidget(self.detail)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 8, 14, 8)
        layout.setSpacing(8)
        layout.addLayout(box, 1)
        layout.addWidget(self.dismiss)
        layout.addWidget(self.undo)
        self.undo.clicked.connect(lambda: self.back.emit(self.alarm))
        self.dismiss.clicked.connect(self.meant)
        self.hide()

    def show_alarm(self, alarm: AlarmView | None, now: int) -> None:
        """Show an alarm; None hides the strip."""
        self.alarm = alarm
        self.setVisible(alarm is not None)
        if alarm is None:
            return
        self.words.setText(f"{alarm.what}.")
        names = ", ".join(printable(path).rpartition("/")[2] for path in alarm.paths[:_NAMES])
        more = len(alarm.paths) - _NAMES
        told = (
            tr("Among them {names}{words}. ").format(
                names=names, words=" " + tr("and more") if more > 0 else ""
            )
            if names
            else ""
        )
        good = (
            tr("The last moment before is {before_time}; it is pinned.").format(
                before_time=time_words(alarm.before_time, now)
            )
            + " "
            if alarm.before
            else ""
        )
        self.detail.setText(
            tr("{told}{good}Nothing is released until you have looked.").format(told=told, good=good)
        )
        self.undo.setVisible(bool(alarm.before))
