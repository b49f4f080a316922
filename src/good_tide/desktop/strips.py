"""What lies above every place: the sign beside the status sentence, what the agent is doing, and what has just been done."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFrame, QHBoxLayout, QProgressBar, QToolButton, QVBoxLayout, QWidget

from good_tide.core.status import Mood, work_words
from good_tide.core.words import duration_words, size_words
from good_tide.desktop.icons import icon
from good_tide.desktop.link import AgentLink
from good_tide.desktop.palette import Palette
from good_tide.desktop.widgets import button, label, line
from good_tide.protocol.messages import Work


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
        self._words.setText(work_words(work.what, work.paused))
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
