"""The tide chart: what each snapshot added, changed and removed."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QFont,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QToolTip, QWidget

from good_tide.core.translation import tr
from good_tide.core.words import count_words, exact_words, size_words, time_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import NAME_WIDTH, RIGHT_MARGIN, moment_line, sized, text
from good_tide.desktop.timeline.model import TimelineModel
from good_tide.desktop.timeline.waves import EVERY, Waves

_TOP, _BASE, _TICKS, _HEIGHT = 42, 124, 154, 178
_DEEPEST = 24
_DRAG_PIXELS = 4


class TideChart(QWidget):
    """Painted once per view; only the moment's line is painted on top each time."""

    moved = Signal()
    """The view of the axis was changed."""
    chosen = Signal(int)
    """A snapshot was clicked: its number."""
    marked = Signal(int)
    """The same with Shift: it is to be the second mark."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._model: TimelineModel | None = None
        self.pinned: frozenset[int] = frozenset()
        """Numbers of pinned snapshots, which are marked by squares on the axis."""
        self._waves = Waves()
        self._peak = 0
        self._cache: QPixmap | None = None
        self._shown: tuple[object, ...] = ()
        """What the picture in the cache shows: only the moment's line is painted upon it."""
        self._pressed: float | None = None
        self._dragged = False
        self._now = 0
        self.setFixedHeight(_HEIGHT)
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Tide chart"))
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)

    def show_model(self, model: TimelineModel, now: int) -> None:
        """Show a timeline; ``now`` in nanoseconds for times in words."""
        if model is not self._model:
            self._waves = Waves(model.tide)
        self._model, self._now = model, now
        self.refresh()

    def refresh(self) -> None:
        """The view, the tide or the moment has changed."""
        self._describe()
        self.update()

    def _describe(self) -> None:
        model = self._model
        if model is not None and model.moment:
            point = model.tide[model.moment - 1]
            self.setAccessibleDescription(
                tr("{time}: {added} added, {changed} changed, {removed} removed").format(
                    time=time_words(point.time, self._now),
                    added=point.added,
                    changed=point.changed,
                    removed=point.removed,
                )
            )

    def _axis_width(self) -> float:
        return max(10.0, self.width() - NAME_WIDTH - RIGHT_MARGIN)

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        self._cache = None

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        if self._model is None:
            return
        self._model.axis.width = self._axis_width()
        ratio, axis = self.devicePixelRatioF(), self._model.axis
        shown = id(self._model), self._now, axis.start, axis.end, self.size().toTuple(), ratio, self.pinned
        if self._cache is None or shown != self._shown:
            self._shown = shown
            self._cache = QPixmap(self.size() * ratio)
            self._cache.setDevicePixelRatio(ratio)
            self._cache.fill(Qt.GlobalColor.transparent)
            inner = QPainter(self._cache)
            inner.setRenderHint(QPainter.RenderHint.Antialiasing)
            inner.setFont(self.font())
            self._paint_chart(inner, self._model)
            inner.end()
        painter.drawPixmap(0, 0, self._cache)
        paint_stretch(painter, self._look, self._model, QRectF(NAME_WIDTH, _TOP, 0, _TICKS - _TOP))
        if self._model.moment:
            self._paint_moment(painter, self._model)
        if self.hasFocus():
            painter.setPen(QPen(self._look.color("dusk"), 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 8, 8)

    def _paint_chart(self, painter: QPainter, model: TimelineModel) -> None:
        look, axis = self._look, model.axis
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look.color("paper"))
        painter.drawRoundedRect(QRectF(self.rect()), 8, 8)
        painter.save()
        painter.translate(NAME_WIDTH, 0)
        painter.setClipRect(QRectF(0, 0, axis.width, self.height()))
        for left, right in axis.weekends():
            painter.fillRect(QRectF(left, _TOP, max(0.0, right - left), _TICKS - _TOP), look.color("band"))
        self._paint_waves(painter, model)
        painter.setFont(sized(self.font(), 9))
        painter.setPen(QPen(look.color("line"), 1))
        painter.drawLine(QPointF(0, _TICKS), QPointF(axis.width, _TICKS))
        for tick in axis.ticks():
            x = axis.x(tick.time)
            painter.setPen(QPen(look.color("ink" if tick.major else "quiet_text"), 1))
            painter.drawLine(
                QPointF(x, _TICKS - (6 if tick.major else 3)), QPointF(x, _TICKS + (4 if tick.major else 0))
            )
            if x + 80 < axis.width:
                text(
                    painter,
                    QRectF(x + 4, _TICKS + 3, 90, 18),
                    tick.label,
                    look.color("ink" if tick.major else "quiet_text"),
                )
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look.color("kelp"))
        for seq in self.pinned:
            painter.drawRect(QRectF(axis.x(model.tide[seq - 1].time) - 3.5, _TICKS - 3.5, 7, 7))
        self._paint_floods(painter, model)
        painter.restore()
        self._paint_legend(painter, model)

    def _paint_waves(self, painter: QPainter, model: TimelineModel) -> None:
        look = self._look
        up, down, columns, self._peak = self._waves.over(model.axis)
        room = _BASE - _TOP - 4
        base = float(_BASE)
        rise, fall = (
            [QPointF(x * EVERY, base + part * height) for x, part in enumerate(parts)]
            for parts, height in ((up, -room), (down, _DEEPEST))
        )
        ends = [QPointF(int(model.axis.width) + 1, base), QPointF(0, base)]
        for points, fill, stroke in ((rise, "kelp_soft", "kelp"), (fall, "coral_soft", "coral")):
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(look.color(fill))
            painter.drawPolygon(QPolygonF([*points, *ends]))
            painter.setPen(QPen(look.color(stroke), 1))
            painter.drawPolyline(QPolygonF(points))
        marks = [QRectF(x, _TICKS - 11, 1, 5) for x in columns]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look.color("shoal_deep"))
        painter.drawRects(marks)

    def _paint_floods(self, painter: QPainter, model: TimelineModel) -> None:
        look = self._look
        painter.setFont(sized(self.font(), 9, QFont.Weight.DemiBold))
        for seq, count in model.floods.items():
            x = model.axis.x(model.time_of(seq))
            if 0 <= x <= model.axis.width:
                painter.setBrush(look.color("coral"))
                painter.setPen(Qt.PenStyle.NoPen)
                painter.drawPolygon(QPolygonF([QPointF(x - 5, 29), QPointF(x + 5, 29), QPointF(x, 38)]))
                words = tr("{count} rewritten at once").format(count=count_words(count, "file"))
                wide = painter.fontMetrics().horizontalAdvance(words) + 4
                left = x + 9 if x + 9 + wide < model.axis.width else x - 9 - wide
                text(painter, QRectF(left, 24, wide, 18), words, look.color("coral"))

    def _paint_legend(self, painter: QPainter, model: TimelineModel) -> None:
        look = self._look
        painter.setFont(sized(self.font(), 9, QFont.Weight.DemiBold))
        text(painter, QRectF(14, 26, NAME_WIDTH - 20, 18), tr("Added and changed"), look.color("kelp"))
        text(painter, QRectF(14, _BASE + 3, NAME_WIDTH - 20, 18), tr("Removed"), look.color("coral"))
        painter.setFont(sized(self.font(), 9))
        if self._peak:
            point = model.tide[self._peak - 1]
            words = tr("peak {added_bytes}").format(
                added_bytes=size_words(point.added_bytes + point.changed_bytes)
            )
            text(painter, QRectF(14, 45, NAME_WIDTH - 24, 18), words, look.color("quiet_text"))
            text(
                painter,
                QRectF(14, 62, NAME_WIDTH - 24, 18),
                time_words(point.time, self._now),
                look.color("quiet_text"),
            )

    def _paint_moment(self, painter: QPainter, model: TimelineModel) -> None:
        x = model.axis.x(model.time_of(model.moment))
        if not -1 <= x <= model.axis.width + 1:
            return
        look = self._look
        painter.save()
        painter.translate(NAME_WIDTH, 0)
        moment_line(painter, look, x, self.height())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(sized(self.font(), 9, QFont.Weight.DemiBold))
        words = time_words(model.time_of(model.moment), self._now)
        wide = painter.fontMetrics().horizontalAdvance(words) + 16
        left = x - wide if x - wide > -NAME_WIDTH + 4 else x
        box = QRectF(left, 0, wide, 22)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look.color("ink"))
        painter.drawRoundedRect(box, 4, 4)
        text(painter, box.adjusted(8, 0, -4, 0), words, look.color("paper"))
        painter.restore()

    def wheelEvent(self, event: QWheelEvent) -> None:  # noqa: N802
        if self._model is None:
            return
        turn_axis(self._model, event, event.position().x() - NAME_WIDTH)
        self.moved.emit()
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._pressed, self._dragged = event.position().x(), False

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        model = self._model
        if model is None or not model.tide:
            return
        x = event.position().x()
        if self._pressed is None:
            self._tell(model, event)
        elif self._dragged or abs(x - self._pressed) > _DRAG_PIXELS:
            self._dragged = True
            model.axis.pan(x - self._pressed)
            self._pressed = x
            self.moved.emit()

    def _tell(self, model: TimelineModel, event: QMouseEvent) -> None:
        x = event.position().x() - NAME_WIDTH
        if not 0 <= x <= model.axis.width:
            return
        point = model.tide[model.nearest(model.axis.time(x)) - 1]
        words = [
            exact_words(point.time),
            tr("{added} added, {changed} changed, {removed} removed").format(
                added=point.added, changed=point.changed, removed=point.removed
            ),
        ]
        words += [
            tr("{added_bytes} added and changed").format(
                added_bytes=size_words(point.added_bytes + point.changed_bytes)
            )
        ]
        words += (
            [tr("{gaps} could not be read").format(gaps=count_words(point.gaps, "file"))]
            if point.gaps
            else []
        )
        QToolTip.showText(event.globalPosition().toPoint(), "\n".join(words), self)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        model = self._model
        if self._pressed is not None and not self._dragged and model is not None and model.tide:
            x = event.position().x() - NAME_WIDTH
            if x >= 0:
                shift = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
                (self.marked if shift else self.chosen).emit(model.nearest(model.axis.time(x)))
        self._pressed = None

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        event.ignore()

    def changeEvent(self, event: QEvent) -> None:  # noqa: N802
        self._cache = None
        super().changeEvent(event)


def paint_stretch(painter: QPainter, look: Palette, model: TimelineModel, area: QRectF) -> None:
    """Shade the time between the two marks, and draw the second one.

    :param area: from where to where it is painted, its left edge where the axis begins.
    """
    stretch = model.stretch
    if stretch is None:
        return
    left, right = (min(max(model.axis.x(time), 0.0), model.axis.width) for time in stretch)
    painter.fillRect(
        QRectF(area.left() + left, area.top(), right - left, area.height()), look.color("dusk", 36)
    )
    x = model.axis.x(model.time_of(model.against))
    if 0 <= x <= model.axis.width:
        painter.setPen(QPen(look.color("dusk"), 1.5, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(area.left() + x, area.top()), QPointF(area.left() + x, area.bottom()))


def turn_axis(model: TimelineModel, event: QWheelEvent, x: float) -> None:
    """Ctrl and wheel zoom about the pointer; the wheel alone, or sideways, pans."""
    turned, sideways = event.angleDelta().y(), event.angleDelta().x()
    if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
        model.axis.zoom(0.999 ** (turned or sideways), min(max(x, 0.0), model.axis.width))
    else:
        model.axis.pan((turned or sideways) * 0.5)
