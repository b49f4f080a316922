"""A file's versions beside each other: when, how large, and how much each changed, so that the big change is
found at a glance."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFont, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from good_tide.core.comparing import Counted
from good_tide.core.translation import tr
from good_tide.core.words import exact_words, local, size_words, time_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import sized, text

_TILE, _HEIGHT = 74, 92
_BAR_TOP, _BAR = 36, 34


class StripVersion(NamedTuple):
    """One version: the snapshot in which it appeared, when that was, its bytes, and what its content goes by;
    ``renamed`` where the file had another name."""

    seq: int
    time: int
    size: int
    identity: bytes
    renamed: str = ""


class VersionsStrip(QWidget):
    """The strip. Left and Right go from version to version; the wheel moves it."""

    chosen = Signal(int)
    """Look at the moment at which a version appeared."""
    wanted = Signal(object)
    """What changed in some versions is to be told: their numbers in the list, from one to before another."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._versions: Sequence[StripVersion] = ()
        self._changes: dict[tuple[bytes, bytes], Counted] = {}
        self._asked: set[tuple[bytes, bytes]] = set()
        self._at, self._left, self._now = -1, 0.0, 0
        self.setFixedHeight(_HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Versions of the file"))

    def show_versions(self, versions: Sequence[StripVersion], at: int, now: int) -> None:
        """Show versions, the one at a number in the list being looked at."""
        others = versions != self._versions
        self._versions, self._now = versions, now
        if others or at != self._at:
            self._at = at
            self._reveal()
        self.setVisible(len(versions) > 1)
        self.setAccessibleDescription(self.words(at) if 0 <= at < len(versions) else "")
        self._ask()
        self.update()

    def take_changes(self, begin: int, changes: Sequence[Counted]) -> None:
        """How much versions changed, the first of them at a number in the list."""
        for number, change in enumerate(changes, begin):
            if 0 < number < len(self._versions):
                self._changes[self._key(number)] = change
        self.setAccessibleDescription(self.words(self._at) if 0 <= self._at < len(self._versions) else "")
        self.update()

    def _key(self, number: int) -> tuple[bytes, bytes]:
        return self._versions[number - 1].identity, self._versions[number].identity

    def _reveal(self) -> None:
        """Move so that the version looked at is seen, with one beside it."""
        left = max(0, self._at - 1) * _TILE
        right = (self._at + 2) * _TILE
        if left < self._left:
            self._left = left
        elif right > self._left + self.width():
            self._left = right - self.width()
        self._keep_inside()

    def _keep_inside(self) -> None:
        self._left = max(0.0, min(self._left, len(self._versions) * _TILE - self.width()))

    def _seen(self) -> range:
        """The numbers of the versions that are seen."""
        begin = int(self._left // _TILE)
        return range(begin, min(len(self._versions), begin + self.width() // _TILE + 2))

    def _ask(self) -> None:
        """Ask for what is seen and not known."""
        missing = [
            number
            for number in self._seen()
            if number and self._key(number) not in self._changes and self._key(number) not in self._asked
        ]
        if missing and self.isVisible():
            self._asked.update(self._key(number) for number in missing)
            self.wanted.emit((missing[0], missing[-1] + 1))

    def showEvent(self, event: object) -> None:  # noqa: N802
        self._ask()

    def resizeEvent(self, event: object) -> None:  # noqa: N802
        self._reveal()
        self._ask()

    def change_words(self, number: int) -> str:
        """How much a version changed: in lines where it has them, else in bytes."""
        if number == 0:
            return "first"
        change = self._changes.get(self._key(number))
        if change is not None and change.lines:
            if not change.added and not change.removed:
                return "±0"
            parts = [f"+{change.added:,}"] if change.added else []
            return " ".join([*parts, f"−{change.removed:,}"] if change.removed else parts)
        by = self._versions[number].size - self._versions[number - 1].size
        if change is None and self._key(number) in self._asked:
            return "…"
        if not by:
            return "changed"
        return f"{'+' if by >= 0 else '−'}{size_words(abs(by))}"

    def words(self, number: int) -> str:
        """A version in words."""
        one = self._versions[number]
        renamed = ", " + tr("then called {renamed}").format(renamed=one.renamed) if one.renamed else ""
        what = self.change_words(number)
        unit = " " + tr("lines") if what[:1] in "+−±" and "B" not in what else ""
        return tr("Version {number} of {versions}, {exact_words}, {size}, {what}{unit}{renamed}").format(
            number=number + 1,
            versions=len(self._versions),
            exact_words=exact_words(one.time),
            size=size_words(one.size),
            what=what,
            unit=unit,
            renamed=renamed,
        )

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        most = max((self._amount(number) for number in self._seen()), default=1.0)
        for number in self._seen():
            self._paint_tile(painter, number, number * _TILE - self._left, max(most, 1.0))
        if self.hasFocus():
            painter.setPen(QPen(self._look.color("dusk"), 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 6, 6)

    def _amount(self, number: int) -> float:
        """How much a version changed, for comparing it with the others that are seen."""
        up, down = self._amounts(number)
        return max(up, down)

    def _amounts(self, number: int) -> tuple[float, float]:
        if number == 0:
            return 0.0, 0.0
        change = self._changes.get(self._key(number))
        if change is None:
            return 0.0, 0.0
        if change.lines:
            return math.sqrt(change.added), math.sqrt(change.removed)
        by = self._versions[number].size - self._versions[number - 1].size
        return math.sqrt(max(0, by) / 64), math.sqrt(max(0, -by) / 64)

    def _paint_tile(self, painter: QPainter, number: int, left: float, most: float) -> None:
        look, one = self._look, self._versions[number]
        box = QRectF(left + 2, 2, _TILE - 4, _HEIGHT - 4)
        looked_at = number == self._at
        painter.setPen(QPen(look.color("kelp" if looked_at else "line"), 2 if looked_at else 1))
        painter.setBrush(look.color("kelp_soft" if looked_at else "paper"))
        painter.drawRoundedRect(box, 5, 5)
        middle = Qt.AlignmentFlag.AlignHCenter
        when = local(one.time)
        painter.setFont(sized(self.font(), 8.5, QFont.Weight.DemiBold))
        same_year = when.year == local(self._now).year
        day = f"{when:%a} {when.day} {when:%b}" if same_year else f"{when.day} {when:%b %Y}"
        text(painter, QRectF(box.left(), 4, box.width(), 15), day, look.color("ink"), middle)
        painter.setFont(sized(self.font(), 8.5))
        text(
            painter,
            QRectF(box.left(), 18, box.width(), 15),
            f"{when:%H:%M}",
            look.color("quiet_text"),
            middle,
        )
        self._paint_bars(painter, number, box, most)
        line = QRectF(box.left() + 2, _HEIGHT - 21, box.width() - 4, 16)
        text(painter, line, self.change_words(number), look.color("ink"), middle)

    def _paint_bars(self, painter: QPainter, number: int, box: QRectF, most: float) -> None:
        """Up what came, down what went; the line between is the version before."""
        look = self._look
        zero = _BAR_TOP + _BAR / 2
        painter.setPen(QPen(look.color("shoal"), 1))
        painter.drawLine(QPointF(box.left() + 14, zero), QPointF(box.right() - 14, zero))
        up, down = self._amounts(number)
        painter.setPen(Qt.PenStyle.NoPen)
        wide, middle = 22.0, box.center().x()
        for amount, colour, sign in ((up, "kelp", -1), (down, "coral", 1)):
            if amount:
                height = max(2.0, (_BAR / 2 - 1) * amount / most)
                top = zero - height if sign < 0 else zero
                painter.setBrush(look.color(colour))
                painter.drawRect(QRectF(middle - wide / 2, top, wide, height))

    def _number_at(self, x: float) -> int | None:
        number = int((x + self._left) // _TILE)
        return number if 0 <= number < len(self._versions) else None

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        number = self._number_at(event.position().x())
        if number is not None:
            self.chosen.emit(self._versions[number].seq)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        number = self._number_at(event.position().x())
        if number is not None:
            seen = time_words(self._versions[number].time, self._now)
            words = tr("{words}\nFirst seen {seen}").format(words=self.words(number), seen=seen)
            QToolTip.showText(event.globalPosition().toPoint(), words, self)

    def wheelEvent(self, event: QWheelEvent) -> None:  # noqa: N802
        turned = event.angleDelta()
        by = turned.x() if abs(turned.x()) > abs(turned.y()) else turned.y()
        self._left -= by / 120 * _TILE
        self._keep_inside()
        self._ask()
        self.update()
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        number = self._at + steps.get(Qt.Key(event.key()), 0)
        if event.key() == Qt.Key.Key_Home:
            number = 0
        elif event.key() == Qt.Key.Key_End:
            number = len(self._versions) - 1
        if number != self._at and 0 <= number < len(self._versions):
            self.chosen.emit(self._versions[number].seq)
        else:
            super().keyPressEvent(event)
