"""The place Rhythm: the week as a picture, on which occasions snapshots are taken, what that comes to, and
what goes with it."""

from __future__ import annotations

import msgspec
from PySide6.QtCore import QTimer
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QBoxLayout, QHBoxLayout, QMenu, QScrollArea, QVBoxLayout, QWidget

from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import JobId
from good_tide.core.planning import Then
from good_tide.core.rhythm import Rhythm
from good_tide.core.settings import LineLimit
from good_tide.core.translation import tr
from good_tide.core.words import duration_words, size_words, time_words, tomorrow_morning
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, card, label, line
from good_tide.desktop.rhythm.choices import Away, Choices, OverTheLine, Telling, Waits, When
from good_tide.desktop.rhythm.ladder_card import LadderCard
from good_tide.desktop.rhythm.mail_dialog import MailDialog
from good_tide.desktop.rhythm.week_picture import WeekPicture
from good_tide.desktop.view import View, ViewKind
from good_tide.protocol.agent_calls import Overview, StayRunning
from good_tide.protocol.faults import Fault
from good_tide.protocol.journal_calls import MailView, ReadMailServer
from good_tide.protocol.schedule_calls import (
    KeepRhythm,
    PauseRhythm,
    ReadRhythm,
    RhythmChange,
    RhythmView,
    RunDue,
    TryRhythm,
)

_WORKING = {(day, hour) for day in range(5) for hour in range(8, 20)}
_ALL = {(day, hour) for day in range(7) for hour in range(24)}
_ASK_MS = 250
_TWO_COLUMNS, _TWO_CARDS = 1100, 860
"""Widths from which cards lie side by side, pixels."""


class RhythmPage(View):
    """When snapshots are taken. Nothing changes until it is kept."""

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._link, self._now, self._job = link, 0, JobId("")
        self.view: RhythmView | None = None
        self.dialog: MailDialog | None = None
        self.sentence = label("", "strong", wrap=True)
        self.picture = WeekPicture(look)
        self.when, self.waits, self.away, self.telling = When(), Waits(), Away(), Telling()
        self.over = OverTheLine()
        self.ladder = LadderCard(look, link)
        self.next, self.moved = label("", "", wrap=False), label("", "quiet", wrap=True)
        self.keep, self.discard = button(tr("Keep"), primary=True), button(tr("Discard"))
        self.all_hours, self.working = button(tr("All hours")), button(tr("Working hours"))
        self.pause, self.day = button(tr("Pause")), button(tr("Last run of the day"))
        self.stays, self.stay = label("", "quiet", wrap=True), button(tr("Switch on"))
        self._timer = QTimer(self, singleShot=True, interval=_ASK_MS)
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        page = QWidget()
        page.setObjectName("ground")
        head = line(label(tr("Rhythm"), "title"), spacing=12)
        head.addWidget(self.sentence, 1)
        for one in (self.pause, self.day, self.discard, self.keep):
            head.addWidget(one)
        frame, box = card(margin=16, spacing=8)
        hours = line(label(tr("Hours in which snapshots are taken by themselves"), "strong"), stretch=1)
        hours.addWidget(self.working)
        hours.addWidget(self.all_hours)
        box.addLayout(hours)
        box.addWidget(self.picture)
        box.addWidget(
            label(
                tr(
                    "Drag to open or close hours. Hatched: nothing runs by itself. Discs: past snapshots, the"
                    " larger the more regular."
                ),
                "small",
                wrap=True,
            )
        )
        due, rows = card(margin=14, spacing=6)
        rows.addWidget(label(tr("The next ten"), "strong"))
        rows.addWidget(self.next)
        rows.addWidget(self.moved)
        rows.addStretch()
        self._columns = columns = QHBoxLayout()
        columns.setSpacing(12)
        left, right = QVBoxLayout(), QVBoxLayout()
        for side in (left, right):
            side.setSpacing(12)
        left.addWidget(frame)
        self._lower = lower = QHBoxLayout()
        lower.setSpacing(12)
        lower.addWidget(self.waits, 1)
        lower.addWidget(self.away, 1)
        left.addLayout(lower)
        left.addWidget(self.telling)
        left.addStretch()
        right.addWidget(self.when)
        right.addWidget(due)
        right.addWidget(self.over)
        right.addStretch()
        columns.addLayout(left, 70)
        columns.addLayout(right, 30)
        column = QVBoxLayout(page)
        column.setContentsMargins(24, 14, 24, 14)
        column.setSpacing(10)
        column.addLayout(head)
        column.addLayout(columns)
        column.addWidget(self.ladder)
        foot = line(self.stays, spacing=12)
        foot.addWidget(self.stay)
        column.addLayout(foot)
        column.addStretch()
        scroll = self._scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(page)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(scroll)

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        """In a narrow window the cards lie below each other."""
        super().resizeEvent(event)
        for layout, least in ((self._columns, _TWO_COLUMNS), (self._lower, _TWO_CARDS)):
            beside = self.width() >= least
            layout.setDirection(
                QBoxLayout.Direction.LeftToRight if beside else QBoxLayout.Direction.TopToBottom
            )

    def _connect(self) -> None:
        self.picture.changed.connect(self._changed)
        for choices in self._choices():
            choices.changed.connect(self._changed)
        self._timer.timeout.connect(self._ask)
        self.ladder.kept.connect(self.refresh)
        self.all_hours.clicked.connect(lambda: self.picture.set_cells(_ALL))
        self.working.clicked.connect(lambda: self.picture.set_cells(_WORKING))
        self.keep.clicked.connect(self._keep)
        self.discard.clicked.connect(self.refresh)
        self.telling.server.clicked.connect(self._mail_server)
        self.stay.clicked.connect(
            lambda: self._link.ask(
                StayRunning(not (self.view and self.view.stays)), lambda done: self.refresh()
            )
        )
        pauses, day = QMenu(self.pause), QMenu(self.day)
        pauses.addAction(tr("For an hour"), lambda: self._pause(self._now + 3600 * SECOND))
        pauses.addAction(tr("Until tomorrow, 06:00"), lambda: self._pause(tomorrow_morning(self._now)))
        self.go_on = pauses.addAction(tr("Go on now"), lambda: self._pause(0))
        self.pause.setMenu(pauses)
        day.addAction(tr("Run everything that is due"), lambda: self._run_due(None))
        day.addAction(tr("Run it, then suspend the machine"), lambda: self._run_due("suspend"))
        day.addAction(tr("Run it, then switch the machine off"), lambda: self._run_due("power-off"))
        self.day.setMenu(day)
        self.day.setToolTip(tr("There is a minute to keep the machine on"))

    def _choices(self) -> tuple[Choices, ...]:
        return self.when, self.waits, self.away, self.telling, self.over

    def show_job(self, overview: Overview) -> None:
        """Another look at the job; what is being changed here stays as it is."""
        self._now = overview.now
        self.picture.show_tide(overview.tide)
        self.ladder.show_tide(overview.tide, overview.now)
        if self._job != overview.job:
            self._job, self.view = overview.job, None
        self.setEnabled(not overview.reading)
        if overview.reading:
            self.sentence.setText(
                tr("This store was opened only to read; its own machine says when snapshots are taken.")
            )

    def entered(self) -> None:
        if self.isEnabled():
            self.refresh()

    def show_below(self) -> None:
        """Bring the lower end of the page into view."""
        self._scroll.verticalScrollBar().setValue(self._scroll.verticalScrollBar().maximum())

    def refresh(self) -> None:
        """Show what holds, and forget what was changed here."""
        self._timer.stop()
        self._link.ask(ReadRhythm(self._job), self._take, in_order=True)

    def _take(self, view: RhythmView) -> None:
        self.view = view
        self.when.show_rhythm(view.rhythm)
        self.picture.show_hours(view.rhythm.allowed)
        self.waits.show_considerate(view.rhythm.considerate)
        self.telling.show_telling(view.noise, view.reporting, view.mail)
        self.over.show_limit(view.line)
        self.over.setVisible(view.on_server or view.line != LineLimit())
        self.ladder.take(view)
        self._preview(view, kept=True)

    def _preview(self, view: RhythmView, kept: bool) -> None:
        self.sentence.setText(
            tr("{words}{words_2}napshots are taken {words_3}.").format(
                words="" if kept else tr("Not kept yet:") + " ",
                words_2="S" if kept else "s",
                words_3=view.words,
            )
        )
        room = tr(
            "That is {holding_room} now; when it is full the oldest leave first, and you are warned before."
        ).format(holding_room=size_words(view.holding_room))
        self.away.show_holding(
            view.holding,
            room if view.holding.on else tr("Without it no snapshots are taken while the disk is away."),
        )
        self.next.setText(
            "\n".join(time_words(moment, self._now) for moment in view.next) or tr("None by the clock.")
        )
        moved = (
            [
                tr("This machine begins {spread} later, so that not all reach the share at once.").format(
                    spread=duration_words(view.spread)
                )
            ]
            if view.spread
            else []
        )
        moved += (
            [tr("Paused until {paused_until}.").format(paused_until=time_words(view.paused_until, self._now))]
            if view.paused_until > self._now
            else []
        )
        moved += [view.watching] if view.watching else []
        self.moved.setText(" ".join(moved))
        self.moved.setVisible(bool(moved))
        self.go_on.setEnabled(view.paused_until > self._now)
        self.pause.setText(tr("Paused") if view.paused_until > self._now else tr("Pause"))
        self.keep.setEnabled(not kept)
        self.discard.setEnabled(not kept)
        self.stays.setVisible(view.stays is not None)
        self.stay.setVisible(view.stays is not None)
        self.stays.setText(
            tr("Snapshots go on when this window is closed, and from each login on.")
            if view.stays
            else tr(
                "Snapshots stop soon after this window is closed: the agent is not started with the session."
            )
        )
        self.stay.setText(tr("Switch off") if view.stays else tr("Switch on"))

    def _changed(self) -> None:
        self.keep.setEnabled(False)
        self._timer.start()

    def _wanted(self) -> RhythmChange:
        """What is chosen now.

        Raises:
            PersonError: it cannot be understood.
        """
        assert self.view is not None
        if self.picture.nothing_open:
            raise PersonError(
                tr("Every hour is closed"), tr("Open some, or take the occasions away to run only by hand")
            )
        rhythm: Rhythm = msgspec.structs.replace(
            self.when.rhythm(self.view.zone),
            allowed=self.picture.hours(),
            considerate=self.waits.considerate(),
        )
        noise, reporting = self.telling.telling()
        return RhythmChange(rhythm, self.away.holding(), noise, reporting, self.over.limit())

    def _ask(self) -> None:
        """Ask what the choices come to."""
        if self.view is None:
            return
        try:
            wanted = self._wanted()
        except PersonError as error:
            self.when.tell(str(error))
            return
        self.when.tell("")
        self._link.ask(
            TryRhythm(self._job, wanted), lambda view: self._preview(view, kept=False), self._wrong
        )

    def _wrong(self, fault: Fault) -> None:
        self.when.tell(str(fault))

    def _keep(self) -> None:
        try:
            wanted = self._wanted()
        except PersonError as error:
            self.when.tell(str(error))
            return
        self._link.ask(KeepRhythm(self._job, wanted), self._kept, self._wrong)

    def _mail_server(self) -> None:
        """Ask for the mail server of this machine's reports."""

        def ask(view: MailView) -> None:
            self.dialog = MailDialog(
                self._link, view.server, next(iter(self.telling.telling()[1].to), ""), self
            )
            self.dialog.kept.connect(self.refresh)
            self.dialog.open()

        self._link.ask(ReadMailServer(), ask, self._wrong)

    def _kept(self, view: RhythmView) -> None:
        self._take(view)
        self.refresh_wanted.emit()

    def _pause(self, until: int) -> None:
        def paused(result: object) -> None:
            self.refresh()
            self.refresh_wanted.emit()

        self._link.ask(PauseRhythm(until), paused)

    def _run_due(self, then: Then | None) -> None:
        self._link.ask(RunDue(then))


RHYTHM = ViewKind(tr("Rhythm"), "rhythm", RhythmPage)
