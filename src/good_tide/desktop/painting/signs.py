"""The sign of a state: a shape that tells it without colour. Disc: well. Ring: working. Half a disc: the disk
is away. Two bars: paused or waiting. Triangle: needs a look. Square: harm."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QWidget

from good_tide.core.status import Mood

_COLORS = {
    Mood.WELL: "#7FD0C0",
    Mood.WORKING: "#7FD0C0",
    Mood.APART: "#B9C8E8",
    Mood.PAUSED: "#B9C8E8",
    Mood.ATTENTION: "#E6C27E",
    Mood.HARM: "#F0846F",
}
"""For a dark ground; the panel's icon has its own."""


def paint_sign(painter: QPainter, box: QRectF, mood: Mood) -> None:
    """Paint the sign of a state into a square."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    color, unit = QColor(_COLORS[mood]), box.width() / 12
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(color)
    if mood is Mood.WELL:
        painter.drawEllipse(box)
    elif mood is Mood.WORKING:
        painter.setPen(QPen(color, 2.5 * unit))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(box.adjusted(unit, unit, -unit, -unit))
    elif mood is Mood.APART:
        painter.drawPie(box, 90 * 16, 180 * 16)
        painter.setPen(QPen(color, 1.3 * unit))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawArc(box.adjusted(unit, unit, -unit, -unit), -90 * 16, 180 * 16)
    elif mood is Mood.PAUSED:
        for left in (1.5, 7.0):
            painter.drawRoundedRect(
                QRectF(box.left() + left * unit, box.top() + unit, 3.5 * unit, 10 * unit), unit, unit
            )
    elif mood is Mood.ATTENTION:
        painter.drawPolygon(
            QPolygonF(
                [
                    QPointF(box.center().x(), box.top() - unit),
                    QPointF(box.right() + unit, box.bottom()),
                    QPointF(box.left() - unit, box.bottom()),
                ]
            )
        )
    else:
        painter.drawRect(box)


class Sign(QWidget):
    """The shape beside the status sentence."""

    def __init__(self) -> None:
        super().__init__()
        self.mood = Mood.ATTENTION
        self.setFixedSize(18, 18)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        paint_sign(painter, QRectF(3, 3, 12, 12), self.mood)


def panel_icon(mood: Mood, size: int = 64) -> QIcon:
    """The icon in the desktop's panel: the sign on the program's dark ground, to be told apart on light and
    dark panels."""
    pixmap = QPixmap(QSize(size, size))
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor("#12303A"))
    painter.drawRoundedRect(QRectF(0, 0, size, size), size * 0.22, size * 0.22)
    paint_sign(painter, QRectF(size * 0.24, size * 0.24, size * 0.52, size * 0.52), mood)
    painter.end()
    return QIcon(pixmap)
