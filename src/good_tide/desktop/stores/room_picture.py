"""The room on a disk: this store, other things, free room, and what each week added."""

from __future__ import annotations

import math

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QFont, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from good_tide.core.translation import tr
from good_tide.core.words import local, size_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import hatch, sized, text
from good_tide.desktop.painting.time_axis import day_words
from good_tide.protocol.agent_calls import StoreView

_BAR = 26
_LABEL = 62.0
"""Pixels that the day below a week takes."""


class RoomPicture(QWidget):
    """A disk: this store, other things, free room; below it, what each week of snapshots added, where that is
    known."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._view: StoreView | None = None
        self.setAccessibleName(tr("Room on the disk"))

    def show_store(self, view: StoreView) -> None:
        """Show a store's room."""
        self._view = view
        self.setFixedHeight(250 if view.by_age else 58)
        self.setAccessibleDescription(
            tr("{stored} stored, {disk_free} free of {disk_total}").format(
                stored=size_words(view.stored),
                disk_free=size_words(view.disk_free),
                disk_total=size_words(view.disk_total),
            )
        )
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        view = self._view
        if view is None or not view.disk_total:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_disk(painter, view)
        if view.by_age:
            self._paint_weeks(painter, view)

    def _paint_disk(self, painter: QPainter, view: StoreView) -> None:
        look = self._look
        width = float(self.width())
        other = max(0, view.disk_total - view.disk_free - view.stored)
        parts = [
            (view.stored, look.color("kelp"), tr("this store")),
            (other, hatch(look, "paper", "shoal_deep"), tr("other things")),
            (view.disk_free, look.color("kelp_soft"), "free"),
        ]
        left = 0.0
        painter.setFont(sized(self.font(), 9))
        for number, (size, fill, words) in enumerate(parts):
            wide = max(4.0, width * size / view.disk_total) if size else 0.0
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(fill)
            painter.drawRect(QRectF(left, 0, min(wide, width - left), _BAR))
            key = QRectF(number * 200, _BAR + 10, 12, 12)
            painter.drawRect(key)
            painter.setPen(QPen(look.color("line"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(key)
            text(
                painter,
                QRectF(number * 200 + 18, _BAR + 6, 178, 20),
                f"{size_words(size)} {words}",
                look.color("ink"),
            )
            left += wide
        painter.setPen(QPen(look.color("shoal_deep"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(0.5, 0.5, width - 1, _BAR - 1))

    def _paint_weeks(self, painter: QPainter, view: StoreView) -> None:
        look = self._look
        top, base = 96.0, float(self.height() - 24)
        painter.setFont(sized(self.font(), 10, QFont.Weight.DemiBold))
        text(
            painter,
            QRectF(0, 66, self.width(), 20),
            tr("Room taken by each week's snapshots"),
            look.color("ink"),
        )
        painter.setFont(sized(self.font(), 9))
        peak = max(size for _, size in view.by_age) or 1
        wide = min(90.0, self.width() / len(view.by_age))
        gap, each = min(3.0, wide / 6), math.ceil(_LABEL / wide)
        for number, (begin, size) in enumerate(view.by_age):
            height = (base - top - 18) * size / peak
            box = QRectF(number * wide + gap, base - height, max(1.0, wide - 2 * gap), height)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(look.color("shoal_deep" if number % 2 else "shoal"))
            painter.drawRoundedRect(box, 3, 3)
            if wide > 50:
                text(
                    painter, QRectF(box.left(), box.top() - 18, wide, 16), size_words(size), look.color("ink")
                )
            if number % each == 0 and box.left() + _LABEL <= self.width():
                text(
                    painter,
                    QRectF(box.left(), base + 4, _LABEL, 18),
                    day_words(local(max(begin, 0)), 7 * len(view.by_age)),
                    look.color("quiet_text"),
                )
        painter.setPen(QPen(look.color("line"), 1))
        painter.drawLine(0, int(base), self.width(), int(base))
