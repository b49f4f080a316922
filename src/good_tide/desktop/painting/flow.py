"""Widgets beside each other that go on in the next line, or stand below each other, where there is no
room."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QRect, QSize
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QBoxLayout, QSizePolicy, QStackedWidget, QWidget


class Columns(QWidget):
    """Parts beside each other, of the same width; below each other where each would get less than some."""

    def __init__(self, least: int, spacing: int = 12) -> None:
        super().__init__()
        self.setObjectName("clear")
        self._least, self._count = least, 0
        self._layout = QBoxLayout(QBoxLayout.Direction.LeftToRight, self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(spacing)

    def add(self, part: QWidget) -> None:
        """One more part, behind the others."""
        self._layout.addWidget(part, 1)
        self._count += 1

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        narrow = self.width() < self._least * self._count
        self._layout.setDirection(
            QBoxLayout.Direction.TopToBottom if narrow else QBoxLayout.Direction.LeftToRight
        )


class Pages(QStackedWidget):
    """Pages of which one is in front, and that one alone says how small they can be."""

    def __init__(self) -> None:
        super().__init__()
        self.currentChanged.connect(lambda number: self.updateGeometry())

    def minimumSizeHint(self) -> QSize:  # noqa: N802
        page = self.currentWidget()
        return page.minimumSizeHint() if page is not None else QSize(0, 0)

    def sizeHint(self) -> QSize:  # noqa: N802
        page = self.currentWidget()
        return page.sizeHint() if page is not None else QSize(0, 0)


class Flow(QWidget):
    """A row of widgets that breaks into lines, as words do."""

    def __init__(self, *parts: QWidget, spacing: int = 8) -> None:
        super().__init__()
        self._parts, self._spacing = parts, spacing
        for part in parts:
            part.setParent(self)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum)

    def minimumSizeHint(self) -> QSize:  # noqa: N802
        sizes = [self._size(part) for part in self._parts if not part.isHidden()]
        return QSize(max((size.width() for size in sizes), default=0), self._place(self.width(), False))

    def sizeHint(self) -> QSize:  # noqa: N802
        sizes = [self._size(part) for part in self._parts if not part.isHidden()]
        wide = sum(size.width() for size in sizes) + self._spacing * max(0, len(sizes) - 1)
        return QSize(wide, self._place(max(self.width(), 1), False))

    def event(self, event: QEvent) -> bool:
        """Another size or sight of a part moves those behind it."""
        if event.type() == QEvent.Type.LayoutRequest:
            self._settle()
        return super().event(event)

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self._settle()

    def _settle(self) -> None:
        height = self._place(self.width(), True)
        if self.minimumHeight() != height:
            self.setMinimumHeight(height)
            self.setMaximumHeight(height)

    @staticmethod
    def _size(part: QWidget) -> QSize:
        wanted = part.sizeHint().expandedTo(part.minimumSizeHint()).expandedTo(part.minimumSize())
        return wanted.boundedTo(part.maximumSize())

    def _place(self, width: int, move: bool) -> int:
        """Put the parts into lines of a width; how high the lines are together."""
        lines: list[list[tuple[QWidget, QSize]]] = [[]]
        x = 0
        for part in self._parts:
            if part.isHidden():
                continue
            size = self._size(part)
            if lines[-1] and x + size.width() > width:
                lines.append([])
                x = 0
            lines[-1].append((part, size))
            x += size.width() + self._spacing
        y = 0
        for line in lines:
            high = max((size.height() for _, size in line), default=0)
            x = 0
            for part, size in line:
                if move:
                    wide = min(size.width(), max(width, part.minimumSizeHint().width()))
                    part.setGeometry(QRect(x, y + (high - size.height()) // 2, wide, size.height()))
                x += size.width() + self._spacing
            y += high + self._spacing
        return max(0, y - self._spacing)
