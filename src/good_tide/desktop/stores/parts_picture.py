"""What takes the room of a store, part by part: solid what only this part needs, hatched what others need
too."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from good_tide.core.parts import Taking
from good_tide.core.translation import tr
from good_tide.core.words import size_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import hatch, sized, text

_ROW, _HEAD, _NAME, _NUMBERS = 26, 24, 190.0, 168.0


class PartsPicture(QWidget):
    """A row for each part, the largest first.

    :ivar picked: a part was clicked; its name.
    """

    picked = Signal(str)

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self.parts: Sequence[Taking] = ()
        self._titles: Callable[[str], str] = str
        self.at = -1
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setObjectName("clear")
        self.setAccessibleName(tr("What takes the room"))

    def show_parts(self, parts: Sequence[Taking], titles: Callable[[str], str] = str) -> None:
        """Show parts; ``titles`` makes what is shown of their names."""
        self.parts, self._titles, self.at = parts, titles, -1
        self.setFixedHeight(_HEAD + _ROW * max(1, len(parts)))
        self.setAccessibleDescription(
            "; ".join(
                tr("{name}: {only_here} only here").format(name=one.name, only_here=size_words(one.only_here))
                for one in parts[:5]
            )
        )
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        number = int((event.position().y() - _HEAD) // _ROW)
        if 0 <= number < len(self.parts):
            self._pick(number)

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        step = {Qt.Key.Key_Up.value: -1, Qt.Key.Key_Down.value: 1}.get(event.key())
        if step is None or not self.parts:
            super().keyPressEvent(event)
        else:
            self._pick(max(0, min(len(self.parts) - 1, self.at + step)))

    def _pick(self, number: int) -> None:
        self.at = number
        self.update()
        self.picked.emit(self.parts[number].name)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        look, painter = self._look, QPainter(self)
        painter.setFont(sized(self.font(), 9))
        width = self.width() - _NAME - _NUMBERS - 16
        right = self.width() - _NUMBERS
        quiet, end = look.color("quiet_text"), Qt.AlignmentFlag.AlignRight
        text(painter, QRectF(right, 0, 78, 20), tr("only here"), quiet, end)
        text(painter, QRectF(right + 84, 0, 78, 20), "shared", quiet, end)
        most = max((one.only_here + one.shared for one in self.parts), default=0) or 1
        shared = hatch(look, "paper", "shoal_deep")
        for number, one in enumerate(self.parts):
            top = _HEAD + number * _ROW
            if number == self.at:
                painter.fillRect(QRectF(0, top, self.width(), _ROW), look.color("kelp_soft"))
            text(painter, QRectF(6, top, _NAME - 12, _ROW), self._titles(one.name), look.color("ink"))
            alone = width * one.only_here / most
            painter.fillRect(
                QRectF(_NAME, top + 7, max(alone, 1.5 if one.only_here else 0.0), _ROW - 14),
                look.color("kelp"),
            )
            painter.fillRect(QRectF(_NAME + alone, top + 7, width * one.shared / most, _ROW - 14), shared)
            painter.setPen(QPen(look.color("line"), 1))
            text(painter, QRectF(right, top, 78, _ROW), size_words(one.only_here), look.color("ink"), end)
            text(painter, QRectF(right + 84, top, 78, _ROW), size_words(one.shared), quiet, end)
