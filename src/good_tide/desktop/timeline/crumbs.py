"""The way to the folder that is looked into."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QToolButton, QWidget

from good_tide.desktop.painting.widgets import label

_BESIDE, _NARROWEST = 12, 56
"""Pixels beside the name, and of the narrowest step."""


class Crumbs(QWidget):
    """A button for each folder on the way. ``entered``: one of them was pressed, by its path."""

    entered = Signal(bytes)

    def __init__(self) -> None:
        super().__init__()
        self._layout = QHBoxLayout(self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(2)
        self._shown: Sequence[tuple[str, bytes]] = ()

    def show_way(self, steps: Sequence[tuple[str, bytes]]) -> None:
        """Show names and paths, from above on."""
        if steps == self._shown:
            return
        self._shown = steps
        while self._layout.count():
            item = self._layout.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        for number, (name, path) in enumerate(steps):
            if number:
                self._layout.addWidget(label("›", "title"))
            crumb = _Crumb(name)
            crumb.clicked.connect(lambda checked=False, path=path: self.entered.emit(path))
            self._layout.addWidget(crumb)


class _Crumb(QToolButton):
    """A step of the way, which gives way to the others by dots in its name."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self._name = name
        self.setObjectName("crumb")
        self.setAccessibleName(name)
        self.setToolTip(name)
        self.setText(name)
        self.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Preferred)

    def sizeHint(self) -> QSize:  # noqa: N802
        wide = self.fontMetrics().horizontalAdvance(self._name) + _BESIDE
        return QSize(wide, super().sizeHint().height())

    def minimumSizeHint(self) -> QSize:  # noqa: N802
        return QSize(min(_NARROWEST, self.sizeHint().width()), super().sizeHint().height())

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        room = self.width() - _BESIDE
        self.setText(self.fontMetrics().elidedText(self._name, Qt.TextElideMode.ElideMiddle, room + 1))
