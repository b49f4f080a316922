"""What holds a page of the window: it scrolls where the window is smaller than the page can be."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QFrame, QScrollArea, QWidget


class Holder(QScrollArea):
    """A page, as large as there is room for, and never smaller than it works."""

    def __init__(self, page: QWidget) -> None:
        super().__init__()
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setWidgetResizable(True)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setWidget(page)
        for clear in (page, self.viewport()):
            clear.setAutoFillBackground(False)

    def minimumSizeHint(self) -> QSize:  # noqa: N802
        return QSize(160, 120)


class Rail(QScrollArea):
    """A column of buttons, as wide as they are; it scrolls where it is too low for them."""

    def __init__(self, column: QWidget) -> None:
        super().__init__()
        self._column = column
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setWidgetResizable(True)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setWidget(column)

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        """Be as wide as the column, with its scroll bar where there has to be one."""
        super().resizeEvent(event)
        wanted = self._column.minimumSizeHint()
        bar = self.verticalScrollBar().sizeHint().width() if self.height() < wanted.height() else 0
        self.setFixedWidth(wanted.width() + bar)

    def minimumSizeHint(self) -> QSize:  # noqa: N802
        return QSize(self._column.minimumSizeHint().width(), 120)
