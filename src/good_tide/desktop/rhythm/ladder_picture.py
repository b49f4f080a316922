"""The ladder as a picture: the job's snapshots by age, kept ones solid, released ones hollow; rungs end where
one drags them to."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import datetime
from zoneinfo import ZoneInfo

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from good_tide.core.clock import SECOND
from good_tide.core.ladder import Ladder, Rung, Step, reach_back, reach_words
from good_tide.core.translation import tr
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import hatch, sized, text

_DAY = 86400.0
_FIRST, _LAST = _DAY / 24, 12 * 365.25 * _DAY
"""Ages at the left and right end of the axis, in seconds. The axis is logarithmic: a day is as wide near now
as a year is far away."""
_STOPS = (
    "6h",
    "12h",
    "1d",
    "2d",
    "3d",
    "5d",
    "7d",
    "10d",
    "14d",
    "21d",
    "30d",
    "45d",
    "60d",
    "3mo",
    "4mo",
    "6mo",
    "9mo",
    "12mo",
    "18mo",
    "2y",
    "3y",
    "4y",
    "5y",
    "7y",
    "10y",
)
"""Where the end of a rung may be dragged to."""
_MARKS = (
    (tr("1 hour"), _DAY / 24),
    (tr("1 day"), _DAY),
    (tr("1 week"), 7 * _DAY),
    (tr("1 month"), 30.4 * _DAY),
    (tr("1 year"), 365.25 * _DAY),
    (tr("5 years"), 5 * 365.25 * _DAY),
)
_STEP_WORDS = {
    Step.EVERY: tr("every one"),
    Step.HOUR: tr("one an hour"),
    Step.DAY: tr("one a day"),
    Step.WEEK: tr("one a week"),
    Step.MONTH: tr("one a month"),
    Step.QUARTER: tr("one a quarter"),
    Step.YEAR: tr("one a year"),
}
_MARGIN, _TOP, _ROW, _FOOT = 14.0, 26.0, 74.0, 22.0


def age_of(reach: str) -> float:
    """About how many seconds a reach goes back."""
    now = datetime(2026, 7, 15, tzinfo=ZoneInfo("UTC"))
    return (now - reach_back(reach, now)).total_seconds()


def _align(x: float) -> Qt.AlignmentFlag:
    """Labels stand in the middle of their mark, but at the left end beside it."""
    return Qt.AlignmentFlag.AlignHCenter if x >= 40 else Qt.AlignmentFlag.AlignLeft


class LadderPicture(QWidget):
    """Shows a ladder over snapshots, and lets the ends of its rungs be dragged.

    :ivar changed: a rung was dragged.
    """

    changed = Signal()

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self.ladder = Ladder()
        self.times: list[int] = []
        self.stays: tuple[bool, ...] = ()
        self._pinned: frozenset[int] = frozenset()
        self._now, self._zone = 0, "UTC"
        self._drag: int | None = None
        self._at = 0
        self.setFixedHeight(int(_TOP + _ROW + _FOOT))
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Snapshots by age, and what the ladder keeps of them"))

    def show_history(self, times: Sequence[int], pinned: frozenset[int], now: int, zone: str) -> None:
        """Show snapshots as they are, or will be, at a moment; ``pinned`` are positions."""
        self.times, self._pinned, self._now, self._zone = list(times), pinned, now, zone
        self._work_out()

    def show_ladder(self, ladder: Ladder) -> None:
        """Show what another ladder keeps."""
        self.ladder = ladder
        self._work_out()

    def _work_out(self) -> None:
        from good_tide.core.ladder_keeping import keeps  # loads NumPy; not before it is seen

        self.stays = keeps(self.ladder, self.times, self._now, self._zone, self._pinned).stays
        self.update()

    def _x(self, age: float) -> float:
        part = math.log(max(age, _FIRST) / _FIRST) / math.log(_LAST / _FIRST)
        return _MARGIN + min(1.0, part) * (self.width() - 2 * _MARGIN)

    def _age(self, x: float) -> float:
        part = min(1.0, max(0.0, (x - _MARGIN) / (self.width() - 2 * _MARGIN)))
        return _FIRST * math.exp(part * math.log(_LAST / _FIRST))

    def _ends(self) -> list[float]:
        """Where the rungs end, in pixels; the right end for those that last for ever."""
        return [
            self._x(age_of(rung.reach)) if rung.reach else self.width() - _MARGIN
            for rung in self.ladder.rungs
        ]

    def _near(self, x: float) -> int | None:
        """The rung whose end is at a point, if one is."""
        found = [
            (abs(end - x), number)
            for number, (end, rung) in enumerate(zip(self._ends(), self.ladder.rungs))
            if rung.reach
        ]
        best = min(found, default=None)
        return best[1] if best is not None and best[0] < 8 else None

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._drag = self._near(event.position().x())
        if self._drag is not None:
            self._at = self._drag
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._drag is None:
            self.setCursor(
                Qt.CursorShape.SplitHCursor
                if self._near(event.position().x()) is not None
                else Qt.CursorShape.ArrowCursor
            )
            return
        age = self._age(event.position().x())
        self.drag_to(self._drag, min(_STOPS, key=lambda stop: abs(math.log(age_of(stop) / age))))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._drag = None

    def drag_to(self, number: int, reach: str) -> None:
        """Let a rung end elsewhere, between the ends of its neighbours."""
        rungs = list(self.ladder.rungs)
        before = age_of(rungs[number - 1].reach) if number else 0.0
        after = (
            age_of(rungs[number + 1].reach)
            if number + 1 < len(rungs) and rungs[number + 1].reach
            else math.inf
        )
        if before < age_of(reach) < after and rungs[number].reach != reach:
            rungs[number] = Rung(rungs[number].step, reach)
            self.show_ladder(Ladder(tuple(rungs)))
            self.changed.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        movable = [number for number, rung in enumerate(self.ladder.rungs) if rung.reach]
        key = Qt.Key(event.key())
        if not movable or key not in (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down):
            super().keyPressEvent(event)
            return
        self._at = self._at if self._at in movable else movable[0]
        if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._at = movable[
                (movable.index(self._at) + (1 if key is Qt.Key.Key_Down else -1)) % len(movable)
            ]
            self.update()
            return
        age = age_of(self.ladder.rungs[self._at].reach)
        further = [
            stop
            for stop in _STOPS
            if (age_of(stop) > age * 1.01 if key is Qt.Key.Key_Right else age_of(stop) < age / 1.01)
        ]
        if further:
            self.drag_to(self._at, further[0] if key is Qt.Key.Key_Right else further[-1])

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        look, painter = self._look, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(sized(self.font(), 9))
        self._paint_rungs(painter)
        self._paint_snapshots(painter)
        for words, age in _MARKS:
            x = self._x(age)
            painter.setPen(QPen(look.color("line"), 1))
            painter.drawLine(QPointF(x, _TOP + _ROW), QPointF(x, _TOP + _ROW + 4))
            text(
                painter,
                QRectF(max(0.0, x - 40), _TOP + _ROW + 3, 80, 18),
                words,
                look.color("quiet_text"),
                _align(x),
            )

    def _paint_rungs(self, painter: QPainter) -> None:
        look, begin = self._look, _MARGIN
        rungs = self.ladder.rungs or (Rung(Step.EVERY),)
        ends = self._ends() or [self.width() - _MARGIN]
        for number, (rung, end) in enumerate(zip(rungs, ends, strict=True)):
            box = QRectF(begin, _TOP, end - begin, _ROW)
            painter.fillRect(box, look.color("band") if number % 2 else look.color("kelp_soft"))
            words = _STEP_WORDS[rung.step] + (
                ", " + tr("up to {reach_words}").format(reach_words=reach_words(rung.reach))
                if rung.reach
                else ", " + tr("for ever")
            )
            text(painter, QRectF(begin + 4, 4, max(10.0, end - begin - 8), 18), words, look.color("ink"))
            begin = end
        if self.ladder.rungs and self.ladder.rungs[-1].reach:
            painter.fillRect(
                QRectF(begin, _TOP, self.width() - _MARGIN - begin, _ROW), hatch(look, "paper", "line")
            )
            text(
                painter,
                QRectF(begin + 4, 4, self.width() - begin - 8, 18),
                "nothing",
                look.color("quiet_text"),
            )
        for number, (rung, end) in enumerate(zip(self.ladder.rungs, self._ends(), strict=True)):
            if rung.reach:
                at = self.hasFocus() and number == self._at
                painter.setPen(QPen(look.color("dusk" if at else "kelp"), 3 if at else 2))
                painter.drawLine(QPointF(end, _TOP - 4), QPointF(end, _TOP + _ROW))
                painter.setBrush(look.color("dusk" if at else "kelp"))
                painter.drawEllipse(QPointF(end, _TOP - 4), 4, 4)

    def _paint_snapshots(self, painter: QPainter) -> None:
        """Released ones above, hollow; kept ones below, solid, the pinned ones as squares. What falls on the
        same pixel is drawn once."""
        look, drawn = self._look, set()
        for number in range(len(self.times) - 1, -1, -1):
            x = self._x((self._now - self.times[number]) / SECOND)
            kind = 2 if number in self._pinned else 1 if self.stays[number] else 0
            if (int(x / 2), kind) in drawn:
                continue
            drawn.add((int(x / 2), kind))
            y = _TOP + _ROW * (0.3 if kind == 0 else 0.7)
            if kind == 0:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(look.color("coral"), 1.2))
                painter.drawEllipse(QPointF(x, y), 3.5, 3.5)
            else:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(look.color("kelp"))
                if kind == 2:
                    painter.drawRect(QRectF(x - 4, y - 4, 8, 8))
                else:
                    painter.drawEllipse(QPointF(x, y), 3.8, 3.8)
