"""Shared pieces of painted widgets."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QFont, QFontMetrics, QPainter, QPen, QPixmap

from good_tide.desktop.painting.palette import Palette

NAME_WIDTH = 216
"""Pixels of the column of names, left of the time axis; the same for chart and lifelines."""

RIGHT_MARGIN = 20
"""Pixels right of the time axis, where the scroll bar is."""


def hatch(look: Palette, ground: str, stroke: str) -> QBrush:
    """A hatched fill: for what is out of the ordinary, told without colour too."""
    tile = QPixmap(6, 6)
    tile.fill(look.color(ground))
    painter = QPainter(tile)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(look.color(stroke), 1.4))
    for shift in (-6, 0, 6):
        painter.drawLine(QPointF(shift, 6), QPointF(shift + 6, 0))
    painter.end()
    return QBrush(tile)


def sized(font: QFont, points: float, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """A font in another size and weight."""
    other = QFont(font)
    other.setPointSizeF(points)
    other.setWeight(weight)
    return other


def text(
    painter: QPainter,
    box: QRectF,
    words: str,
    color: QColor,
    align: Qt.AlignmentFlag = Qt.AlignmentFlag.AlignLeft,
) -> None:
    """One line of text in a box, cut with an ellipsis in the middle where it does not fit."""
    metrics = QFontMetrics(painter.font())
    shown = metrics.elidedText(words, Qt.TextElideMode.ElideMiddle, int(box.width()) + 1)
    painter.setPen(color)
    painter.drawText(box, int(align | Qt.AlignmentFlag.AlignVCenter), shown)


def moment_line(painter: QPainter, look: Palette, x: float, height: float) -> None:
    """The chosen moment: a line through everything."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setPen(QPen(look.color("ink"), 1.6))
    painter.drawLine(QPointF(x, 0), QPointF(x, height))
