"""The window: rail, status sentence, places, and what the agent is doing."""

from __future__ import annotations

from pathlib import Path

import msgspec
from PySide6.QtCore import QSize, Qt, QTimer, Signal
from PySide6.QtGui import QCloseEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QMainWindow,
    QSizePolicy,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from good_tide import __version__
from good_tide.core.status import Action, JobFacts, JobStanding, Mood, State, Status, status, work_words
from good_tide.desktop.coverage.view import CoveragePlace
from good_tide.desktop.journal.view import JournalPlace
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.icons import icon, program_icon
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.signs import Sign
from good_tide.desktop.painting.widgets import button, label, line
from good_tide.desktop.rhythm.view import RhythmPlace
from good_tide.desktop.setup.recovery import RecoveryPanel
from good_tide.desktop.setup.view import SetUpPage
from good_tide.desktop.shell.state_page import StatePage
from good_tide.desktop.shell.strips import NoticeStrip, WorkStrip
from good_tide.desktop.stores.view import StoresPlace
from good_tide.desktop.timeline.view import TimelinePlace
from good_tide.protocol.messages import (
    PROTOCOL_VERSION,
    Fault,
    Finished,
    Hello,
    MadeView,
    Overview,
    SurveyView,
    Work,
)

PLACES = ("Timeline", "Coverage", "Stores", "Rhythm", "Journal")
_STATUS_REFRESH_MS = 60_000
_CATCH_UP_MS = 500


class MainWindow(QMainWindow):
    """The one window."""

    painted = Signal()
    """The timeline was painted with history in it."""

    def __init__(self, look: Palette, socket: Path, settings: Path) -> None:
        super().__init__()
        self.setWindowTitle("Good Tide")
        self.setWindowIcon(program_icon())
        self.resize(1280, 800)
        self.setMinimumSize(900, 560)
        self.look = look
        self.overview = Overview("unknown")
        self.link = AgentLink(socket, settings, self)
        self.timeline = TimelinePlace(look, self.link)
        self.coverage, self.stores = CoveragePlace(look, self.link), StoresPlace(look, self.link)
        self.rhythm, self.journal = RhythmPlace(look, self.link), JournalPlace(look, self.link)
        self.state_page = StatePage()
        self.set_up, self.recovery = SetUpPage(look, self.link), RecoveryPanel(self.link)
        self.work_strip, self.notice = WorkStrip(self.link), NoticeStrip(look)
        self._places = QStackedWidget()
        for place in (
            self.timeline,
            self.coverage,
            self.stores,
            self.rhythm,
            self.journal,
            self.state_page,
            self.set_up,
            self.recovery,
        ):
            self._places.addWidget(place)
        self.job = QComboBox()
        self.job.setAccessibleName("Job")
        self.job.hide()
        self._rail = QButtonGroup(self)
        self._sign = Sign()
        self._sentence, self._detail = label("Looking for the agent…"), label("", "quiet")
        self.take, self.act = button("Take snapshot", primary=True), button("")
        self._action = Action.NONE
        self._wanted_job = ""
        self.act.hide()
        self.take.setEnabled(False)
        self._lay_out()
        self._connect()
        timer = QTimer(self, interval=_STATUS_REFRESH_MS)
        timer.timeout.connect(self.ask_overview)
        timer.start()

    def _lay_out(self) -> None:
        head = QFrame()
        head.setObjectName("head")
        head.setFixedHeight(52)
        self._sentence.setStyleSheet("font-weight: 600;")
        self._detail.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row = line(self._sign, self._sentence, spacing=10)
        row.addWidget(self._detail, 1)
        row.addWidget(self.act)
        row.addWidget(self.job)
        row.addWidget(self.take)
        row.setContentsMargins(20, 0, 16, 0)
        head.setLayout(row)
        rail = QFrame()
        rail.setObjectName("rail")
        rail.setFixedWidth(84)
        column = QVBoxLayout(rail)
        column.setContentsMargins(6, 10, 6, 10)
        for number, name in enumerate(PLACES):
            column.addWidget(self._rail_button(number, name))
        column.addStretch()
        middle = QVBoxLayout()
        middle.setSpacing(0)
        strips = QVBoxLayout()
        strips.setContentsMargins(14, 8, 14, 0)
        strips.addWidget(self.work_strip)
        strips.addWidget(self.notice)
        middle.addLayout(strips)
        middle.addWidget(self._places, 1)
        body = QHBoxLayout()
        body.setSpacing(0)
        body.addWidget(rail)
        body.addLayout(middle, 1)
        ground = QWidget()
        ground.setObjectName("ground")
        whole = QVBoxLayout(ground)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(head)
        whole.addLayout(body, 1)
        self.setCentralWidget(ground)

    def _rail_button(self, number: int, name: str) -> QToolButton:
        made = QToolButton()
        made.setObjectName("place")
        made.setText(name)
        made.setIcon(icon(name.lower(), self.look.ink, 26))
        made.setIconSize(QSize(26, 26))
        made.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
        made.setCheckable(True)
        made.setChecked(number == 0)
        made.setFixedSize(72, 58)
        made.setToolTip(f"{name} (Ctrl+{number + 1})")
        self._rail.addButton(made, number)
        return made

    def _connect(self) -> None:
        self._rail.idClicked.connect(self.show_place)
        for number in range(len(PLACES)):
            shortcut = QShortcut(QKeySequence(f"Ctrl+{number + 1}"), self)
            shortcut.activated.connect(lambda number=number: self.show_place(number))
        self.take.clicked.connect(lambda: self.link.ask("snapshot"))
        self.act.clicked.connect(self._do_action)
        self.rhythm.refresh_wanted.connect(self.ask_overview)
        self.journal.rule_wanted.connect(self._offer_rule)
        self.timeline.pins_changed.connect(self.ask_overview)
        self.timeline.outdated.connect(self.ask_overview)
        self.timeline.restore_wanted.connect(
            lambda number, job: self.link.ask("restore", {"number": number}, job=job)
        )
        self.notice.undo.connect(self._undo)
        self.state_page.unlock.connect(self._unlock)
        self.state_page.again.connect(self.ask_overview)
        self.set_up.made.connect(self._set_up_done)
        self.stores.recovery.connect(self._show_recovery)
        self.stores.refresh_wanted.connect(self.ask_overview)
        self.stores.job_wanted.connect(self.ask_overview)
        self.stores.told.connect(self.notice.tell)
        self.recovery.done.connect(lambda: self.show_place(self._rail.checkedId()))
        self.job.activated.connect(self._choose_job)
        self.link.connected.connect(self._connected)
        self.link.lost.connect(self._lost)
        self.link.failed.connect(lambda words: self.notice.tell(words, trouble=True))
        self.journal.told.connect(self.notice.tell)
        self.link.notified.connect(self._notified)

    def start(self) -> None:
        """Connect to the agent."""
        self.link.open()

    def closeEvent(self, event: QCloseEvent) -> None:  # noqa: N802
        self.link.close()
        super().closeEvent(event)

    def show_place(self, number: int) -> None:
        """Go to one of the places; to the set-up while there is no job."""
        self._rail.button(number).setChecked(True)
        state = self.overview.state
        if state == "no-job":
            self._places.setCurrentWidget(self.set_up)
            self.set_up.start()
            return
        timeless = number == 0 and state != "ready"
        self._places.setCurrentIndex(len(PLACES) if timeless else number)
        if number == 1:
            self.coverage.refresh()
        elif number == 2:
            self.stores.refresh()
        elif number == 3 and not self.overview.reading:
            self.rhythm.refresh()
        elif number == 4:
            self.journal.refresh()
            self.journal.events.setFocus()
        if number == 0 and not timeless:
            self.timeline.lines.setFocus()

    def show_named(self, job: str, place: str) -> None:
        """Come to the front with a place of a job; an empty name leaves what is shown."""
        number = next(
            (number for number, name in enumerate(PLACES) if name.lower() == place.lower()),
            self._rail.checkedId(),
        )
        if job and job != self.overview.job:
            self.ask_overview(job)
        self.show_place(number)
        self.setWindowState(self.windowState() & ~Qt.WindowState.WindowMinimized)
        self.raise_()
        self.activateWindow()

    def _set_up_done(self, made: MadeView) -> None:
        """A job was made: show its recovery key; the first snapshot is taken meanwhile."""
        if made.recovery_key is not None:
            self._show_recovery(made)
        else:
            self._places.setCurrentWidget(self.state_page)
        self.ask_overview(made.job)

    def _show_recovery(self, made: MadeView) -> None:
        assert made.recovery_key is not None
        self.recovery.show_key(made.recovery_key, made.store, made.notes)
        self._places.setCurrentWidget(self.recovery)

    def _choose_job(self, number: int) -> None:
        self.ask_overview(self.job.itemText(number))

    def _connected(self) -> None:
        self.link.ask("hello", None, Hello, self._greet)
        self.ask_overview()

    def _greet(self, hello: Hello) -> None:
        if hello.protocol != PROTOCOL_VERSION or hello.version != __version__:
            self.notice.tell(
                f"The agent is of version {hello.version}, this window of {__version__}. End the agent, and"
                " this window starts its own.",
                trouble=True,
            )

    def _lost(self) -> None:
        self.show_status(Status(State.FAILING, "The agent has gone.", "Starting it again…", Mood.HARM))
        self.work_strip.show_work(None)
        self.take.setEnabled(False)

    def ask_overview(self, job: str | None = None) -> None:
        """Bring everything up to date; show another job if one is named."""
        if job is not None:
            self._wanted_job = job
        self.link.ask("overview", None, Overview, self._take_overview, job=self._wanted_job)

    def _take_overview(self, overview: Overview) -> None:
        if overview.job != self._wanted_job and self._wanted_job in overview.jobs:
            return  # another job was chosen meanwhile, and its answer is on its way
        first = self.overview.state != overview.state or self.overview.job != overview.job
        self.overview = overview
        self.link.job = self._wanted_job = overview.job
        if overview.state == "catching-up":
            QTimer.singleShot(_CATCH_UP_MS, self.ask_overview)
        self.take.setEnabled(
            overview.state in ("ready", "empty", "catching-up")
            and overview.work is None
            and not overview.reading
        )
        self.work_strip.show_work(overview.work)
        self.show_status(self._status())
        self.coverage.show_job(overview)
        self.stores.show_stores(overview)
        self._show_jobs(overview)
        self.rhythm.show_job(overview)
        self.journal.show_job(overview)
        self.state_page.show_state(overview)
        if overview.state == "ready":
            self.timeline.take_overview(overview)
        showing_key = self._places.currentWidget() is self.recovery
        if (first and not showing_key) or (
            self._places.currentWidget() is self.journal and overview.state == "ready"
        ):
            self.show_place(self._rail.checkedId())
        if overview.trouble and overview.state == "ready":
            self.notice.tell("Part of the store is damaged", "\n".join(overview.trouble[:3]), trouble=True)

    def _show_jobs(self, overview: Overview) -> None:
        """The choice of a job, where there are several."""
        self.job.setVisible(len(overview.jobs) > 1)
        if [self.job.itemText(number) for number in range(self.job.count())] != list(overview.jobs):
            self.job.clear()
            self.job.addItems(list(overview.jobs))
        self.job.setCurrentText(overview.job)

    def _status(self) -> Status:
        """What the agent says, or what follows from the store alone where it keeps no rhythm: no job yet, or
        opened only to read."""
        overview, work = self.overview, self.overview.work
        if work is not None:
            known = overview.standing.status if overview.standing is not None else None
            return Status(
                State.RUNNING,
                f"{work_words(work.what, work.paused)}.",
                known.detail if known is not None else "",
                Mood.WORKING,
            )
        if overview.standing is not None:
            return overview.standing.status
        last, store = overview.tide[-1] if overview.tide else None, overview.store
        return status(
            JobFacts(
                state=overview.state,
                by_hand=True,
                disk=store.disk if store is not None else "",
                last=last.time if last is not None else 0,
                gaps=last.gaps if last is not None else 0,
                free=store.disk_free if store is not None and store.present else None,
            ),
            overview.now,
        )

    def show_status(self, now: Status) -> None:
        """Show how the job stands."""
        self._sign.mood = now.mood
        self._sign.update()
        self._sentence.setText(now.sentence)
        self._detail.setText(now.detail)
        self._detail.setToolTip(now.detail)
        self._action = now.action
        self.act.setText(now.action.value)
        self.act.setVisible(now.action not in (Action.NONE, Action.TAKE, Action.SET_UP))

    def _do_action(self) -> None:
        """The one action that the status sentence offers."""
        if self._action is Action.GO_ON:
            self.link.ask("pause-rhythm", {"moment": 0}, None, lambda result: self.ask_overview())
        else:
            self.show_place({Action.UNLOCK: 0, Action.STORES: 2, Action.JOURNAL: 4}.get(self._action, 0))

    def _offer_rule(self, rule: str) -> None:
        """A rule for a file that is left out again and again: weighed in Coverage, and kept there."""
        self.show_place(1)
        self.coverage.rules.add_line(rule)

    def _notified(self, method: str, content: bytes) -> None:
        if method == "progress":
            work = msgspec.json.decode(content, type=Work | None)
            self.overview.work = work
            self.work_strip.show_work(work)
            self.take.setEnabled(False)
            self.show_status(self._status())
        elif method == "survey":
            view = msgspec.json.decode(content, type=SurveyView)
            self.coverage.take_survey(view)
            self.set_up.take_survey(view)
        elif method == "status":
            self._take_standings(msgspec.json.decode(content, type=tuple[JobStanding, ...]))
        elif method == "history":
            self.ask_overview()
        elif method == "disks":
            self.set_up.disks_changed()
            self.stores.disks_changed()
            self.ask_overview()
        elif method == "finished":
            self._finished(msgspec.json.decode(content, type=Finished))

    def _take_standings(self, standings: tuple[JobStanding, ...]) -> None:
        """How the jobs stand now; another snapshot than that known asks for everything anew."""
        mine = next((one for one in standings if one.job == self.overview.job), None)
        if mine is None or self.overview.reading:
            return
        newer = self.overview.standing is None or mine.last != self.overview.standing.last
        self.overview.standing = mine
        self.show_status(self._status())
        if newer:
            self.ask_overview()

    def _finished(self, finished: Finished) -> None:
        self.overview.work = None
        self.work_strip.show_work(None)
        if finished.error:
            self.notice.tell(finished.error, trouble=True)
        elif finished.restore is not None:
            result = finished.restore
            counts = (
                f"{result.created:,} created, {result.replaced:,} replaced, {result.identical:,} identical,"
                f" {result.skipped:,} skipped"
            )
            aside = result.set_aside[0] if result.set_aside else ""
            detail = [counts, f"What was replaced lies in {aside}" if aside else "", *result.problems[:3]]
            self.notice.tell(
                finished.words, "\n".join(part for part in detail if part), bool(result.problems), aside
            )
        else:
            self.notice.tell(finished.words)
        self.ask_overview()

    def _undo(self, folder: str) -> None:
        self.notice.hide()
        self.link.ask("undo", {"words": folder})

    def _unlock(self, passphrase: str, remember: bool) -> None:
        def wrong(fault: Fault) -> None:
            self.state_page.wrong(f"{fault.message}. {fault.data}.")
            if "key ring" in fault.message:
                self.notice.tell(
                    "The store is open, but its passphrase could not be remembered",
                    f"{fault.message}. {fault.data}.",
                    trouble=True,
                )
                self.ask_overview()

        self.link.ask(
            "unlock",
            {"words": passphrase, "remember": remember},
            None,
            lambda result: self.ask_overview(),
            wrong,
        )
