"""A last question before something that cannot be brought back."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QDialog, QVBoxLayout, QWidget

from good_tide.core.translation import tr
from good_tide.desktop.painting.widgets import button, label, line


class ConfirmDialog(QDialog):
    """Says what is about to be done, and does it only when the button that names it is pressed. Nothing is
    done by Enter or Escape."""

    def __init__(self, parent: QWidget, words: str, detail: str, act: str, do: Callable[[], None]) -> None:
        super().__init__(parent)
        self.setWindowTitle(words)
        self.setMinimumWidth(480)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(22, 20, 22, 18)
        layout.setSpacing(12)
        layout.addWidget(label(words, "title", wrap=True))
        layout.addWidget(label(detail, "", wrap=True))
        self.act, self.leave = button(act), button(tr("Leave everything as it is"), primary=True)
        self.act.setAutoDefault(False)
        layout.addLayout(line(self.act, self.leave, stretch=0))
        self.leave.setFocus()
        self.leave.clicked.connect(self.reject)
        self.act.clicked.connect(self.accept)
        self.accepted.connect(do)
