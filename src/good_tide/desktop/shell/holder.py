"""What holds a page of the window: it scrolls where the window is smaller than the page can be."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QFrame, QScrollArea, QWidget


class _Frame(QWidget):
    """Gives a page all the room there is. A scroll area would give pages that fold text the height that they
    like best, and scroll where they could be smaller."""

    def __init__(self, page: QWidget) -> None:
        super().__init__()
        self._page = page
        page.setParent(self)

    def minimumSizeHint(self) -> QSize:  # noqa: N802
        return self._page.minimumSizeHint().expandedTo(self._page.minimumSize())

    def sizeHint(self) -> QSize:  # noqa: N802
        return self._page.sizeHint()

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        self._page.resize(event.size())

    def event(self, event: QEvent) -> bool:
        """The page can be smaller, or has to be larger, than before."""
        if event.type() == QEvent.Type.LayoutRequest:
            self.updateGeometry()
        return super().event(event)


class Holder(QScrollArea):
    """A page, as large as there is room for, and never smaller than it works."""

    def __init__(self, page: QWidget) -> None:
        super().__init__()
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setWidgetResizable(True)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        frame = _Frame(page)
        self.setWidget(frame)
        for clear in (frame, self.viewport()):
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
