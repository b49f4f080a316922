"""The items of a restore plan as a tree: each folder with counts; items can be taken out."""

from __future__ import annotations

import os
from collections import Counter

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QComboBox, QHeaderView, QTreeWidget, QTreeWidgetItem, QTreeWidgetItemIterator

from good_tide.core.identifiers import JobId, PlanId
from good_tide.core.restoring import Action, PlanItem
from good_tide.core.translation import tr
from good_tide.core.words import number_words, printable, size_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import LIGHT, Palette
from good_tide.desktop.painting.widgets import align_numbers, is_listed
from good_tide.protocol.restore_calls import PlanItems, PlanView, ReadPlanItems

WORDS = {
    Action.CREATE: tr("will be created"),
    Action.REPLACE: tr("will replace; what is there now is set aside"),
    Action.IDENTICAL: tr("is identical"),
    Action.SKIP: tr("is left as it is"),
    Action.BLOCKED: tr("cannot be restored"),
    Action.ASIDE: tr("is set aside"),
}
SHORT = {
    Action.CREATE: tr("to create"),
    Action.REPLACE: tr("to replace"),
    Action.ASIDE: tr("to set aside"),
    Action.IDENTICAL: "identical",
    Action.SKIP: tr("left as they are"),
    Action.BLOCKED: tr("not possible"),
}
_ITEM = Qt.ItemDataRole.UserRole


def counted(counts: dict[Action, int]) -> str:
    """Counts of what happens in words: ``3 to create, 1 identical``."""
    return ", ".join(f"{counts[action]:,} {words}" for action, words in SHORT.items() if counts.get(action))


class ActionFilter(QComboBox):
    """Which items are listed, by what happens to them; with their numbers."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName(tr("Which items are listed"))

    def offer(self, counts: dict[Action, int]) -> None:
        """Offer what there is in a plan; what was chosen stays chosen, where there is any."""
        chosen = self.chosen()
        self.blockSignals(True)
        self.clear()
        self.addItem(tr("All {sum}").format(sum=number_words(sum(counts.values()))), None)
        for action, words in SHORT.items():
            if counts.get(action):
                self.addItem(f"{counts[action]:,} {words}", action)
        self.setCurrentIndex(max(0, self.findData(chosen)) if chosen is not None else 0)
        self.blockSignals(False)

    def chosen(self) -> Action | None:
        """The action whose items are listed; None: all are."""
        data = self.currentData()
        return None if data is None else Action(data)


class PlanItemsView(QTreeWidget):
    """Folders are asked for when they are opened. ``changed``: something was taken out, or put in again."""

    changed = Signal()

    def __init__(self, link: AgentLink, look: Palette = LIGHT) -> None:
        super().__init__()
        self._link, self._look = link, look
        self._job, self._plan = JobId(""), PlanId(-1)
        self._only: Action | None = None
        self._out: set[bytes] = set()
        self.base = b""
        """The folder that all of the items are below."""
        self.setHeaderLabels([tr("Item"), tr("What happens"), tr("To write")])
        self.header().setStretchLastSection(False)
        self.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        align_numbers(self, (2,))
        self.setUniformRowHeights(True)
        self.setAccessibleName(tr("Items of the restore plan"))
        self.itemExpanded.connect(self._unfold)
        self._soon = QTimer(
            self, singleShot=True, interval=0
        )  # a folder's mark changes those of all below it
        self._soon.timeout.connect(self._checked)
        self.itemChanged.connect(lambda row, column: self._soon.start())

    def show_plan(self, job: JobId, view: PlanView, only: Action | None) -> None:
        """Show a plan from its top; what was taken out of the one before is put in again."""
        self._job, self._plan, self._only, self._out = job, view.plan, only, set()
        self._fill_top(view.top)

    def _fill_top(self, top: PlanItems) -> None:
        paths = [item.path for item in top.items]
        self.base = os.path.commonpath(paths) if paths else b""
        if len(paths) == 1 or self.base in paths:
            self.base = os.path.dirname(self.base)
        self.blockSignals(True)
        self.clear()
        self._add(None, top)
        if len(paths) == 1 and self.topLevelItemCount():
            self.topLevelItem(0).setExpanded(True)  # type: ignore[union-attr]
        self.blockSignals(False)
        self.setColumnWidth(1, 290)
        if len(paths) == 1 and self.topLevelItemCount():
            row = self.topLevelItem(0)
            if row is not None:
                self._unfold(row)

    def list_only(self, only: Action | None) -> None:
        """List only items with an action, and the folders on the way to them."""
        self._only = only
        plan = self._plan

        def came(top: PlanItems) -> None:
            if (plan, only) == (self._plan, self._only):
                self._fill_top(top)

        self._link.ask(ReadPlanItems(self._job, plan, None, only), came)

    def _add(self, above: QTreeWidgetItem | None, items: PlanItems) -> None:
        below = self.base if above is None else self._item(above).path
        rows = []
        for item in items.items:
            row = QTreeWidgetItem([self._shown(item, below), self._happens(item), self._size(item)])
            row.setData(0, _ITEM, item)
            row.setToolTip(0, printable(item.path))
            row.setToolTip(1, row.text(1))
            row.setTextAlignment(2, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            row.setFlags(row.flags() | Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsAutoTristate)
            out = self._is_out(item.path)
            row.setCheckState(0, Qt.CheckState.Unchecked if out else Qt.CheckState.Checked)
            if item.action is Action.BLOCKED:
                row.setForeground(1, self._look.color("coral"))
            if item.folder and sum(item.counts.values()) > 1:
                row.setChildIndicatorPolicy(QTreeWidgetItem.ChildIndicatorPolicy.ShowIndicator)
            rows.append(row)
        if items.more:
            more = QTreeWidgetItem([tr("{more} more are not listed").format(more=number_words(items.more))])
            more.setFlags(Qt.ItemFlag.ItemIsEnabled)
            rows.append(more)
        if above is None:
            self.addTopLevelItems(rows)
        else:
            above.addChildren(rows)

    @staticmethod
    def _item(row: QTreeWidgetItem) -> PlanItem:
        item: PlanItem = row.data(0, _ITEM)
        return item

    def _shown(self, item: PlanItem, below: bytes) -> str:
        return printable(item.path[len(below) :].lstrip(b"/") or os.path.basename(item.path))

    @staticmethod
    def _happens(item: PlanItem) -> str:
        below = Counter(item.counts)
        below[item.action] -= 1
        inside = counted({action: count for action, count in below.items() if count > 0})
        if item.folder and inside:
            own = {Action.IDENTICAL: "", Action.CREATE: "created, "}.get(
                item.action, f"{WORDS[item.action]}, "
            )
            return tr("{own}in it {inside}").format(own=own, inside=inside)
        return WORDS[item.action] + (f": {item.note}" if item.note else "")

    @staticmethod
    def _size(item: PlanItem) -> str:
        return size_words(item.size) if item.size else ""

    def _is_out(self, path: bytes) -> bool:
        return path in self._out or any(path.startswith(out.rstrip(b"/") + b"/") for out in self._out)

    def _unfold(self, row: QTreeWidgetItem) -> None:
        if row.childCount() or row.data(0, _ITEM) is None:
            return
        item = self._item(row)

        def came(items: PlanItems) -> None:
            if is_listed(row) and not row.childCount():
                self.blockSignals(True)
                self._add(row, items)
                self.blockSignals(False)

        call = ReadPlanItems(self._job, self._plan, item.number, self._only)
        self._link.ask(call, came)

    def _checked(self) -> None:
        """What is taken out: the topmost rows that are not marked, and those that were and are not listed."""
        listed: set[bytes] = set()
        out: set[bytes] = set()
        walk = QTreeWidgetItemIterator(self)
        while (row := walk.value()) is not None:
            if row.data(0, _ITEM) is not None:
                path = self._item(row).path
                listed.add(path)
                above = row.parent()
                if row.checkState(0) is Qt.CheckState.Unchecked and (
                    above is None or above.checkState(0) is not Qt.CheckState.Unchecked
                ):
                    out.add(path)
            walk += 1
        hidden = {path for path in self._out if path not in listed}
        self._out = out | {path for path in hidden if not self._within(path, out)}
        self.changed.emit()

    @staticmethod
    def _within(path: bytes, out: set[bytes]) -> bool:
        return any(path.startswith(one.rstrip(b"/") + b"/") for one in out)

    def without(self) -> tuple[bytes, ...]:
        """The items that were taken out; all below them is out as well."""
        return tuple(sorted(self._out))

    def taken_out(self) -> tuple[Counter[Action], int]:
        """What is not done because of it, and how many bytes are not written, as far as it is listed."""
        counts: Counter[Action] = Counter()
        size = 0
        walk = QTreeWidgetItemIterator(self)
        while (row := walk.value()) is not None:
            if row.data(0, _ITEM) is not None and self._item(row).path in self._out:
                counts.update(self._item(row).counts)
                size += self._item(row).size
            walk += 1
        return counts, size
