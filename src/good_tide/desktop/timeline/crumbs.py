"""The way to the folder that is looked into."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QToolButton, QWidget

from good_tide.desktop.painting.widgets import label


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
            crumb = QToolButton()
            crumb.setObjectName("crumb")
            crumb.setText(name)
            crumb.clicked.connect(lambda checked=False, path=path: self.entered.emit(path))
            self._layout.addWidget(crumb)
