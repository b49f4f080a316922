"""Showing more or less time."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QToolButton, QWidget

from good_tide.core.tide import NO_TIDE
from good_tide.core.translation import tr
from good_tide.desktop.painting.icons import icon
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import line
from good_tide.desktop.timeline.model import TimelineModel

_MORE, _LESS = 1.6, 0.625


class ZoomTools(QWidget):
    """Buttons that change the view of a model's axis. ``moved``: it was changed."""

    moved = Signal()

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self.model = TimelineModel(NO_TIDE)
        self.setLayout(
            line(
                self._tool("minus", tr("Show more time (−)"), lambda: self.by(_MORE)),
                self._tool("plus", tr("Show less time (+)"), lambda: self.by(_LESS)),
                self._tool("whole", tr("Show all of history (0)"), self.all),
                spacing=2,
            )
        )

    def _tool(self, name: str, words: str, act: Callable[[], None]) -> QToolButton:
        made = QToolButton()
        made.setIcon(icon(name, self._look.ink, 18))
        made.setToolTip(words)
        made.setAccessibleName(words)
        made.clicked.connect(act)
        return made

    def by(self, factor: float) -> None:
        """Zoom about the moment that is looked at."""
        model, axis = self.model, self.model.axis
        at = axis.x(model.time_of(model.moment)) if model.moment else axis.width / 2
        axis.zoom(factor, min(max(at, 0.0), axis.width))
        self.moved.emit()

    def all(self) -> None:
        """Show all of history."""
        self.model.axis.show_all()
        self.moved.emit()
