"""Signs and lists for what was found good, doubtful or bad: told by shape and words, not by colour alone."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from good_tide.core.places import Check, Level, worst
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import label

_COLORS = {Level.GOOD: "kelp", Level.DOUBTFUL: "sand", Level.BAD: "coral"}


class LevelSign(QWidget):
    """A disc (good), a triangle (doubtful) or a square (bad)."""

    def __init__(self, look: Palette, level: Level = Level.GOOD) -> None:
        super().__init__()
        self._look = look
        self.level = level
        self.setFixedSize(16, 18)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(self._look.color(_COLORS[self.level]), 1.6))
        painter.setBrush(self._look.color(_COLORS[self.level], 255 if self.level is Level.BAD else 70))
        if self.level is Level.GOOD:
            painter.drawEllipse(QRectF(3, 4, 9, 9))
        elif self.level is Level.DOUBTFUL:
            painter.drawPolygon(QPolygonF([QPointF(7.5, 3.5), QPointF(13.5, 14), QPointF(1.5, 14)]))
        else:
            painter.drawRect(QRectF(3, 4, 9, 9))


class CheckList(QWidget):
    """Checks with their reasons and ways out, one below the other."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(5)
        self.checks: tuple[Check, ...] = ()

    def show_checks(self, checks: Sequence[Check]) -> None:
        """Show other checks."""
        self.checks = tuple(checks)
        while self._column.count():
            item = self._column.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        for check in checks:
            row = QWidget()
            line = QHBoxLayout(row)
            line.setContentsMargins(0, 0, 0, 0)
            line.setSpacing(6)
            sign = LevelSign(self._look, check.level)
            line.addWidget(sign, 0, Qt.AlignmentFlag.AlignTop)
            words = (
                check.what
                if check.level is Level.GOOD or not check.way_out
                else f"{check.what}. {check.way_out}."
            )
            text = label(words, "small", wrap=True)
            text.setAccessibleName(f"{check.level.value}: {check.what}")
            line.addWidget(text, 1)
            self._column.addWidget(row)

    @property
    def level(self) -> Level:
        """The worst of them."""
        return worst(list(self.checks))
