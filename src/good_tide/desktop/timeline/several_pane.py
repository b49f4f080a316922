"""Several rows that are chosen together."""

from __future__ import annotations

import os

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QListWidget, QVBoxLayout, QWidget

from good_tide.core.translation import tr
from good_tide.core.words import count_words, printable
from good_tide.desktop.painting.widgets import button, label


class SeveralPane(QWidget):
    """Lists what is chosen, as it was at the moment that is looked at. ``bring``, ``gather`` and ``archive``
    have the paths."""

    bring = Signal(object)
    gather = Signal(object)
    archive = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self._paths: list[bytes] = []
        self.title, self.moment = label("", "title", wrap=True), label("", "quiet", wrap=True)
        self.names = QListWidget()
        self.names.setAccessibleName(tr("What is chosen together"))
        self.back, self.list_it = (
            button(tr("Bring these back…"), primary=True),
            button(tr("Add them to the restore list")),
        )
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 14, 14, 14)
        layout.setSpacing(6)
        layout.addWidget(self.title)
        layout.addWidget(self.moment)
        layout.addWidget(self.names, 1)
        layout.addWidget(self.back)
        layout.addWidget(self.list_it)
        self.save = button(tr("Save as archive…"))
        self.save.clicked.connect(lambda: self.archive.emit(list(self._paths)))
        layout.addWidget(self.save)
        self.back.clicked.connect(lambda: self.bring.emit(list(self._paths)))
        self.list_it.clicked.connect(lambda: self.gather.emit(list(self._paths)))

    def show_paths(self, paths: list[bytes], moment: str) -> None:
        """Show what is chosen, and the moment in words."""
        self.moment.setText(tr("As they were {moment}.").format(moment=moment))
        if paths == self._paths:
            return
        self._paths = paths
        self.title.setText(tr("{paths} chosen").format(paths=count_words(len(paths), "thing")))
        self.names.clear()
        for path in paths:
            self.names.addItem(printable(os.path.basename(path)))
            item = self.names.item(self.names.count() - 1)
            if item is not None:
                item.setToolTip(printable(path))
