"""The snapshots of a store on an axis of time, each as tall as what it holds alone; stretches of time are
chosen by dragging."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QToolTip, QWidget

from good_tide.core.identifiers import SnapshotId
from good_tide.core.translation import tr
from good_tide.core.words import size_words, time_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import sized, text
from good_tide.desktop.painting.time_axis import TimeAxis
from good_tide.protocol.store_calls import HeldSnapshot

_TOP, _FOOT, _MARGIN = 22.0, 38.0, 12.0
_NEAR = 7.0
"""So many pixels beside a snapshot still mean it."""
_ZOOM = 1.25


class HeldPicture(QWidget):
    """Bars on an axis of time. The square root of the bytes is drawn, so that small ones are seen beside
    great ones.

    :ivar chosen_changed: other snapshots are chosen.
    """

    chosen_changed = Signal()

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self.snapshots: Sequence[HeldSnapshot] = ()
        self.chosen: set[SnapshotId] = set()
        self._axis = TimeAxis(0, 1)
        self._now = 0
        self._from: float | None = None
        self._to = 0.0
        self._kept: set[SnapshotId] = set()
        self._at = -1
        self.setFixedHeight(176)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Snapshots of this store, and what each holds alone"))

    def show_snapshots(self, snapshots: Sequence[HeldSnapshot], now: int) -> None:
        """Show snapshots, oldest first. What was chosen and is still there stays chosen."""
        times = [one.time for one in snapshots] or [0, 1]
        if not self.snapshots or times[0] != self.snapshots[0].time or times[-1] != self.snapshots[-1].time:
            self._axis = TimeAxis(times[0], times[-1])
            self._axis.width = max(1.0, self.width() - 2 * _MARGIN)
        self.snapshots, self._now = snapshots, now
        self._at = min(self._at, len(snapshots) - 1)
        self.choose(self.chosen)

    def choose(self, names: Iterable[SnapshotId]) -> None:
        """Choose snapshots by their names."""
        self.chosen = set(names) & {one.id for one in self.snapshots}
        alone = sum(one.alone for one in self.snapshots if one.id in self.chosen)
        self.setAccessibleDescription(
            tr("{chosen} chosen of {snapshots}, holding {alone} one by one").format(
                chosen=len(self.chosen), snapshots=len(self.snapshots), alone=size_words(alone)
            )
        )
        self.update()
        self.chosen_changed.emit()

    def place_of(self, snapshot: HeldSnapshot) -> float:
        """Where a snapshot stands."""
        return _MARGIN + self._axis.x(snapshot.time)

    def _near(self, x: float) -> int | None:
        """The number of the snapshot at a pixel."""
        numbers = range(len(self.snapshots))
        best = min(numbers, key=lambda number: abs(self.place_of(self.snapshots[number]) - x), default=None)
        return best if best is not None and abs(self.place_of(self.snapshots[best]) - x) <= _NEAR else None

    def _between(self, one: float, other: float) -> set[SnapshotId]:
        low, high = sorted((one, other))
        return {snapshot.id for snapshot in self.snapshots if low <= self.place_of(snapshot) <= high}

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        self._axis.width = max(1.0, self.width() - 2 * _MARGIN)

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if event.button() is Qt.MouseButton.LeftButton:
            self._from = self._to = event.position().x()
            self._kept = (
                set(self.chosen) if event.modifiers() & Qt.KeyboardModifier.ControlModifier else set()
            )

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._from is not None:
            self._to = event.position().x()
            self.chosen = self._kept | (
                self._between(self._from, self._to) if abs(self._to - self._from) > 3 else set()
            )
            self.update()
            return
        number = self._near(event.position().x())
        if number is not None:
            QToolTip.showText(event.globalPosition().toPoint(), self.words(self.snapshots[number]), self)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._from is None:
            return
        begin, self._from = self._from, None
        if abs(event.position().x() - begin) > 3:
            self.choose(self._kept | self._between(begin, event.position().x()))
            return
        number = self._near(begin)
        if number is not None:
            self._at = number
        self.choose(self._kept ^ ({self.snapshots[number].id} if number is not None else set()))

    def wheelEvent(self, event: QWheelEvent) -> None:  # noqa: N802
        turned = event.angleDelta()
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._axis.zoom(_ZOOM ** (-turned.y() / 120), event.position().x() - _MARGIN)
            event.accept()
        elif turned.x():
            self._axis.pan(turned.x())
            event.accept()
        else:
            event.ignore()
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        step = {Qt.Key.Key_Left.value: -1, Qt.Key.Key_Right.value: 1}.get(event.key())
        if step is None or not self.snapshots:
            super().keyPressEvent(event)
            return
        self._at = max(
            0, min(len(self.snapshots) - 1, self._at + step if self._at >= 0 else len(self.snapshots) - 1)
        )
        here = {self.snapshots[self._at].id}
        self._axis.reveal(self.snapshots[self._at].time)
        self.choose(self.chosen | here if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else here)

    def words(self, one: HeldSnapshot) -> str:
        """What is known of a snapshot."""
        parts = [
            tr("{time}, {machine}: {alone} that only this one needs").format(
                time=time_words(one.time, self._now), machine=one.machine, alone=size_words(one.alone)
            )
        ]
        parts += [one.label] if one.label else []
        parts += [tr("it {stays} and stays").format(stays=one.stays)] if one.stays else []
        return "; ".join(parts)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        look, painter = self._look, QPainter(self)
        painter.setFont(sized(self.font(), 9))
        base = self.height() - _FOOT
        most = max((one.alone for one in self.snapshots), default=0)
        text(
            painter,
            QRectF(0, 0, 400, 18),
            tr("the tallest: {most} that only one snapshot needs").format(most=size_words(most)),
            look.color("quiet_text"),
        )
        if self._from is not None:
            low, high = sorted((self._from, self._to))
            painter.fillRect(QRectF(low, _TOP, high - low, base - _TOP), look.color("kelp_soft"))
        self._paint_bars(painter, base, most)
        painter.setPen(QPen(look.color("line"), 1))
        painter.drawLine(QPointF(0, base), QPointF(self.width(), base))
        self._paint_ticks(painter, base)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(look.color("dusk"), 1, Qt.PenStyle.DotLine))
            painter.drawRect(QRectF(0.5, _TOP - 2, self.width() - 1, base - _TOP + 14))

    def _paint_bars(self, painter: QPainter, base: float, most: int) -> None:
        look = self._look
        wide = max(2.0, min(9.0, (self.width() - 2 * _MARGIN) / max(1, len(self.snapshots)) * 0.8))
        for one in self.snapshots:
            x = self.place_of(one)
            if x < -wide or x > self.width() + wide:
                continue
            high = max(3.0, (base - _TOP - 4) * (one.alone / most) ** 0.5) if one.alone and most else 2.0
            chosen = one.id in self.chosen
            painter.fillRect(
                QRectF(x - wide / 2, base - high, wide, high), look.color("kelp" if chosen else "shoal_deep")
            )
            if chosen:  # told without colour too
                painter.fillRect(QRectF(x - wide / 2 - 1, base + 2, wide + 2, 3), look.color("kelp"))
            if one.stays:
                painter.setPen(QPen(look.color("dusk"), 1.4))
                painter.setBrush(look.color("dusk") if one.pin is not None else look.color("paper"))
                painter.drawRect(QRectF(x - 3.5, base + 7, 7, 7))

    def _paint_ticks(self, painter: QPainter, base: float) -> None:
        free = 0.0
        for tick in self._axis.ticks():
            x = _MARGIN + self._axis.x(tick.time)
            if x >= free and x + 60 < self.width():
                text(painter, QRectF(x, base + 17, 90, 18), tick.label, self._look.color("quiet_text"))
                free = x + 92
