"""Adding a store: where, and who may read it."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QHBoxLayout,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.places import Level
from good_tide.core.translation import tr
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, card, label
from good_tide.desktop.setup.disk_rows import PlaceChooser
from good_tide.desktop.setup.secrecy import SecrecyPanel
from good_tide.protocol.faults import Fault
from good_tide.protocol.setup_calls import AddStore, NewStore, OpenToRead, ProposeSetUp


class AddStorePanel(QWidget):
    """Adding a store: where, and who may read it."""

    made = Signal(object)
    opened = Signal(object)
    """A store is opened only to read: whose histories it has (``OpenedView``)."""
    closed = Signal()

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._link = link
        self.place, self.secrecy = PlaceChooser(look, link), SecrecyPanel(look)
        self.trouble = label("", "harm", wrap=True)
        self.add, self.cancel = button(tr("Add this store"), primary=True), button(tr("Cancel"))
        self.read = button(tr("Only read it"))
        self.read.setToolTip(tr("Look into a store of another machine without adding it to this job"))
        frame, layout = card(margin=18, spacing=10)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(frame)
        layout.addWidget(label(tr("Add a store"), "title"))
        layout.addWidget(
            label(
                tr(
                    "On another disk, as a second copy or to move to. A store that is found there is put to"
                    " use again."
                ),
                "quiet",
                wrap=True,
            )
        )
        sides = QHBoxLayout()
        sides.setSpacing(18)
        sides.addWidget(self.place, 3)
        sides.addWidget(self.secrecy, 2)
        layout.addLayout(sides)
        row = QHBoxLayout()
        row.addWidget(self.trouble, 1)
        row.addWidget(self.cancel)
        row.addWidget(self.read)
        row.addWidget(self.add)
        layout.addLayout(row)
        self.place.setMinimumHeight(430)
        self.place.changed.connect(self._changed)
        self.secrecy.changed.connect(self._show)
        self.cancel.clicked.connect(self.closed)
        self.add.clicked.connect(self._add)
        self.read.clicked.connect(self._read)

    def start(self, folders: tuple[str, ...], used: tuple[str, ...]) -> None:
        """Show the disks there are; ``used`` are the folders of the job's stores."""
        self._link.ask(ProposeSetUp(), lambda view: self.secrecy.set_key_ring(view.key_ring))
        self.place.folders, self.place.used = folders, used
        self.place.path.clear()
        self.place.ask()

    def _changed(self) -> None:
        found = self.place.examined
        self.secrecy.holds(
            found is not None and found.holds is not None, None if found is None else found.hint
        )
        self._show()

    def _show(self) -> None:
        bad = next((check for check in self.place.list.checks if check.level is Level.BAD), None)
        missing = (
            f"{bad.what}."
            if bad is not None
            else ""
            if self.place.examined is not None
            else tr("Choose a place.")
        )
        missing = missing or self.secrecy.missing()
        self.trouble.setText(missing)
        self.add.setEnabled(not missing)
        holds = self.place.examined is not None and self.place.examined.holds is not None
        self.read.setVisible(holds)
        self.read.setEnabled(holds and not self.secrecy.missing())

    def _read(self) -> None:
        self._link.ask(OpenToRead(self.place.folder, self.secrecy.value()), self.opened.emit, self._refused)

    def _add(self) -> None:
        store = NewStore(
            self.place.folder,
            self.secrecy.value(),
            self.secrecy.hint.text().strip(),
            self.secrecy.remember.isChecked(),
            self.place.doubts(),
        )
        self.add.setEnabled(False)
        self._link.ask(AddStore(self._link.job, store), self.made.emit, self._refused)

    def _refused(self, fault: Fault) -> None:
        self._show()
        self.trouble.setText(str(fault))
