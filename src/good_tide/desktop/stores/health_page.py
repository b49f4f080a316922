"""How well one store is: what has proven it, its packs, what damage costs; and what can be done."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QTreeWidget, QTreeWidgetItem

from good_tide.core.pack_states import PackState, PackView
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words, printable
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.confirm import ConfirmDialog
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import align_numbers, button, card, label, line
from good_tide.desktop.stores.packs_picture import PacksPicture
from good_tide.desktop.stores.store_page import StorePage
from good_tide.protocol.agent_calls import Overview, StoreView
from good_tide.protocol.health_calls import (
    AcceptLoss,
    DamageView,
    HealthView,
    ProveStore,
    ReadHealth,
    RepairStore,
)

_PARITY = tr(
    "Packs carry parity: up to 3 % of each that the disk loses is put right when it is read. Header, keys,"
    " index and snapshots lie on it twice."
)
_NO_PARITY = tr(
    "This store has no parity: what the disk loses of it comes back only from the files as they are now, or"
    " from another store."
)


def _costs_words(one: DamageView) -> str:
    """A damaged file, and what that costs."""
    name = one.file.rpartition("/")[2]
    called = (
        tr("Pack {name}").format(name=name[:8])
        if one.file.startswith("packs/")
        else tr("Snapshot {name}").format(name=name[:8])
        if name
        else one.file
    )
    count = len(one.paths) + one.more
    if not count:
        return tr("{called} is {value}").format(called=called, value=one.harm.value)
    costs = (
        tr("content of {count}").format(count=count_words(count, "file"))
        if one.versions
        else tr("listings of {count}").format(count=count_words(count, "folder"))
    )
    return tr("{called} is {value}: {costs}").format(called=called, value=one.harm.value, costs=costs)


class HealthPage(StorePage):
    """One store's health."""

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__(link)
        self.view: HealthView | None = None
        self.question: ConfirmDialog | None = None
        self.trouble = label("", "harm", wrap=True)
        self.repair = button(tr("Repair"))
        self.repair.setToolTip(
            tr(
                "Bring back what is lost: from parity, the files as they are now, the holding area, and the"
                " job's other stores"
            )
        )
        self.prove = button(tr("Read all of it back now"))
        self.prove.setToolTip(
            tr("Read every stored byte, and restore files by lot for a trial; it can be stopped")
        )
        self.accept = button(tr("Accept the loss…"))
        self.picture = PacksPicture(look)
        self.about = label("", "quiet", wrap=True)
        self.pack_words = label("", "strong", wrap=True)
        self.costs = QTreeWidget()
        self.costs.setHeaderLabels(
            [tr("What is damaged, and whose content it held"), tr("Versions"), tr("Snapshots")]
        )
        self.costs.setColumnWidth(0, 720)
        self.costs.setAccessibleName(tr("What damage costs"))
        align_numbers(self.costs, (1, 2))
        self.well = label(tr("Nothing is lost."), "strong", wrap=True)
        self._lay_out()
        self.repair.clicked.connect(lambda: self._do(RepairStore(self._job, self._store)))
        self.prove.clicked.connect(lambda: self._do(ProveStore(self._job, self._store)))
        self.accept.clicked.connect(self._accept)
        self.picture.picked.connect(self._picked)

    def _lay_out(self) -> None:
        outer = self._outer()
        frame, upper = card(margin=16, spacing=8)
        upper.addWidget(self.trouble)
        row = line(self.about, self.prove, self.accept, self.repair)
        row.setStretch(0, 1)
        upper.addLayout(row)
        outer.addWidget(frame)
        field, packs = card(margin=16, spacing=6)
        packs.addWidget(label(tr("Its packs, those that are known longest first"), "strong"))
        packs.addWidget(self.picture, 1)
        self.pack_words.setMinimumHeight(self.pack_words.fontMetrics().lineSpacing() + 4)
        packs.addWidget(self.pack_words)
        outer.addWidget(field, 3)
        lower, costs = card(margin=16, spacing=6)
        costs.addWidget(label(tr("What is lost"), "strong"))
        costs.addWidget(self.well)
        costs.addWidget(self.costs, 1)
        costs.addStretch()
        outer.addWidget(lower, 2)

    def show_store(self, view: StoreView, overview: Overview) -> None:
        """Show a store, or show it anew."""
        if self._know(view, overview):
            self.view = None
            self.picture.show_packs((), overview.now)
            self.sentence.setText(tr("Looking at its packs…"))
            self.costs.clear()
        self.title.setText(tr("Health of {disk}").format(disk=view.disk))
        for one in (self.repair, self.prove, self.accept):
            one.setVisible(not overview.reading)
        self.ask()

    def ask(self) -> None:
        """Ask for everything anew."""
        self._link.ask(ReadHealth(self._job, self._store), self._show, self._wrong)

    def _do(self, call: RepairStore | ProveStore) -> None:
        self._link.ask(call, lambda done: None, self._wrong)

    def _show(self, view: HealthView) -> None:
        self.view = view
        self.sentence.setText(view.proven)
        self.about.setText(_PARITY if view.parity else _NO_PARITY)
        self.trouble.setText("\n".join(f"{what}. {todo}." for what, todo in view.trouble))
        self.trouble.setVisible(bool(view.trouble))
        self.accept.setVisible(self.accept.isVisibleTo(self) and view.lost)
        self.picture.show_packs(view.packs, self._now)
        self.costs.clear()
        for one in view.damage:
            self.costs.addTopLevelItem(self._row(one))
        self.costs.setVisible(bool(view.damage))
        self.well.setVisible(not view.damage)
        if len(view.damage) == 1 and self.costs.topLevelItem(0) is not None:
            self.costs.expandAll()

    def _row(self, one: DamageView) -> QTreeWidgetItem:
        row = QTreeWidgetItem([_costs_words(one), f"{one.versions:,}", f"{one.snapshots:,}"])
        row.setData(0, Qt.ItemDataRole.UserRole, one.file)
        row.setToolTip(0, f"{one.file}\n{one.harm.advice}.")
        for path in one.paths:
            row.addChild(QTreeWidgetItem([printable(path)]))
        if one.more:
            row.addChild(QTreeWidgetItem([tr("and {more} more").format(more=number_words(one.more))]))
        for number in (1, 2):
            row.setTextAlignment(number, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return row

    def _picked(self, pack: PackView) -> None:
        """Say what a pack is, and show what it costs."""
        self.pack_words.setText(self.picture.words(pack) + ".")
        for number in range(self.costs.topLevelItemCount()):
            row = self.costs.topLevelItem(number)
            if row is not None and str(row.data(0, Qt.ItemDataRole.UserRole)).endswith(pack.name):
                row.setExpanded(True)
                self.costs.setCurrentItem(row)
                self.costs.scrollToItem(row, QTreeWidget.ScrollHint.PositionAtTop)

    def _accept(self) -> None:
        lost = sum(one.state is PackState.LOST for one in self.view.packs) if self.view is not None else 0
        self.question = ConfirmDialog(
            self,
            tr("Accept what is lost on {disk}?").format(disk=self._disk),
            tr(
                "{lost} of the store lost content that is nowhere else. It stays lost and named here; the"
                " status says “well” again. Connect a disk that may have it first, and repair once more."
            ).format(lost=count_words(lost, "pack")),
            tr("Accept the loss"),
            lambda: self._link.ask(AcceptLoss(self._job, self._store), lambda done: self.ask(), self._wrong),
        )
        self.question.open()
