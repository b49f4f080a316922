"""The packs of a store as a field: each a stone, those that are known longest first, as large as what they
hold; how long ago each was read back, and which were mended or have lost something."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QToolTip, QWidget

from good_tide.core.clock import SECOND
from good_tide.core.pack_states import PackState, PackView
from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words, time_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import hatch, sized, text

_GAP, _LARGEST, _SMALLEST = 3.0, 26.0, 7.0
_FRESH_DAYS, _STALE_DAYS = 31, 93
_DAY = 86400
STATE_WORDS = {
    PackState.UNREAD: tr("not read back yet"),
    PackState.WHOLE: "whole",
    PackState.MENDED: tr("was damaged, and put right"),
    PackState.DAMAGED: tr("damaged; nothing needs what it lost"),
    PackState.LOST: tr("has lost something that snapshots need"),
}
_LEGEND = (
    (PackState.WHOLE, tr("read back, whole")),
    (PackState.UNREAD, tr("not read back yet")),
    (PackState.MENDED, tr("put right")),
    (PackState.DAMAGED, tr("damaged, nothing needs it")),
    (PackState.LOST, tr("has lost something")),
)
_FOOT = 26.0


class PacksPicture(QWidget):
    """A field of packs. Clicking one, or walking to it by the arrow keys, picks it.

    :ivar picked: another pack is picked (``PackView``).
    """

    picked = Signal(object)

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self.packs: Sequence[PackView] = ()
        self._boxes: list[QRectF] = []
        self._now, self.at = 0, -1
        self.setMinimumHeight(150)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Packs of this store, and when each was read back"))

    def show_packs(self, packs: Sequence[PackView], now: int) -> None:
        """Show packs, those that are known longest first."""
        self.packs, self._now = packs, now
        self.at = min(self.at, len(packs) - 1)
        counts = {state: sum(one.state is state for one in packs) for state in PackState}
        told = [f"{count:,} {STATE_WORDS[state]}" for state, count in counts.items() if count]
        self.setAccessibleDescription(f"{count_words(len(packs), 'pack')}: {', '.join(told)}")
        self._place()
        self.update()

    def _place(self) -> None:
        """Put the stones in rows, each in a cell of the same size, so that rows can be read."""
        self._boxes = []
        if not self.packs:
            return
        width, height = max(1.0, float(self.width())), max(1.0, self.height() - _FOOT)
        cell = _LARGEST + _GAP
        while cell > _SMALLEST and int(width / cell) * int(height / cell) < len(self.packs):
            cell -= 1.0
        columns = max(1, int(width / cell))
        largest = max(one.size for one in self.packs) or 1
        for number, one in enumerate(self.packs):
            side = max(4.0, (cell - _GAP) * (0.35 + 0.65 * (one.size / largest) ** 0.25))
            x = (number % columns) * cell + (cell - side) / 2
            y = (number // columns) * cell + (cell - side) / 2
            self._boxes.append(QRectF(x, y, side, side))

    def resizeEvent(self, event: object) -> None:  # noqa: N802
        self._place()

    def words(self, one: PackView) -> str:
        """What a pack is, in words."""
        read = (
            tr("read back {read}").format(read=time_words(one.read * SECOND, self._now))
            if one.read
            else tr("not read back yet")
        )
        since = (
            ", " + tr("known since {since}").format(since=time_words(one.since * SECOND, self._now))
            if one.since
            else ""
        )
        return f"{one.name[:8]}, {size_words(one.size)}: {STATE_WORDS[one.state]}; {read}{since}"

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for one, box in zip(self.packs, self._boxes, strict=True):
            self._stone(painter, one.state, box, self._age(one))
        if 0 <= self.at < len(self._boxes):
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(self._look.color("ink"), 2))
            painter.drawRoundedRect(self._boxes[self.at].adjusted(-2, -2, 2, 2), 4, 4)
        self._legend(painter)

    def _age(self, one: PackView) -> float:
        """How fresh the last reading is: 1 within a month, down to 0.35 after three."""
        days = (self._now / SECOND - one.read) / _DAY
        part = (days - _FRESH_DAYS) / (_STALE_DAYS - _FRESH_DAYS)
        return 1.0 - 0.65 * min(max(part, 0.0), 1.0)

    def _stone(self, painter: QPainter, state: PackState, box: QRectF, fresh: float) -> None:
        """A pack: filled when it was read back, hollow when not; with a corner folded when it was put right;
        a hatched diamond when it is damaged."""
        look = self._look
        painter.setPen(Qt.PenStyle.NoPen)
        if state in (PackState.LOST, PackState.DAMAGED):
            lost = state is PackState.LOST
            painter.setBrush(look.color("coral") if lost else hatch(look, "paper", "coral"))
            painter.setPen(QPen(look.color("coral"), 1.4))
            c = box.center()
            half = box.width() / 2 + 1
            corners = [QPointF(c.x(), c.y() - half), QPointF(c.x() + half, c.y())]
            corners += [QPointF(c.x(), c.y() + half), QPointF(c.x() - half, c.y())]
            painter.drawPolygon(QPolygonF(corners))
            return
        if state is PackState.UNREAD:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(look.color("shoal"), 1.4))
            painter.drawRoundedRect(box.adjusted(0.7, 0.7, -0.7, -0.7), 3, 3)
            return
        painter.setBrush(look.color("kelp", round(255 * fresh)))
        painter.drawRoundedRect(box, 3, 3)
        if state is PackState.MENDED:
            fold = box.width() * 0.5
            painter.setBrush(look.color("sand"))
            corner = [box.topRight(), box.topRight() - QPointF(fold, 0), box.topRight() + QPointF(0, fold)]
            painter.drawPolygon(QPolygonF(corner))

    def _legend(self, painter: QPainter) -> None:
        painter.setFont(sized(self.font(), 9))
        x, y = 2.0, self.height() - _FOOT + 8
        for state, words in _LEGEND:
            self._stone(painter, state, QRectF(x, y + 2, 12, 12), 1.0)
            width = painter.fontMetrics().horizontalAdvance(words) + 6
            text(painter, QRectF(x + 20, y, width, 16), words, self._look.color("ink"))
            x += 20 + width + 18

    def _pick(self, number: int) -> None:
        if 0 <= number < len(self.packs):
            self.at = number
            self.update()
            self.picked.emit(self.packs[number])

    def _under(self, at: QPointF) -> int:
        return next(
            (number for number, box in enumerate(self._boxes) if box.adjusted(-2, -2, 2, 2).contains(at)), -1
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._pick(self._under(event.position()))

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent) and event.type() is QEvent.Type.ToolTip:
            number = self._under(QPointF(event.pos()))
            if number >= 0:
                QToolTip.showText(event.globalPos(), self.words(self.packs[number]), self)
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        columns = sum(box.top() < self._boxes[0].bottom() for box in self._boxes) if self._boxes else 1
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -columns,
            Qt.Key.Key_Down: columns,
        }
        step = steps.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
            return
        self._pick(max(0, self.at) + step if self.at >= 0 else 0)
