"""The room on a disk in the coming half year, at the pace of the past: the middle as a line, the range as a
band, and where it ends."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from good_tide.core.clock import SECOND
from good_tide.core.translation import tr
from good_tide.core.words import local, size_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import sized, text
from good_tide.protocol.store_calls import RoomView

_LEFT, _FOOT, _TOP = 4.0, 20.0, 22.0
_WEEK = 7 * 86400 * SECOND


class ForecastPicture(QWidget):
    """Bytes that will have been added, week by week, against the room that is left."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._view: RoomView | None = None
        self._now = 0
        self.setFixedHeight(120)
        self.setAccessibleName(tr("Room in the coming half year"))

    def show_room(self, view: RoomView, now: int) -> None:
        """Show a forecast."""
        self._view, self._now = view, now
        self.setVisible(view.curve is not None)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        view = self._view
        if view is None or view.curve is None:
            return
        look, painter, curve = self._look, QPainter(self), view.curve
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(sized(self.font(), 9))
        most = (
            max(1, min(view.usable, 3 * curve.high[-1]), curve.high[-1])
            if view.usable < 3 * curve.high[-1]
            else max(1, curve.high[-1])
        )
        weeks, high = len(curve.mid), self.height() - _TOP - _FOOT

        def point(week: int, value: float) -> QPointF:
            part = min(1.0, value / most)
            return QPointF(_LEFT + (self.width() - 2 * _LEFT) * week / weeks, _TOP + high * (1 - part))

        band = [point(0, 0), *(point(week + 1, value) for week, value in enumerate(curve.high))]
        band += [point(week + 1, curve.low[week]) for week in range(weeks - 1, -1, -1)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look.color("shoal", 140))
        painter.drawPolygon(QPolygonF(band))
        painter.setPen(QPen(look.color("kelp"), 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(
            QPolygonF([point(0, 0), *(point(week + 1, value) for week, value in enumerate(curve.mid))])
        )
        if view.usable <= most:
            painter.setPen(QPen(look.color("coral"), 1.6, Qt.PenStyle.DashLine))
            painter.drawLine(point(0, view.usable), point(weeks, view.usable))
            text(
                painter,
                QRectF(_LEFT, 2, 300, 18),
                tr("full: {usable} are left").format(usable=size_words(view.usable)),
                look.color("coral"),
            )
        else:
            text(
                painter,
                QRectF(_LEFT, 2, 400, 18),
                tr("about {mid} more in half a year; {usable} are left").format(
                    mid=size_words(curve.mid[-1]), usable=size_words(view.usable)
                ),
                look.color("quiet_text"),
            )
        painter.setPen(QPen(look.color("line"), 1))
        painter.drawLine(QPointF(_LEFT, _TOP + high), QPointF(self.width() - _LEFT, _TOP + high))
        for week in range(0, weeks, 4):
            when = local(self._now + week * _WEEK)
            text(
                painter,
                QRectF(point(week, 0).x(), self.height() - _FOOT + 2, 70, 18),
                f"{when.day} {when:%b}",
                look.color("quiet_text"),
            )
