"""Above the timeline of a store that is opened only to read: what can be done with it."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout

from good_tide.core.translation import tr
from good_tide.desktop.painting.widgets import OneLine, button
from good_tide.protocol.agent_calls import Overview


class ReadingStrip(QFrame):
    """``bring``: everything is to be brought back as it was at the moment looked at. ``go_on``: its job is to
    go on here."""

    bring = Signal()
    go_on = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("notice")
        self.words = OneLine("strong")
        self.bring_all = button(tr("Bring everything back…"))
        self.take_over = button(tr("Go on with its job here…"))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 6, 10, 6)
        layout.addWidget(self.words, 1)
        layout.addWidget(self.bring_all)
        layout.addWidget(self.take_over)
        self.bring_all.clicked.connect(self.bring)
        self.take_over.clicked.connect(self.go_on)
        self.hide()

    def show_job(self, overview: Overview) -> None:
        """Show it where a store is opened only to read."""
        self.words.setText(
            tr("The history of {machine}, opened only to read.").format(machine=overview.machine)
        )
        self.setVisible(overview.reading)
