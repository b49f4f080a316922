"""The two sides of a page: what is left of the line can be as narrow as one likes, and that is remembered."""

from __future__ import annotations

from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QSplitter, QWidget

from good_tide.core.translation import tr

_KEY = "pane"
_NARROW, _LEAST = 320, 280


class Sides(QSplitter):
    """Two widgets with a line between them that can be dragged. F6 gives the right one the whole page, and
    takes it back."""

    def __init__(self, left: QWidget, right: QWidget) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self._left = left
        self._settings = QSettings("good-tide", "window")
        left.setMinimumWidth(360)
        right.setMinimumWidth(_LEAST)
        self.addWidget(left)
        self.addWidget(right)
        self.setStretchFactor(0, 1)
        self.setStretchFactor(1, 0)
        self.setHandleWidth(12)
        self.setCollapsible(1, False)
        self.handle(1).setToolTip(tr("Drag to make the pane wider or narrower; F6 gives it the whole window"))
        self._width = self._kept()
        self.setSizes([10_000, self._width])
        self.splitterMoved.connect(lambda at, number: self._keep())
        whole = QShortcut(QKeySequence("F6"), self)
        whole.setContext(Qt.ShortcutContext.WindowShortcut)
        whole.activated.connect(self.toggle)

    def _kept(self) -> int:
        try:
            return max(_LEAST, int(str(self._settings.value(_KEY, _NARROW))))
        except ValueError:
            return _NARROW

    def _keep(self) -> None:
        if self.sizes()[0]:
            self._width = self.sizes()[1]
            self._settings.setValue(_KEY, self._width)

    def toggle(self) -> None:
        """The right side gets the whole page, or gives it back."""
        if self._left.isVisible():
            self._left.hide()
        else:
            self._left.show()
            self.setSizes([10_000, self._width])
