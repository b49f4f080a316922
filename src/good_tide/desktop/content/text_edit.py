"""Text that is only read, with its line numbers beside it."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import QRect, QSize, Qt
from PySide6.QtGui import (
    QColor,
    QFont,
    QFontDatabase,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QTextBlockFormat,
    QTextCharFormat,
    QTextCursor,
    QTextDocument,
)
from PySide6.QtWidgets import QPlainTextEdit, QTextEdit, QWidget

from good_tide.core.comparing import Stretch
from good_tide.desktop.painting.palette import Palette

_MOST_MARKED = 2000
_LONGEST_LINE = 4000


class _Numbers(QWidget):
    """The strip beside the text."""

    def __init__(self, text: ReadText) -> None:
        super().__init__(text)
        self._text = text

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(self._text.strip_width(), 0)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        self._text.paint_numbers(event)


class ReadText(QPlainTextEdit):
    """Text in lines; each may have a mark before its number, and a ground of its own."""

    def __init__(self, look: Palette, name: str) -> None:
        super().__init__()
        self._look = look
        self._signs: list[str] = []
        self._places: list[QTextCursor] = []
        self.setReadOnly(True)
        self.setTabChangesFocus(True)
        self.setTextInteractionFlags(
            Qt.TextInteractionFlag.TextSelectableByMouse | Qt.TextInteractionFlag.TextSelectableByKeyboard
        )
        self.setAccessibleName(name)
        font = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
        font.setStyleHint(QFont.StyleHint.Monospace)
        font.setPointSizeF(9)
        self.setFont(font)
        self._strip = _Numbers(self)
        self.updateRequest.connect(self._scrolled)
        self.wrap(True)

    def wrap(self, on: bool) -> None:
        """Long lines are broken, or can be scrolled to."""
        self.setLineWrapMode(
            QPlainTextEdit.LineWrapMode.WidgetWidth if on else QPlainTextEdit.LineWrapMode.NoWrap
        )

    def show_lines(self, lines: Iterable[tuple[str, str, str, tuple[Stretch, ...]]]) -> None:
        """Show lines: what stands before each (a sign and its number), its text, the name of its ground's
        colour or nothing, and the stretches that are marked in it."""
        self.clear()
        self._signs, self._places = [], []
        cursor = QTextCursor(self.document())
        cursor.beginEditBlock()
        for sign, words, ground, marked in lines:
            block = QTextBlockFormat()
            if ground:
                block.setBackground(self._look.color(ground))
            if self._signs:
                cursor.insertBlock(block)
            else:
                cursor.setBlockFormat(block)
            self._signs.append(sign)
            self._insert(cursor, words[:_LONGEST_LINE], marked)
        cursor.endEditBlock()
        self.setExtraSelections([])
        self._make_room()
        self.moveCursor(QTextCursor.MoveOperation.Start)

    def _insert(self, cursor: QTextCursor, words: str, marked: tuple[Stretch, ...]) -> None:
        plain, strong = QTextCharFormat(), QTextCharFormat()
        strong.setFontWeight(QFont.Weight.Bold)
        strong.setFontUnderline(True)
        at = 0
        for begin, end in marked:
            cursor.insertText(words[at:begin], plain)
            cursor.insertText(words[begin:end], strong)
            at = end
        cursor.insertText(words[at:], plain)

    def strip_width(self) -> int:
        """Pixels of the strip of numbers."""
        longest = max((len(sign) for sign in self._signs), default=0)
        return 0 if not longest else 14 + self.fontMetrics().horizontalAdvance("9" * longest)

    def _make_room(self) -> None:
        self.setViewportMargins(self.strip_width(), 0, 0, 0)
        self._place_strip()

    def _place_strip(self) -> None:
        inside = self.contentsRect()
        self._strip.setGeometry(QRect(inside.left(), inside.top(), self.strip_width(), inside.height()))

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self._place_strip()

    def _scrolled(self, area: QRect, by: int) -> None:
        if by:
            self._strip.scroll(0, by)
        else:
            self._strip.update(0, area.y(), self._strip.width(), area.height())

    def paint_numbers(self, event: QPaintEvent) -> None:
        """Paint the strip."""
        painter = QPainter(self._strip)
        painter.fillRect(event.rect(), self._look.color("band"))
        painter.setFont(self.font())
        painter.setPen(self._look.color("quiet_text"))
        block = self.firstVisibleBlock()
        top = self.blockBoundingGeometry(block).translated(self.contentOffset()).top()
        height = self.fontMetrics().height()
        while block.isValid() and top <= event.rect().bottom():
            if block.blockNumber() < len(self._signs):
                box = QRect(0, round(top), self._strip.width() - 7, height)
                painter.drawText(box, Qt.AlignmentFlag.AlignRight, self._signs[block.blockNumber()])
            top += self.blockBoundingRect(block).height()
            block = block.next()

    def mark(self, words: str) -> int:
        """Mark where words stand; returns how often they do, as far as is counted."""
        self._places = []
        if words:
            found = self.document().find(words, 0)
            while not found.isNull() and len(self._places) < _MOST_MARKED:
                self._places.append(found)
                found = self.document().find(words, found)
        self._paint_marks()
        return len(self._places)

    def _paint_marks(self) -> None:
        marks = []
        for place in self._places:
            one = QTextEdit.ExtraSelection()
            one.cursor = place
            style = QTextCharFormat()
            style.setBackground(QColor(self._look.sand_soft))
            style.setFontWeight(QFont.Weight.Bold)
            one.format = style
            marks.append(one)
        self.setExtraSelections(marks)

    def go(self, backward: bool) -> bool:
        """To the next place that is marked; False if there is none."""
        if not self._places:
            return False
        at = self.textCursor().position()
        if backward:
            before = [one for one in self._places if one.selectionEnd() < at]
            self.setTextCursor((before or self._places)[-1])
        else:
            after = [one for one in self._places if one.selectionStart() >= at]
            self.setTextCursor((after or self._places)[0])
        self.centerCursor()
        return True

    def follow(self, other: ReadText) -> None:
        """Scroll together with another one."""
        for mine, theirs in (
            (self.verticalScrollBar(), other.verticalScrollBar()),
            (self.horizontalScrollBar(), other.horizontalScrollBar()),
        ):
            mine.valueChanged.connect(theirs.setValue)
            theirs.valueChanged.connect(mine.setValue)

    def document_text(self) -> str:
        """All that is shown."""
        document: QTextDocument = self.document()
        return document.toPlainText()
