"""The window: rail, status sentence, places, and what the agent is doing."""

from __future__ import annotations

from pathlib import Path

import msgspec
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QCloseEvent, QColor, QKeySequence, QPainter, QPaintEvent, QPen, QPolygonF, QShortcut
from PySide6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QMainWindow,
    QProgressBar,
    QSizePolicy,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from good_tide import __version__
from good_tide.core.status import Mood, Status, status
from good_tide.core.words import duration_words, size_words
from good_tide.desktop.coverage import CoveragePlace
from good_tide.desktop.icons import icon, program_icon
from good_tide.desktop.link import AgentLink
from good_tide.desktop.palette import Palette
from good_tide.desktop.places import JournalPlace, RhythmPlace
from good_tide.desktop.recovery import RecoveryPanel
from good_tide.desktop.setup import SetUpPage
from good_tide.desktop.stores import StoresPlace
from good_tide.desktop.timeline import TimelinePlace
from good_tide.desktop.widgets import button, card, label, line
from good_tide.protocol.messages import PROTOCOL_VERSION, Fault, Finished, Hello, JournalEntry, MadeView, Overview, SurveyView, Work

PLACES = ("Timeline", "Coverage", "Stores", "Rhythm", "Journal")
_STATUS_REFRESH_MS = 60_000
_CATCH_UP_MS = 500


class Sign(QWidget):
    """The shape beside the status sentence: disc (well), ring (working), triangle (attention), square (harm)."""

    def __init__(self) -> None:
        super().__init__()
        self.mood = Mood.ATTENTION
        self.setFixedSize(18, 18)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        box = QRectF(3, 3, 12, 12)
        if self.mood is Mood.WELL:
            painter.setBrush(QColor("#7FD0C0"))
            painter.drawEllipse(box)
        elif self.mood is Mood.WORKING:
            painter.setPen(QPen(QColor("#7FD0C0"), 2.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(box)
        elif self.mood is Mood.ATTENTION:
            painter.setBrush(QColor("#E6C27E"))
            painter.drawPolygon(QPolygonF([QPointF(9, 2), QPointF(17, 16), QPointF(1, 16)]))
        else:
            painter.setBrush(QColor("#F0846F"))
            painter.drawRect(box)


class WorkStrip(QFrame):
    """What the agent is doing: progress, pause, stop."""

    def __init__(self, link: AgentLink) -> None:
        super().__init__()
        self.setObjectName("notice")
        self._paused = False
        self._words = label("", "strong")
        self._facts = label("", "quiet")
        self._bar = QProgressBar()
        self._bar.setTextVisible(False)
        self.pause = button("Pause")
        self.stop = button("Stop")
        box = QVBoxLayout()
        box.setSpacing(4)
        box.addLayout(line(self._words, self._facts, stretch=1))
        box.addWidget(self._bar)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 8, 14, 8)
        layout.addLayout(box, 1)
        layout.addWidget(self.pause)
        layout.addWidget(self.stop)
        self.pause.clicked.connect(lambda: link.ask("resume" if self._paused else "pause"))
        self.stop.clicked.connect(lambda: link.ask("stop"))
        self.hide()

    def show_work(self, work: Work | None) -> None:
        """Show how far it has come; None hides the strip."""
        self.setVisible(work is not None)
        if work is None:
            return
        progress = work.progress
        self._paused = work.paused
        self.pause.setText("Go on" if work.paused else "Pause")
        self._words.setText(
            {"snapshot": "Taking a snapshot", "restore": "Restoring", "undo": "Undoing"}.get(work.what, work.what)
            + (", paused" if work.paused else "")
        )
        facts = []
        if progress.bytes_total:
            facts.append(f"{size_words(progress.bytes_done)} of {size_words(progress.bytes_total)}")
        elif progress.bytes_done:
            facts.append(size_words(progress.bytes_done))
        if work.seconds > 1 and progress.bytes_done:
            rate = progress.bytes_done / work.seconds
            facts.append(f"{size_words(rate)}/s")
            if progress.bytes_total > progress.bytes_done:
                facts.append(f"{duration_words((progress.bytes_total - progress.bytes_done) / max(rate, 1))} left")
        name = progress.current.rpartition("/")[2]
        self._facts.setText("   ".join([*facts, name[:60]]))
        self._bar.setMaximum(1000 if progress.bytes_total else 0)
        self._bar.setValue(int(1000 * min(1.0, progress.bytes_done / progress.bytes_total)) if progress.bytes_total else 0)


class NoticeStrip(QFrame):
    """What has just been done, or went wrong, until it is put away; with Undo where there is something to undo."""

    undo = Signal(str)

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._set_aside = ""
        self._words = label("", "strong", wrap=True)
        self._detail = label("", "quiet", wrap=True)
        self.undo_button = button("Undo")
        close = QToolButton()
        close.setIcon(icon("close", look.ink, 16))
        close.setToolTip("Put away")
        close.setAccessibleName("Put away")
        box = QVBoxLayout()
        box.setSpacing(2)
        box.addWidget(self._words)
        box.addWidget(self._detail)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 8, 10, 8)
        layout.addLayout(box, 1)
        layout.addWidget(self.undo_button)
        layout.addWidget(close)
        self.undo_button.clicked.connect(lambda: self.undo.emit(self._set_aside))
        close.clicked.connect(self.hide)
        self.hide()

    @property
    def text(self) -> str:
        """The words shown."""
        return self._words.text()

    def tell(self, words: str, detail: str = "", trouble: bool = False, set_aside: str = "") -> None:
        """Show a notice."""
        self.setObjectName("trouble" if trouble else "notice")
        self.style().unpolish(self)
        self.style().polish(self)
        self._words.setText(words)
        self._detail.setText(detail)
        self._detail.setVisible(bool(detail))
        self._set_aside = set_aside
        self.undo_button.setVisible(bool(set_aside))
        self.show()


class StatePage(QWidget):
    """Shown instead of the timeline when there is nothing to show: says what is so and offers the next step."""

    unlock = Signal(str, bool)
    again = Signal()

    def __init__(self) -> None:
        super().__init__()
        frame, layout = card(margin=28, spacing=12)
        frame.setMaximumWidth(560)
        self._title = label("", "title", wrap=True)
        self._words = label("", "", wrap=True)
        self._passphrase = QLineEdit()
        self._passphrase.setEchoMode(QLineEdit.EchoMode.Password)
        self._passphrase.setPlaceholderText("Passphrase or recovery key")
        self._wrong = label("", "harm", wrap=True)
        self.remember = QCheckBox("Remember it in the key ring")
        self.open = button("Open the store", primary=True)
        self.look_again = button("Look again")
        for widget in (self._title, self._words, self._passphrase, self.remember, self._wrong):
            layout.addWidget(widget)
        layout.addLayout(line(self.look_again, self.open, stretch=0))
        outer = QVBoxLayout(self)
        outer.addStretch(2)
        middle = line(frame, stretch=0)
        middle.addStretch()
        outer.addLayout(middle)
        outer.addStretch(3)
        self._passphrase.returnPressed.connect(self._try)
        self.open.clicked.connect(self._try)
        self.look_again.clicked.connect(self.again)

    def _try(self) -> None:
        self.unlock.emit(self._passphrase.text(), self.remember.isChecked())

    def wrong(self, words: str) -> None:
        """The passphrase did not open the store."""
        self._wrong.setText(words)
        self._wrong.show()
        self._passphrase.selectAll()
        self._passphrase.setFocus()

    def show_state(self, overview: Overview) -> None:
        """Explain a state in which there is no timeline."""
        disk = overview.store.disk if overview.store is not None else "the disk"
        folder = overview.store.folder if overview.store is not None else ""
        hint = overview.store.hint if overview.store is not None else ""
        pages = {
            "away": (
                f"The disk {disk} is not here",
                f"The store is expected in {folder}. Connect the disk: it is noticed by itself, and everything on it is as it was.",
            ),
            "locked": (f"The store on {disk} is locked", f"Hint: {hint or 'none was given'}"),
            "damaged": ("The store cannot be read", "\n".join(overview.trouble)),
            "catching-up": ("Reading history", _reading_words(*overview.history_read)),
            "empty": ("No snapshot yet", "“Take snapshot” above takes the first one. Then the timeline begins here."),
        }
        title, words = pages.get(overview.state, ("", ""))
        self._title.setText(title)
        self._words.setText(words)
        locked = overview.state == "locked"
        for widget in (self._passphrase, self.remember, self.open):
            widget.setVisible(locked)
        self._wrong.hide()
        self.look_again.setVisible(overview.state in ("away", "damaged"))


def _reading_words(done: int, total: int) -> str:
    far = f"{done:,} of {total:,} snapshots. " if total else ""
    return f"{far}This is done once on each machine, so that looking back is quick. You can leave the window; it goes on."


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
        self.rhythm, self.journal = RhythmPlace(look), JournalPlace(look)
        self.state_page = StatePage()
        self.set_up, self.recovery = SetUpPage(look, self.link), RecoveryPanel(self.link)
        self.work_strip, self.notice = WorkStrip(self.link), NoticeStrip(look)
        self._places = QStackedWidget()
        for place in (self.timeline, self.coverage, self.stores, self.rhythm, self.journal, self.state_page, self.set_up, self.recovery):
            self._places.addWidget(place)
        self.job = QComboBox()
        self.job.setAccessibleName("Job")
        self.job.hide()
        self._rail = QButtonGroup(self)
        self._sign = Sign()
        self._sentence, self._detail = label("Looking for the agent…"), label("", "quiet")
        self.take = button("Take snapshot", primary=True)
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
        self.timeline.restore_wanted.connect(lambda number: self.link.ask("restore", {"number": number}))
        self.notice.undo.connect(self._undo)
        self.state_page.unlock.connect(self._unlock)
        self.state_page.again.connect(self.ask_overview)
        self.set_up.made.connect(self._set_up_done)
        self.stores.recovery.connect(self._show_recovery)
        self.stores.refresh_wanted.connect(self.ask_overview)
        self.recovery.done.connect(lambda: self.show_place(self._rail.checkedId()))
        self.job.activated.connect(self._choose_job)
        self.link.connected.connect(self._connected)
        self.link.lost.connect(self._lost)
        self.link.failed.connect(lambda words: self.notice.tell(words, trouble=True))
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
        elif number == 4 and state == "ready":
            self.link.ask("journal", None, list[JournalEntry], lambda entries: self.journal.show_entries(entries, self.overview.now))
        if number == 0 and not timeless:
            self.timeline.lines.setFocus()

    def _set_up_done(self, made: MadeView) -> None:
        """A job was made: show its recovery key, and take the first snapshot meanwhile."""
        if made.recovery_key is not None:
            self._show_recovery(made)
        else:
            self._places.setCurrentWidget(self.state_page)
        self.ask_overview()
        self.link.ask("snapshot")

    def _show_recovery(self, made: MadeView) -> None:
        assert made.recovery_key is not None
        self.recovery.show_key(made.recovery_key, made.store, made.notes)
        self._places.setCurrentWidget(self.recovery)

    def _choose_job(self, number: int) -> None:
        self.link.ask("choose-job", {"words": self.job.itemText(number)}, None, lambda result: self.ask_overview())

    def _connected(self) -> None:
        self.link.ask("hello", None, Hello, self._greet)
        self.ask_overview()

    def _greet(self, hello: Hello) -> None:
        if hello.protocol != PROTOCOL_VERSION or hello.version != __version__:
            self.notice.tell(
                f"The agent is of version {hello.version}, this window of {__version__}. End the agent, and this window starts its own.",
                trouble=True,
            )

    def _lost(self) -> None:
        self._show_status(Status(Mood.HARM, "The agent has gone.", "Starting it again…"))
        self.work_strip.show_work(None)
        self.take.setEnabled(False)

    def ask_overview(self) -> None:
        """Bring everything up to date."""
        self.link.ask("overview", None, Overview, self._take_overview)

    def _take_overview(self, overview: Overview) -> None:
        first = self.overview.state != overview.state
        self.overview = overview
        if overview.state == "catching-up":
            QTimer.singleShot(_CATCH_UP_MS, self.ask_overview)
        self.take.setEnabled(overview.state in ("ready", "empty", "catching-up") and overview.work is None and not overview.reading)
        self.work_strip.show_work(overview.work)
        self._show_status(self._status())
        self.coverage.show_job(overview)
        self.stores.show_stores(overview)
        self._show_jobs(overview)
        self.rhythm.show_tide(overview)
        self.journal.show_tide(overview)
        self.state_page.show_state(overview)
        if overview.state == "ready":
            self.timeline.take_overview(overview)
        showing_key = self._places.currentWidget() is self.recovery
        if (first and not showing_key) or (self._places.currentWidget() is self.journal and overview.state == "ready"):
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
        overview = self.overview
        last = overview.tide[-1] if overview.tide else None
        store = overview.store
        free = store.disk_free if store is not None and store.present else None
        work = overview.work
        return status(
            overview.state, store.disk if store is not None else "", last.time if last else None, last.gaps if last else 0, overview.now, free,
            work.what if work else "", work.paused if work else False,
        )  # fmt: skip

    def _show_status(self, now: Status) -> None:
        self._sign.mood = now.mood
        self._sign.update()
        self._sentence.setText(now.sentence)
        self._detail.setText(now.detail)

    def _notified(self, method: str, content: bytes) -> None:
        if method == "progress":
            work = msgspec.json.decode(content, type=Work | None)
            self.overview.work = work
            self.work_strip.show_work(work)
            self.take.setEnabled(False)
            self._show_status(self._status())
        elif method == "survey":
            view = msgspec.json.decode(content, type=SurveyView)
            self.coverage.take_survey(view)
            self.set_up.take_survey(view)
        elif method == "history":
            self.ask_overview()
        elif method == "disks":
            self.set_up.disks_changed()
            self.stores.disks_changed()
            self.ask_overview()
        elif method == "finished":
            self._finished(msgspec.json.decode(content, type=Finished))

    def _finished(self, finished: Finished) -> None:
        self.overview.work = None
        self.work_strip.show_work(None)
        if finished.error:
            self.notice.tell(finished.error, trouble=True)
        elif finished.restore is not None:
            result = finished.restore
            counts = f"{result.created:,} created, {result.replaced:,} replaced, {result.identical:,} identical, {result.skipped:,} skipped"
            aside = result.set_aside[0] if result.set_aside else ""
            detail = [counts, f"What was replaced lies in {aside}" if aside else "", *result.problems[:3]]
            self.notice.tell(finished.words, "\n".join(part for part in detail if part), bool(result.problems), aside)
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
                    "The store is open, but its passphrase could not be remembered", f"{fault.message}. {fault.data}.", trouble=True
                )
                self.ask_overview()

        self.link.ask("unlock", {"words": passphrase, "remember": remember}, None, lambda result: self.ask_overview(), wrong)
