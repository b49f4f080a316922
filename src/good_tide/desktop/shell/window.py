"""The window: its head, the rail with the views, and what the agent is doing."""

from __future__ import annotations

import os
from pathlib import Path

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QCloseEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QMainWindow,
    QSizePolicy,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.identifiers import JobId
from good_tide.core.job_facts import StoreState
from good_tide.core.job_facts import Topic as Trouble
from good_tide.core.progress import WorkKind
from good_tide.core.status import Action, Mood, State, Status
from good_tide.core.translation import tr
from good_tide.core.words import number_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.icons import icon, program_icon
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.styling import styled_at_the_end
from good_tide.desktop.setup.recovery import RecoveryPanel
from good_tide.desktop.setup.rescue import RescueDialog
from good_tide.desktop.setup.view import SetUpPage
from good_tide.desktop.shell.head import Head
from good_tide.desktop.shell.holder import Holder, Rail
from good_tide.desktop.shell.job_state import JobState
from good_tide.desktop.shell.other_version import OtherVersion
from good_tide.desktop.shell.outside import FromOutside
from good_tide.desktop.shell.strips import AlarmStrip, NoticeStrip, WorkStrip
from good_tide.desktop.shell.views import VIEWS
from good_tide.desktop.view import RestoreOffer, View, ViewKind
from good_tide.protocol.agent_calls import Overview, WorkEnded
from good_tide.protocol.contract import Topic
from good_tide.protocol.health_calls import AlarmView, DismissAlarm, ReadAlarm
from good_tide.protocol.restore_calls import UndoRestore
from good_tide.protocol.schedule_calls import PauseRhythm, TakeSnapshot
from good_tide.protocol.setup_calls import MadeView, OpenedView
from good_tide.protocol.wishes import Wish


class MainWindow(QMainWindow):
    """The one window."""

    painted = Signal()
    """The timeline was painted with history in it."""

    def __init__(self, look: Palette, socket: Path, settings: Path) -> None:
        super().__init__()
        with styled_at_the_end():
            self._build(look, socket, settings)

    def _build(self, look: Palette, socket: Path, settings: Path) -> None:
        self.setWindowTitle(tr("Good Tide"))
        self.setWindowIcon(program_icon())
        self.resize(1280, 800)
        self.setMinimumSize(900, 560)
        self.look = look
        self.link = AgentLink(socket, settings, frozenset(Topic), self)
        self.state = JobState(self.link, self)
        self.views: dict[ViewKind, View] = {kind: kind.make(look, self.link) for kind in VIEWS}
        self.current = VIEWS[0]
        self.head = Head()
        self.set_up, self.recovery = SetUpPage(look, self.link), RecoveryPanel(self.link)
        self.work_strip, self.notice, self.alarm = WorkStrip(self.link), NoticeStrip(look), AlarmStrip()
        self.pages = QStackedWidget()
        self._holders: dict[QWidget, Holder] = {
            page: Holder(page) for page in (*self.views.values(), self.set_up, self.recovery)
        }
        for holder in self._holders.values():
            self.pages.addWidget(holder)
        self.other_version = OtherVersion(self.link, self.notice, settings, self)
        self.outside = FromOutside(self.link, self.notice, self)
        self.rescue: RescueDialog | None = None
        self._wish: Wish | None = None
        """What is wished for when the agent answers."""
        self._offered: tuple[JobId, object] | None = None
        """What is to be brought back when the history of a job has come."""
        self._rail = QButtonGroup(self)
        self._buttons: dict[ViewKind, QToolButton] = {}
        self._lay_out()
        self._connect()

    @property
    def overview(self) -> Overview:
        """What is known of the job that is shown."""
        return self.state.overview

    def _lay_out(self) -> None:
        rail = QFrame()
        rail.setObjectName("rail")
        column = QVBoxLayout(rail)
        column.setContentsMargins(6, 10, 6, 10)
        for place, kind in enumerate(VIEWS, 1):
            self._buttons[kind] = self._rail_button(kind, f"Ctrl+{place}")
            column.addWidget(self._buttons[kind])
        column.addStretch()
        middle = QVBoxLayout()
        middle.setSpacing(0)
        strips = QVBoxLayout()
        strips.setContentsMargins(14, 8, 14, 0)
        strips.setSpacing(6)
        strips.addWidget(self.alarm)
        strips.addWidget(self.work_strip)
        strips.addWidget(self.notice)
        middle.addLayout(strips)
        middle.addWidget(self.pages, 1)
        body = QHBoxLayout()
        body.setSpacing(0)
        body.addWidget(Rail(rail))
        body.addLayout(middle, 1)
        ground = QWidget()
        ground.setObjectName("ground")
        whole = QVBoxLayout(ground)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(self.head)
        whole.addLayout(body, 1)
        self.setCentralWidget(ground)

    def _rail_button(self, kind: ViewKind, keys: str) -> QToolButton:
        made = QToolButton()
        made.setObjectName("place")
        made.setText(kind.title)
        made.setIcon(icon(kind.icon, self.look.ink, 26))
        made.setIconSize(QSize(26, 26))
        made.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
        made.setCheckable(True)
        made.setChecked(kind is self.current)
        made.setMinimumSize(72, 58)
        made.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        made.setToolTip(f"{kind.title} ({keys})")
        made.clicked.connect(lambda checked=False, kind=kind: self.show_view(kind))
        QShortcut(QKeySequence(keys), self).activated.connect(lambda kind=kind: self.show_view(kind))
        self._rail.addButton(made)
        return made

    def _connect(self) -> None:
        for view in self.views.values():
            view.refresh_wanted.connect(self.state.ask)
            view.job_wanted.connect(self.state.show_job)
            view.told.connect(self.notice.tell)
            view.path_wanted.connect(lambda path: self.show_wish(Wish(path=path)))
            view.offered.connect(self._offer)
            view.recovery.connect(self._show_recovery)
        self.head.take.clicked.connect(lambda: self.link.ask(TakeSnapshot(self.link.job)))
        self.head.acted.connect(self._do)
        self.head.job_chosen.connect(self.state.show_job)
        self.notice.undo.connect(self._undo)
        self.alarm.back.connect(self._as_it_was)
        self.alarm.meant.connect(self._meant)
        self.set_up.made.connect(self._set_up_done)
        self.set_up.opened.connect(self._opened)
        self.recovery.done.connect(lambda: self.show_view(self.current))
        self.outside.found.connect(self._shows)
        self.outside.changed.connect(self.state.ask)
        self.link.connected.connect(self.state.ask)
        self.link.lost.connect(self._lost)
        self.link.failed.connect(lambda words: self.notice.tell(words, trouble=True))
        self.state.changed.connect(self._show)
        self.state.switched.connect(self._switched)
        self.state.work_changed.connect(self._show_work)
        self.state.status_changed.connect(self._show_status)
        self.state.ended.connect(self._tell_ended)

    def start(self) -> None:
        """Connect to the agent."""
        self.link.open()

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802
        self.link.close()
        super().closeEvent(event)

    @property
    def page(self) -> QWidget:
        """The page that is in front."""
        return next(page for page, holder in self._holders.items() if holder is self.pages.currentWidget())

    def _to_front(self, page: QWidget) -> None:
        self.pages.setCurrentWidget(self._holders[page])

    def show_view(self, kind: ViewKind) -> None:
        """Go to one of the views; to the set-up while there is no job."""
        self.current = kind
        self._buttons[kind].setChecked(True)
        if self.overview.state is StoreState.NO_JOB:
            self._to_front(self.set_up)
            self.set_up.start()
            return
        self._to_front(self.views[kind])
        self.views[kind].entered()

    def show_named(self, job: str, title: str) -> None:
        """Come to the front with a view of a job, by its identity or name; an empty name leaves what is
        shown."""
        kind = next((kind for kind in VIEWS if kind.icon == title.lower()), self.current)
        known = next((one.id for one in self.overview.jobs if job in (one.id, one.name)), JobId(job))
        if job and known != self.overview.job:
            self.state.show_job(known)
        self.show_view(kind)
        self._come_to_front()

    def _come_to_front(self) -> None:
        self.setWindowState(self.windowState() & ~Qt.WindowState.WindowMinimized)
        self.raise_()
        self.activateWindow()

    def show_wish(self, wish: Wish) -> None:
        """Come to the front with what is wished for, as soon as the agent answers; a path is found first."""
        if wish.token:  # Qt hands it to the desktop when the window is activated
            os.environ["XDG_ACTIVATION_TOKEN"] = wish.token
        if not self.link.up or self.overview.state is StoreState.UNKNOWN:
            self._wish = wish
            self._come_to_front()
            return
        self.show_named(wish.job, wish.view)
        if wish.path:
            self.outside.look(wish)

    def _set_up_done(self, made: MadeView) -> None:
        """A job was made: show its recovery key; the first snapshot is taken meanwhile."""
        if made.recovery_key is not None:
            self._show_recovery(made)
        else:
            self._to_front(self.views[self.current])
        self.state.show_job(made.job)

    def _opened(self, opened: OpenedView) -> None:
        """A store was opened to bring things back from it."""
        self.rescue = RescueDialog(opened, self)
        self.rescue.chosen.connect(self._shows)
        self.rescue.rejected.connect(self.set_up.look_again)
        self.rescue.open()

    def _shows(self, job: JobId, offer: object) -> None:
        """A job is to be shown, and in it something that a view takes when its history has come."""
        self._offered = (job, offer) if offer is not None else None
        self.show_view(VIEWS[0])
        self.state.show_job(job)

    def _show_recovery(self, made: MadeView) -> None:
        assert made.recovery_key is not None
        self.recovery.show_key(made.recovery_key, made.where, made.notes)
        self._to_front(self.recovery)

    def _lost(self) -> None:
        self.head.show_status(
            Status(State.FAILING, tr("The agent has gone."), tr("Starting it again…"), Mood.HARM)
        )
        self.work_strip.show_work(None)
        self.head.take.setEnabled(False)

    def _show(self) -> None:
        """There is another overview."""
        overview = self.overview
        self._show_work()
        self._show_status()
        self.head.show_jobs(overview)
        for view in self.views.values():
            view.show_job(overview)
        wish, self._wish = self._wish, None
        if wish is not None:
            self.show_wish(wish)
        offered = self._offered
        if offered is not None and offered[0] == overview.job and overview.state is StoreState.READY:
            self._offered = None
            self._offer(offered[1])
        if overview.trouble and overview.state is StoreState.READY:
            self.notice.tell(
                tr("Part of the store is damaged"), "\n".join(overview.trouble[:3]), trouble=True
            )

    def _show_status(self) -> None:
        """How the job stands, and whether something rings."""
        self.head.show_status(self.state.status())
        standing = self.overview.standing
        if standing is not None and any(one.topic is Trouble.ALARM for one in standing.status.trouble):
            now, job = self.overview.now, self.overview.job
            self.link.ask(ReadAlarm(job), lambda alarm: self.alarm.show_alarm(alarm, now), in_order=True)
        else:
            self.alarm.show_alarm(None, 0)

    def _as_it_was(self, alarm: AlarmView) -> None:
        """Open the plan that brings everything back as it was before an alarm."""
        self._offer(RestoreOffer(alarm.before, alarm.before_time))

    def _meant(self) -> None:
        self.link.ask(DismissAlarm(self.overview.job), lambda done: self.state.ask())

    def _switched(self) -> None:
        """It is of another job, or its store is in another state."""
        if not self.recovery.isVisibleTo(self):
            self.show_view(self.current)

    def _show_work(self) -> None:
        work, overview = self.state.work, self.overview
        first = work is not None and work.what is WorkKind.SNAPSHOT and overview.state is StoreState.EMPTY
        disk = overview.store.disk if first and overview.store is not None else ""
        self.work_strip.show_work(work, disk)
        self.head.take.setEnabled(self.state.may_take)

    def _do(self, action: Action) -> None:
        """The one action that the status sentence offers."""
        if action is Action.GO_ON:
            self.link.ask(PauseRhythm(0), lambda done: self.state.ask())
        else:
            self.show_view(next((kind for kind in VIEWS if action in kind.answers), VIEWS[0]))

    def _offer(self, offer: object) -> None:
        """What a view offers to another one is taken there, and shown."""
        for kind, view in self.views.items():
            if view.take_offer(offer):
                self.show_view(kind)
                return

    def _tell_ended(self, ended: WorkEnded) -> None:
        if ended.error:
            rest = ended.what is WorkKind.RESTORE
            goes_on = tr("What it had brought is there. It can go on: Journal, Restores.") if rest else ""
            self.notice.tell(ended.error, goes_on, trouble=True)
        elif ended.restore is not None:
            result = ended.restore
            counts = (
                tr("{created} created, {replaced} replaced, {identical} identical, {skipped} skipped").format(
                    created=number_words(result.created),
                    replaced=number_words(result.replaced),
                    identical=number_words(result.identical),
                    skipped=number_words(result.skipped),
                )
                + (
                    ", "
                    + tr("{strange} set aside that were not there then").format(
                        strange=number_words(result.strange)
                    )
                    if result.strange
                    else ""
                )
                + (
                    ". "
                    + tr("{checked} read again and the same as in the store").format(
                        checked=number_words(result.checked)
                    )
                    if result.checked
                    else ""
                )
            )
            lies = [
                tr("What was replaced lies in {aside}").format(aside=aside) for aside in result.set_aside[:2]
            ]
            said = "\n".join([counts, *lies, *result.problems[:3]])
            self.notice.tell(
                ended.words, said, bool(result.problems), result.undo, next(iter(result.targets), "")
            )
        else:
            self.notice.tell(
                ended.words, "\n".join(ended.problems[:3]), bool(ended.problems), place=ended.place
            )

    def _undo(self, folders: tuple[str, ...]) -> None:
        self.notice.hide()
        self.link.ask(UndoRestore(folders))
