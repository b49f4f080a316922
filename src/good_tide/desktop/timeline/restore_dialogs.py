"""The restore plan."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QDialog,
    QFileDialog,
    QLineEdit,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.identifiers import PlanId
from good_tide.core.restoring import Action, Existing, Extent
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words, printable, size_words, time_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.widgets import button, label, line
from good_tide.desktop.timeline.plan_items import ActionFilter, PlanItemsView, counted
from good_tide.protocol.faults import Fault
from good_tide.protocol.restore_calls import PickedItem, PlanRestore, PlanView

_EXTENTS = (
    (tr("All of it"), Extent.ALL),
    (tr("Only what is not there now"), Extent.MISSING),
    (tr("Only what changed since"), Extent.CHANGED),
    (tr("Exactly as it was: what was not there then is set aside"), Extent.EXACTLY),
)
_EXISTING = (
    (tr("Set it aside (can be undone)"), Existing.SET_ASIDE),
    (tr("Leave it and skip the item"), Existing.SKIP),
    (tr("Keep both, the restored one renamed"), Existing.KEEP_BOTH),
)


def _home_of(items: Sequence[PickedItem]) -> str:
    """The home that things were in, as far as their paths tell: the folder below ``/home`` that they share,
    or the folder above them."""
    paths = [os.fsdecode(item.path) for item in items]
    shared = os.path.commonpath(paths) if paths else ""
    parts = Path(shared).parts
    if len(parts) > 2 and parts[1] == "home":
        return str(Path(*parts[:3]))
    return os.path.dirname(shared) if len(paths) == 1 else shared


class PlanDialog(QDialog):
    """What a restore would do, item by item, before it is done. Accepted: carry ``plan`` of ``job`` out."""

    def __init__(
        self,
        link: AgentLink,
        items: Sequence[PickedItem],
        now: int,
        parent: QWidget | None = None,
        extent: Extent = Extent.ALL,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Restore plan"))
        self.resize(760, 560)
        self.plan: PlanId | None = None
        self._view: PlanView | None = None
        self.job = link.job
        self._link, self._items = link, tuple(items)
        self._asked = 0
        first = self._items[0]
        what = printable(os.path.basename(first.path)) if len(items) == 1 else count_words(len(items), "item")
        self._where = QButtonGroup(self)
        self._back = QRadioButton(tr("Where it was"))
        self._else = QRadioButton(tr("In another folder:"))
        self._back.setChecked(True)
        self._where.addButton(self._back, 0)
        self._where.addButton(self._else, 1)
        self._moved = QRadioButton(tr("In another home: what was below"))
        self._where.addButton(self._moved, 2)
        self._old_home, self._new_home = QLineEdit(_home_of(self._items)), QLineEdit(str(Path.home()))
        for field, words in (
            (self._old_home, tr("The home as it was")),
            (self._new_home, tr("The home here")),
        ):
            field.setAccessibleName(words)
            field.setEnabled(False)
            field.editingFinished.connect(self._ask)
        self._folder = QLineEdit()
        self._folder.setPlaceholderText(tr("A folder to restore into"))
        self._folder.setEnabled(False)
        self._choose = button(tr("Choose…"))
        self._extent = QComboBox()
        self._extent.setAccessibleName(tr("How much is brought back"))
        for words, much in _EXTENTS:
            self._extent.addItem(words, much)
        self._extent.setCurrentIndex(self._extent.findData(extent))
        self._existing = QComboBox()
        for words, value in _EXISTING:
            self._existing.addItem(words, value)
        self._summary = label(tr("Working out what would happen…"), "strong", wrap=True)
        self._notes = label("", "quiet", wrap=True)
        self.items = PlanItemsView(link)
        self.filter = ActionFilter()
        self._cancel = button(tr("Do nothing"))
        self._go = button(tr("Restore now"), primary=True)
        self._go.setEnabled(False)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 18, 20, 18)
        layout.setSpacing(10)
        when = (
            time_words(first.time, now)
            if len({item.snapshot for item in items}) == 1
            else tr("several moments")
        )
        layout.addWidget(
            label(tr("Restore {what} from {when}").format(what=what, when=when), "title", wrap=True)
        )
        layout.addLayout(line(self._back, self._else, self._folder, self._choose))
        layout.addLayout(line(self._moved, self._old_home, label(tr("goes below")), self._new_home))
        layout.addLayout(line(label(tr("How much:")), self._extent, stretch=2))
        layout.addLayout(line(label(tr("What is there now:")), self._existing, stretch=2))
        layout.addLayout(line(self._summary, self.filter))
        layout.addWidget(self.items, 1)
        layout.addWidget(self._notes)
        layout.addLayout(line(self._cancel, self._go, stretch=0))
        self._where.idClicked.connect(self._where_changed)
        self._folder.editingFinished.connect(self._ask)
        self._choose.clicked.connect(self._choose_folder)
        self._existing.currentIndexChanged.connect(self._ask)
        self._extent.currentIndexChanged.connect(self._ask)
        self.filter.currentIndexChanged.connect(lambda: self.items.list_only(self.filter.chosen()))
        self.items.changed.connect(self._show_sums)
        self._cancel.clicked.connect(self.reject)
        self._go.clicked.connect(self.accept)
        self._cancel.setFocus()
        self._ask()

    def _where_changed(self, choice: int) -> None:
        self._folder.setEnabled(choice == 1)
        for field in (self._old_home, self._new_home):
            field.setEnabled(choice == 2)
        if choice == 1 and not self._folder.text():
            self._folder.setFocus()
            self._summary.setText(tr("Name the folder to restore into."))
            self._go.setEnabled(False)
        else:
            self._ask()

    def _choose_folder(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, tr("Restore into"))
        if chosen:
            self.restore_into(chosen)

    def restore_home(self, old: str, new: str) -> None:
        """Plan for another home than that in which things were."""
        self._old_home.setText(old)
        self._new_home.setText(new)
        self._moved.setChecked(True)
        self._where_changed(2)

    def restore_into(self, folder: str) -> None:
        """Plan for another folder than where things were."""
        self._else.setChecked(True)
        self._folder.setEnabled(True)
        self._folder.setText(folder)
        self._ask()

    def _ask(self) -> None:
        into = self._folder.text().strip() if self._else.isChecked() else ""
        if self._else.isChecked() and not into:
            return
        self._go.setEnabled(False)
        self._summary.setText(tr("Working out what would happen…"))
        much = Extent(self._extent.currentData())
        self._existing.setEnabled(much is not Extent.MISSING)
        old, new = (os.path.normpath(field.text().strip()) for field in (self._old_home, self._new_home))
        homes = ((os.fsencode(old), os.fsencode(new)),) if self._moved.isChecked() else ()
        call = PlanRestore(self.job, self._items, into, self._existing.currentData(), much, homes)
        self._asked += 1
        asked = self._asked
        self._link.ask(call, lambda plan: self._show(plan, asked), lambda fault: self._fail(fault, asked))

    def _fail(self, fault: Fault, asked: int) -> None:
        if asked == self._asked:
            self._summary.setText(str(fault))

    def _show(self, plan: PlanView, asked: int) -> None:
        if asked != self._asked:
            return
        self.plan, self._view = plan.plan, plan
        self.filter.offer(plan.counts)
        self.items.show_plan(self.job, plan, None)
        self.filter.setCurrentIndex(0)
        self._show_sums()
        self._notes.setText("\n".join([f"In {printable(self.items.base)}", *plan.notes]))

    @property
    def without(self) -> tuple[bytes, ...]:
        """Items that were taken out of the plan."""
        return self.items.without()

    def _show_sums(self) -> None:
        """What would be done in numbers, without what was taken out."""
        view = self._view
        if view is None:
            return
        out, size = self.items.taken_out()
        counts = {action: count - out[action] for action, count in view.counts.items()}
        words = counted(counts)
        work = sum(counts.get(action, 0) for action in (Action.CREATE, Action.REPLACE, Action.ASIDE))
        less = " " + tr("{sum} taken out.").format(sum=number_words(sum(out.values()))) if out else ""
        self._summary.setText(
            tr("{words}. {bytes} to write.{less}").format(
                words=words, bytes=size_words(view.bytes - size), less=less
            )
            if work
            else tr("Nothing to do: {words}.{less}").format(words=words or tr("nothing there"), less=less)
        )
        self._go.setEnabled(work > 0)
