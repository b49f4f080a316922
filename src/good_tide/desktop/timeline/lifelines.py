"""Lifelines: a row for everything that was ever in a folder, on the tide chart's axis of time."""

from __future__ import annotations

from typing import NamedTuple

from PySide6.QtCore import QEvent, QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QDragEnterEvent,
    QDragMoveEvent,
    QDropEvent,
    QFont,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QAbstractScrollArea, QApplication, QToolTip

from good_tide.core.history import Span
from good_tide.core.translation import tr
from good_tide.core.words import exact_words, printable, size_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import NAME_WIDTH, RIGHT_MARGIN, hatch, moment_line, sized, text
from good_tide.desktop.timeline.folder_marks import FolderMarks
from good_tide.desktop.timeline.handing import dropped_path
from good_tide.desktop.timeline.model import Row, TimelineModel, version_number
from good_tide.desktop.timeline.tide_chart import paint_stretch, turn_axis

ROW = 30
_BAR, _EARLIER_BAR = 14, 6
"""How high a version is; one that a file had under an earlier name."""
_INDENT = 16
_NARROW = 5
"""Pixels below which no round corner is seen."""
_DRAG_PIXELS = 4


class Resting(NamedTuple):
    """The mouse is on a version of a file: what can be said of it, and where on the screen."""

    path: bytes
    span: Span
    words: str
    at: QPoint


class LifelineView(QAbstractScrollArea):
    """The rows, painted; only visible ones are. Keys: see ``timeline.TimelinePlace``."""

    moved = Signal()
    """The view of the axis was changed."""
    also = Signal(bytes)
    """A row was clicked with Ctrl: it is chosen together with the others, or no longer."""
    up_to = Signal(bytes)
    """A name was clicked with Shift: all rows up to it are chosen."""
    picked = Signal(bytes, int)
    """A row was clicked: its path, and the snapshot clicked at (0: the name was clicked)."""
    marked = Signal(int)
    """A row was clicked with Shift: its snapshot is to be the second mark."""
    opened = Signal(bytes)
    """A folder's arrow was clicked: open it in place, or close it."""
    rested = Signal(object)
    """The mouse is on a version of a file (``Resting``)."""
    moved_on = Signal()
    """It is on none any more."""
    dragged = Signal(bytes)
    """A row is being dragged by its name."""
    dropped = Signal(bytes)
    """Something was dropped here: its path."""
    entered = Signal(bytes)
    """A folder was double-clicked: look into it."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._model: TimelineModel | None = None
        self._rows: list[Row] = []
        self._chosen: Row | None = None
        self._now = 0
        self._pressed: QPointF | None = None
        self._dragged = False
        self._marks = FolderMarks()
        self._hatch = hatch(look, "coral_soft", "coral")
        self._gap_hatch = hatch(look, "sand_soft", "sand")
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.verticalScrollBar().setSingleStep(ROW)
        self.viewport().setMouseTracking(True)
        self.setAcceptDrops(True)
        self.viewport().setAutoFillBackground(False)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Lifelines"))

    def show_model(self, model: TimelineModel, now: int) -> None:
        """Show a timeline's rows."""
        self._model, self._now = model, now
        self.refresh()

    def refresh(self) -> None:
        """Rows, selection, moment or view have changed."""
        if self._model is not None:
            self._rows = self._model.rows()
            chosen = self._model.row_of(self._model.selected)
            self.setAccessibleDescription(
                self._model.row_words(chosen, self._now) if chosen is not None else tr("Nothing selected")
            )
        self._set_range()
        self.viewport().update()

    def _set_range(self) -> None:
        bar = self.verticalScrollBar()
        bar.setPageStep(self.viewport().height())
        bar.setRange(0, max(0, len(self._rows) * ROW + 12 - self.viewport().height()))

    def reveal_selected(self) -> None:
        """Scroll so that the selected row is seen."""
        chosen = self._model.row_of(self._model.selected) if self._model is not None else None
        for number, row in enumerate(self._rows):
            if row == chosen:
                bar = self.verticalScrollBar()
                if number * ROW < bar.value():
                    bar.setValue(number * ROW)
                elif (number + 1) * ROW + 12 > bar.value() + self.viewport().height():
                    bar.setValue((number + 1) * ROW + 12 - self.viewport().height())

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        self._set_range()

    def _axis_width(self) -> float:
        return max(10.0, self.width() - NAME_WIDTH - RIGHT_MARGIN)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self.viewport())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self._look.color("paper"))
        painter.drawRoundedRect(QRectF(0, 0, self.width(), self.viewport().height()), 8, 8)
        model = self._model
        if model is None:
            return
        model.axis.width = self._axis_width()
        offset = self.verticalScrollBar().value() - 6
        first = max(0, offset // ROW)
        self._chosen = model.row_of(model.selected)
        for number in range(first, min(len(self._rows), (offset + self.viewport().height()) // ROW + 1)):
            self._paint_row(painter, model, self._rows[number], number * ROW - offset)
        paint_stretch(painter, self._look, model, QRectF(NAME_WIDTH, 0, 0, self.viewport().height()))
        if model.moment:
            x = model.axis.x(model.time_of(model.moment))
            if -1 <= x <= model.axis.width + 1:
                moment_line(painter, self._look, NAME_WIDTH + x, self.viewport().height())
        if self.hasFocus():
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(self._look.color("dusk"), 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.viewport().rect()).adjusted(1, 1, -1, -1), 8, 8)

    def _paint_row(self, painter: QPainter, model: TimelineModel, row: Row, y: int) -> None:
        look = self._look
        selected = row == self._chosen or (row.path in model.together and not row.caption)
        if selected:
            painter.fillRect(QRectF(0, y, self.viewport().width(), ROW), look.color("kelp_soft"))
            painter.fillRect(QRectF(0, y, 4, ROW), look.color("kelp"))
        if row.caption:
            painter.setFont(sized(self.font(), 9.5, QFont.Weight.DemiBold))
            words = QRectF(14, y + 4, self.viewport().width() - 28, ROW - 4)
            text(painter, words, row.caption, look.color("ink" if selected else "quiet_text"))
            return
        here = row.standing(model.moment) is not None
        left = 14 + row.depth * _INDENT
        if row.is_folder:
            self._paint_arrow(painter, row, left, y)
            left += 18
        weight = QFont.Weight.DemiBold if selected or row.is_folder else QFont.Weight.Normal
        painter.setFont(sized(self.font(), 10, weight))
        text(
            painter,
            QRectF(left, y, NAME_WIDTH - left - 8, ROW),
            row.title,
            look.color("ink" if here else "quiet_text"),
        )
        painter.save()
        painter.translate(NAME_WIDTH, y)
        painter.setClipRect(QRectF(0, 0, model.axis.width, ROW))
        if row.is_folder:
            self._paint_folder(painter, model, row)
        else:
            self._paint_versions(painter, model, row, selected)
        self._paint_gone(painter, model, row)
        painter.restore()

    def _paint_arrow(self, painter: QPainter, row: Row, left: float, y: float) -> None:
        painter.setPen(QPen(self._look.color("ink"), 1.5))
        middle = y + ROW / 2
        if row.expanded:
            points = [
                QPointF(left + 1, middle - 2.5),
                QPointF(left + 5.5, middle + 2.5),
                QPointF(left + 10, middle - 2.5),
            ]
        else:
            points = [
                QPointF(left + 3, middle - 4.5),
                QPointF(left + 8, middle),
                QPointF(left + 3, middle + 4.5),
            ]
        painter.drawPolyline(points)

    def _paint_folder(self, painter: QPainter, model: TimelineModel, row: Row) -> None:
        look = self._look
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look.color("shoal", 150))
        for span in row.line.spans:
            left, right = self._extent(model, span)
            painter.drawRoundedRect(QRectF(left, ROW / 2 - 3, max(2.0, right - left), 6), 3, 3)
        painter.setBrush(look.color("kelp"))
        painter.drawRects(self._marks.of(model, row, ROW / 2))

    def _extent(self, model: TimelineModel, span: Span) -> tuple[float, float]:
        axis = model.axis
        begin, end = model.extent(span)
        right = axis.x(end) if span.last is not None else max(axis.x(end), axis.x(axis.last))
        return axis.x(begin), right

    def _paint_versions(self, painter: QPainter, model: TimelineModel, row: Row, selected: bool) -> None:
        look = self._look
        then = row.standing(model.moment)
        standing = None if then is None else then[1]
        painter.setPen(Qt.PenStyle.NoPen)
        usual = look.color("shoal"), look.color("shoal_deep")
        width = model.axis.width
        for number, (path, span) in enumerate(row.life):
            left, right = self._extent(model, span)
            if right < 0 or left > width:
                continue
            height = _BAR if path == row.path else _EARLIER_BAR
            box = QRectF(left, (ROW - height) / 2, max(1.5, right - left - 1), height)
            if model.is_lost(span):
                self._paint_lost(painter, box)
                continue
            if span.kind == "x":
                painter.setBrush(self._gap_hatch)
            elif model.is_flooded(row, span):
                painter.setBrush(self._hatch)
            elif (says := model.says_it(row, span)) is not None:
                painter.setBrush(look.color("kelp" if says else "band"))
            elif selected and span is standing:
                painter.setBrush(look.color("kelp"))
            else:
                painter.setBrush(usual[number % 2])
            if box.width() < _NARROW:
                painter.drawRect(box)
            else:
                painter.drawRoundedRect(box, 2.5, 2.5)
            if selected and span is standing:
                painter.setPen(QPen(look.color("kelp"), 2))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRoundedRect(box.adjusted(0, -2, 0, 2), 3, 3)
                painter.setPen(Qt.PenStyle.NoPen)

    def _paint_lost(self, painter: QPainter, box: QRectF) -> None:
        """A version whose content is lost: an empty frame, struck through where there is room."""
        painter.setPen(QPen(self._look.color("coral"), 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(box.adjusted(0.5, 0.5, -0.5, -0.5))
        if box.width() > _BAR:
            painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
        if box.width() > 60:
            words = QRectF(box.left() + 6, box.top() - 1, 32, box.height() + 2)
            painter.fillRect(words, self._look.color("paper"))
            painter.setFont(sized(self.font(), 9))
            text(painter, words.adjusted(3, 0, 0, 0), "lost", self._look.color("coral"))
        painter.setPen(Qt.PenStyle.NoPen)

    def _paint_gone(self, painter: QPainter, model: TimelineModel, row: Row) -> None:
        """Where a thing went: a stroke at the first snapshot without it, and the word where there is room."""
        look, axis = self._look, model.axis
        spans = row.line.spans
        for number, span in enumerate(spans):
            if span.last is None or (number + 1 < len(spans) and spans[number + 1].first == span.last + 1):
                continue
            x = axis.x(model.extent(span)[1])
            painter.setPen(QPen(look.color("coral"), 2))
            painter.drawLine(QPointF(x, 6), QPointF(x, ROW - 6))
            following = (
                axis.x(model.time_of(spans[number + 1].first)) if number + 1 < len(spans) else axis.width
            )
            if following - x > 44:
                painter.setFont(sized(self.font(), 9))
                moved = number + 1 == len(spans) and row.line.later
                text(painter, QRectF(x + 6, 0, 60, ROW), "moved" if moved else "gone", look.color("coral"))

    def _row_at(self, y: float) -> Row | None:
        number = int(y + self.verticalScrollBar().value() - 6) // ROW
        return self._rows[number] if 0 <= number < len(self._rows) else None

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._pressed, self._dragged = event.position(), False
        self.moved_on.emit()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        model = self._model
        if model is None:
            return
        if self._pressed is None:
            self._tell(model, event)
        elif self._drags_name(event):
            row, self._pressed = self._row_at(self._pressed.y()), None
            if row is not None and not row.caption:
                self.dragged.emit(row.path)
        elif event.position().x() > NAME_WIDTH and (
            self._dragged or abs(event.position().x() - self._pressed.x()) > _DRAG_PIXELS
        ):
            self._dragged = True
            model.axis.pan(event.position().x() - self._pressed.x())
            self._pressed = event.position()
            self.moved.emit()

    def _drags_name(self, event: QMouseEvent) -> bool:
        """Whether a row is being dragged by its name; on its life it is time that moves."""
        if self._pressed is None or self._pressed.x() > NAME_WIDTH or self._dragged:
            return False
        far = (event.position() - self._pressed).manhattanLength()
        return far >= QApplication.startDragDistance()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:  # noqa: N802
        if event.source() is None and dropped_path(event.mimeData()):
            event.acceptProposedAction()

    def dragMoveEvent(self, event: QDragMoveEvent) -> None:  # noqa: N802
        event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:  # noqa: N802
        event.setDropAction(Qt.DropAction.CopyAction)
        event.accept()
        self.dropped.emit(dropped_path(event.mimeData()))

    def leaveEvent(self, event: QEvent) -> None:  # noqa: N802
        self.moved_on.emit()
        super().leaveEvent(event)

    def _tell(self, model: TimelineModel, event: QMouseEvent) -> None:
        row, x = self._row_at(event.position().y()), event.position().x() - NAME_WIDTH
        if row is None or not model.tide:
            QToolTip.hideText()
            self.moved_on.emit()
            return
        words = [row.title]
        then = row.standing(model.nearest(model.axis.time(x))) if x >= 0 else None
        path, span = then if then is not None else (row.path, None)
        if x >= 0:
            if span is None:
                words.append(tr("Not there at this time"))
            elif span.kind == "x":
                words.append(tr("Could not be read at this time"))
            else:
                if not row.is_folder:
                    words.append(
                        tr("Version {version_number}, {size}").format(
                            version_number=version_number(row, span), size=size_words(span.size)
                        )
                    )
                if path != row.path:
                    words.append(tr("then called {path}").format(path=printable(path)))
                words.append(
                    tr("from {exact_words}").format(exact_words=exact_words(model.time_of(span.first)))
                )
                if model.is_lost(span):
                    words.append(tr("Its content is lost: the store was damaged"))
                if model.is_flooded(row, span):
                    words.append(
                        tr("One of {floods} files rewritten at once").format(floods=model.floods[span.first])
                    )
        at = event.globalPosition().toPoint()
        if span is not None and span.kind == "f" and not model.is_lost(span):
            self.rested.emit(Resting(path, span, "\n".join(words), at))
        else:
            self.moved_on.emit()
            QToolTip.showText(at, "\n".join(words), self)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        row, model = self._row_at(event.position().y()), self._model
        if self._pressed is not None and not self._dragged and row is not None and model is not None:
            x = event.position().x()
            if row.is_folder and x < 14 + row.depth * _INDENT + 18:
                self.opened.emit(row.path)
            else:
                seq = model.nearest(model.axis.time(x - NAME_WIDTH)) if x > NAME_WIDTH and model.tide else 0
                if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                    self.also.emit(row.path)
                elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                    self.marked.emit(seq) if seq else self.up_to.emit(row.path)
                else:
                    self.picked.emit(row.path, seq)
        self._pressed = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        row = self._row_at(event.position().y())
        if row is not None and row.is_folder:
            self.entered.emit(row.path)

    def wheelEvent(self, event: QWheelEvent) -> None:  # noqa: N802
        sideways = event.modifiers() & (
            Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier
        )
        if self._model is not None and (
            sideways or abs(event.angleDelta().x()) > abs(event.angleDelta().y())
        ):
            turn_axis(self._model, event, event.position().x() - NAME_WIDTH)
            self.moved.emit()
            event.accept()
        else:
            super().wheelEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        event.ignore()
