"""What the pages about one store have alike: the way back, a title, a sentence, and which store it is."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from good_tide.core.identifiers import JobId, StoreId
from good_tide.core.translation import tr
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.widgets import button, label, line
from good_tide.protocol.agent_calls import Overview, StoreView
from good_tide.protocol.faults import Fault


class StorePage(QWidget):
    """A page about one store.

    :ivar closed: it is to give way to all stores again.
    """

    closed = Signal()

    def __init__(self, link: AgentLink) -> None:
        super().__init__()
        self._link = link
        self._store, self._job, self._disk, self._now = StoreId(""), JobId(""), "", 0
        self._reading = False
        self.back, self.title = button(tr("‹ All stores")), label("", "title")
        self.sentence = label("", "quiet", wrap=True)
        self.back.clicked.connect(self.closed)

    @property
    def store(self) -> StoreId:
        """The store that is shown."""
        return self._store

    def _outer(self) -> QVBoxLayout:
        """The page's column, which begins with its head."""
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(10)
        head = line(self.back, self.title, self.sentence, spacing=14)
        head.setStretch(2, 1)
        outer.addLayout(head)
        return outer

    def _know(self, view: StoreView, overview: Overview) -> bool:
        """Take notice of the store that is to be shown; whether it is another than before."""
        other = view.id != self._store
        self._store, self._job, self._disk, self._now = view.id, overview.job, view.disk, overview.now
        self._reading = overview.reading
        return other

    def _wrong(self, fault: Fault) -> None:
        self.sentence.setText(str(fault))
