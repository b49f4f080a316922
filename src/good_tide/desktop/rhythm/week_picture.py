"""The week as a picture: hours in which the job may run by itself, opened and closed by dragging; and when
snapshots were taken."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Sequence
from typing import NamedTuple

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from good_tide.core.clock import SECOND
from good_tide.core.hours import Hours
from good_tide.core.tide import NO_TIDE, Tide
from good_tide.core.translation import tr
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import hatch, sized, text

DAYS = (
    tr("Monday"),
    tr("Tuesday"),
    tr("Wednesday"),
    tr("Thursday"),
    tr("Friday"),
    tr("Saturday"),
    tr("Sunday"),
)
_LEFT, _TOP, _GAP = 92.0, 24.0, 1.5
Cell = tuple[int, int]
"""Day of the week from Monday, 0, and hour."""


class _Past(NamedTuple):
    """How many snapshots were taken in each hour of the week, and in how many weeks."""

    counts: Counter[Cell]
    weeks: int

    @classmethod
    def of(cls, tide: Tide) -> _Past:
        counts: Counter[Cell] = Counter()
        mondays = set()
        for moment in tide.time:
            seconds = moment // SECOND
            when = time.localtime(seconds)  # a third of the time that a ``datetime`` takes
            counts[when.tm_wday, when.tm_hour] += 1
            mondays.add((seconds + when.tm_gmtoff) // 86400 - when.tm_wday)
        return cls(counts, max(1, len(mondays)))


class WeekPicture(QWidget):
    """Seven rows of 24 hours. Dragging from an open hour closes what it crosses, from a closed one opens it;
    with the keyboard the arrows move a frame and the space bar turns the hour in it. A click on a day's name
    turns the whole day.

    :ivar changed: the hours were changed by hand.
    """

    changed = Signal()

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._open: set[Cell] = {(day, hour) for day in range(7) for hour in range(24)}
        self._parts: dict[Cell, float] = {}
        self._tide = NO_TIDE
        self._past: _Past | None = None
        """Counted when it is first to be seen: of a long history that takes a while."""
        self._drag: tuple[Cell, bool, frozenset[Cell]] | None = None
        self._at: Cell = (0, 8)
        self.setMinimumHeight(226)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.setAccessibleName(tr("Hours of the week in which snapshots are taken by themselves"))

    def show_hours(self, allowed: Sequence[str]) -> None:
        """Show the hours of a rhythm; none means all."""
        hours = Hours.of(allowed)
        cells = [(day, hour) for day in range(7) for hour in range(24)]
        self._parts = {cell: hours.part_of_cell(*cell) for cell in cells}
        self._open = {cell for cell in cells if self._parts[cell] > 0}
        self.update()

    def hours(self) -> tuple[str, ...]:
        """The hours as a rhythm has them; empty for all."""
        return Hours.of_cells(self._open).texts()

    @property
    def nothing_open(self) -> bool:
        """Whether every hour is closed."""
        return not self._open

    def show_tide(self, tide: Tide) -> None:
        """Show how many past snapshots there were in each hour of the week."""
        self._tide, self._past = tide, None
        self.update()

    @property
    def past(self) -> _Past:
        """The past snapshots by weekday and hour."""
        if self._past is None:
            self._past = _Past.of(self._tide)
        return self._past

    def set_cells(self, cells: set[Cell]) -> None:
        """Open exactly these hours."""
        self._open, self._parts = set(cells), {}
        self.update()
        self.changed.emit()

    def _box(self, day: int, hour: int) -> QRectF:
        wide, high = (self.width() - _LEFT) / 24, (self.height() - _TOP) / 7
        return QRectF(_LEFT + hour * wide + _GAP, _TOP + day * high + _GAP, wide - 2 * _GAP, high - 2 * _GAP)

    def cell_at(self, point: QPointF) -> Cell:
        """The cell nearest to a point."""
        wide, high = (self.width() - _LEFT) / 24, (self.height() - _TOP) / 7
        return min(6, max(0, int((point.y() - _TOP) / high))), min(
            23, max(0, int((point.x() - _LEFT) / wide))
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if event.button() is not Qt.MouseButton.LeftButton:
            return
        cell = self.cell_at(event.position())
        if event.position().x() < _LEFT and event.position().y() > _TOP:
            day = {(cell[0], hour) for hour in range(24)}
            self.set_cells(self._open - day if day <= self._open else self._open | day)
            return
        self._at = cell
        self._drag = cell, cell not in self._open, frozenset(self._open)
        self._stretch(cell)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        cell = self.cell_at(event.position())
        if self._drag is not None:
            self._stretch(cell)
        elif event.position().x() >= _LEFT and event.position().y() >= _TOP:
            QToolTip.showText(event.globalPosition().toPoint(), self._words(cell), self)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._drag is not None:
            self._drag = None
            self.changed.emit()

    def _stretch(self, cell: Cell) -> None:
        """Open or close everything between where the drag began and a cell."""
        assert self._drag is not None
        (day, hour), opens, before = self._drag
        days, hours = sorted((day, cell[0])), sorted((hour, cell[1]))
        crossed = {
            (one, other) for one in range(days[0], days[1] + 1) for other in range(hours[0], hours[1] + 1)
        }
        self._open, self._parts, self._at = set(before | crossed if opens else before - crossed), {}, cell
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        moves = {
            Qt.Key.Key_Left: (0, -1),
            Qt.Key.Key_Right: (0, 1),
            Qt.Key.Key_Up: (-1, 0),
            Qt.Key.Key_Down: (1, 0),
        }
        key = Qt.Key(event.key())
        if key in moves:
            self._at = (self._at[0] + moves[key][0]) % 7, (self._at[1] + moves[key][1]) % 24
            self.update()
        elif key is Qt.Key.Key_Space:
            self.set_cells(self._open ^ {self._at})
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:  # noqa: N802
        self.update()
        super().focusInEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:  # noqa: N802
        self.update()
        super().focusOutEvent(event)

    def _words(self, cell: Cell) -> str:
        state = tr("snapshots are taken") if cell in self._open else tr("nothing runs by itself")
        counts, weeks = self.past
        past = (
            "; " + tr("in {count} of {weeks} weeks there was one").format(count=counts[cell], weeks=weeks)
            if counts
            else ""
        )
        return tr("{DAYS}, {cell:02}:00 to {cell_2:02}:00: {state}{past}").format(
            DAYS=DAYS[cell[0]], cell=cell[1], cell_2=cell[1] + 1, state=state, past=past
        )

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        look, painter = self._look, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(sized(self.font(), 9))
        closed = hatch(look, "paper", "line")
        for hour in range(0, 24, 3):
            text(
                painter,
                QRectF(self._box(0, hour).left(), 0, 60, 20),
                f"{hour:02}:00",
                look.color("quiet_text"),
            )
        for day, name in enumerate(DAYS):
            text(
                painter,
                QRectF(0, self._box(day, 0).top(), _LEFT - 8, self._box(day, 0).height()),
                name,
                look.color("ink"),
            )
            for hour in range(24):
                box, part = self._box(day, hour), self._parts.get((day, hour), 1.0)
                painter.setPen(QPen(look.color("line"), 1))
                painter.setBrush(closed)
                if (day, hour) not in self._open or part < 1:
                    painter.drawRoundedRect(box, 3, 3)
                if (day, hour) in self._open:
                    painter.setPen(Qt.PenStyle.NoPen)
                    painter.setBrush(look.color("shoal"))
                    painter.drawRoundedRect(
                        QRectF(box.left(), box.top(), box.width() * part, box.height()), 3, 3
                    )
                self._paint_past(painter, box, self.past.counts[day, hour])
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(look.color("dusk"), 2))
            painter.drawRoundedRect(self._box(*self._at).adjusted(-1, -1, 1, 1), 4, 4)

    def _paint_past(self, painter: QPainter, box: QRectF, count: int) -> None:
        """A disc for the snapshots of that hour: the larger, the more of the past weeks had one."""
        if count:
            size = min(box.width(), box.height()) * (0.18 + 0.34 * min(1.0, count / self.past.weeks))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self._look.color("kelp"))
            painter.drawEllipse(box.center(), size / 2, size / 2)
