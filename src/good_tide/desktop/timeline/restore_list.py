"""What has been picked to bring back, from one or several moments."""

from __future__ import annotations

import os
from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QHeaderView, QTreeWidget, QTreeWidgetItem, QVBoxLayout

from good_tide.core.translation import tr
from good_tide.core.words import count_words, printable, time_words
from good_tide.desktop.painting.widgets import button, label, line
from good_tide.protocol.restore_calls import PickedItem

_ROWS_SHOWN = 6


class _Tree(QTreeWidget):
    """Rows that can be dragged elsewhere.

    :param drag: called when that begins.
    """

    def __init__(self, drag: Callable[[], None]) -> None:
        super().__init__()
        self._drag = drag
        self.setDragEnabled(True)

    def startDrag(self, actions: Qt.DropAction) -> None:  # noqa: N802
        self._drag()


class RestoreList(QFrame):
    """The list, which can be looked into: things are taken off it, or taken from another moment.

    ``plan_wanted``: what is on it is to be planned. ``moment_wanted``: the chosen things are to be taken from
    the moment that is looked at (their numbers on the list).
    """

    plan_wanted = Signal()
    archive_wanted = Signal()
    """What is on it is to be saved as an archive."""
    dragged = Signal(object)
    """Things on it are being dragged elsewhere (``PickedItem``)."""
    moment_wanted = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("attention")
        self.items: list[PickedItem] = []
        self._now = 0
        self._words, self.twice = label("", "quiet"), label("", "harm", wrap=True)
        self.open, self._clear = button(tr("Look into it")), button(tr("Empty the list"))
        self.open.setCheckable(True)
        self._plan = button(tr("Plan restore…"), primary=True)
        self.save = button(tr("Save as archive…"))
        self.tree = _Tree(self._drag)
        self.tree.setHeaderLabels([tr("Name"), tr("As it was"), tr("Where it was")])
        self.tree.setRootIsDecorated(False)
        self.tree.setUniformRowHeights(True)
        self.tree.setSelectionMode(QTreeWidget.SelectionMode.ExtendedSelection)
        self.tree.setAccessibleName(tr("Things on the restore list"))
        self.tree.header().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.off, self.moment = button(tr("Take off the list")), button(tr("Take from the moment looked at"))
        box = QVBoxLayout()
        box.setSpacing(2)
        box.addWidget(label(tr("Restore list"), "strong"))
        box.addWidget(self._words)
        head = QHBoxLayout()
        head.addLayout(box, 1)
        for one in (self.open, self._clear, self.save, self._plan):
            head.addWidget(one)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 14, 10)
        layout.addLayout(head)
        layout.addWidget(self.twice)
        layout.addWidget(self.tree)
        self._row = line(self.off, self.moment, stretch=2)
        layout.addLayout(self._row)
        self._clear.clicked.connect(self.clear)
        self._plan.clicked.connect(self.plan_wanted)
        self.save.clicked.connect(self.archive_wanted)
        self.open.toggled.connect(self._look_into)
        self.off.clicked.connect(self._take_off)
        self.moment.clicked.connect(lambda: self.moment_wanted.emit(self._chosen()))
        self.tree.itemSelectionChanged.connect(self._show_acts)
        self._look_into(False)
        self.hide()

    def add(self, item: PickedItem, now: int) -> None:
        """Put something on the list, once."""
        self._now = now
        if item not in self.items:
            self.items.append(item)
        self._show()

    def replace(self, numbers: list[int], items: list[PickedItem]) -> None:
        """Put other things in the place of some, by their numbers."""
        for number, item in zip(numbers, items, strict=True):
            self.items[number] = item
        self.items = list(dict.fromkeys(self.items))
        self._show()

    def clear(self) -> None:
        """Take everything off the list."""
        self.items = []
        self.open.setChecked(False)
        self.hide()

    def _chosen(self) -> list[int]:
        return sorted(self.tree.indexOfTopLevelItem(item) for item in self.tree.selectedItems())

    def _drag(self) -> None:
        self.dragged.emit([self.items[number] for number in self._chosen()])

    def _take_off(self) -> None:
        gone = set(self._chosen())
        self.items = [item for number, item in enumerate(self.items) if number not in gone]
        if self.items:
            self._show()
        else:
            self.clear()

    def _look_into(self, on: bool) -> None:
        for one in (self.tree, self.off, self.moment):
            one.setVisible(on)
        self.open.setText(tr("Close it") if on else tr("Look into it"))

    def _show_acts(self) -> None:
        for one in (self.off, self.moment):
            one.setEnabled(bool(self.tree.selectedItems()))

    def _show(self) -> None:
        moments: dict[int, int] = {}
        for item in self.items:
            moments[item.time] = moments.get(item.time, 0) + 1
        parts = [
            tr("{count} from {time}").format(
                count=count_words(count, "item"), time=time_words(time, self._now)
            )
            for time, count in sorted(moments.items())
        ]
        more = " " + tr("and {parts} more moments").format(parts=len(parts) - 4) if len(parts) > 4 else ""
        self._words.setText(", ".join(parts[:4]) + more)
        self._words.setToolTip("\n".join(printable(one.path) for one in self.items))
        paths = [item.path for item in self.items]
        twice = sorted({path for path in paths if paths.count(path) > 1})
        names = ", ".join(printable(os.path.basename(path)) for path in twice[:3])
        self.twice.setText(
            tr("On the list from more than one moment: {names}. Where it was, only one can be.").format(
                names=names
            )
            if twice
            else ""
        )
        self.twice.setVisible(bool(twice))
        self.tree.clear()
        for item in self.items:
            row = QTreeWidgetItem(
                [
                    printable(os.path.basename(item.path)),
                    time_words(item.time, self._now),
                    printable(os.path.dirname(item.path)),
                ]
            )
            row.setToolTip(0, printable(item.path))
            row.setData(0, Qt.ItemDataRole.UserRole, item.path)
            self.tree.addTopLevelItem(row)
        self.tree.setFixedHeight(min(_ROWS_SHOWN, len(self.items)) * 26 + 40)
        self._show_acts()
        self.show()
