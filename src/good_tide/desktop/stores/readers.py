"""Who may read a store, and changing it."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QDialog, QLineEdit, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from good_tide.core.translation import tr
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, label, line
from good_tide.desktop.setup.secrecy import SecrecyPanel
from good_tide.protocol.agent_calls import StoreView
from good_tide.protocol.faults import Fault
from good_tide.protocol.setup_calls import MadeView
from good_tide.protocol.store_calls import (
    AddPassphrase,
    AddRecoveryKey,
    ChangePassphrase,
    ListSlots,
    RevokeSlot,
    SlotView,
    StoreCall,
)


class ReadersDialog(QDialog):
    """Who may read a store: its slots; changing the passphrase, adding and revoking ways to open it."""

    recovery = Signal(object)

    def __init__(self, look: Palette, link: AgentLink, store: StoreView, parent: QWidget) -> None:
        super().__init__(parent)
        self._link, self._job, self._store = link, link.job, store.id
        self.setWindowTitle(tr("Who may read the store"))
        self.resize(620, 560)
        self.slots = QTreeWidget()
        self.slots.setHeaderLabels(["", tr("Opens with"), tr("Hint")])
        self.slots.setRootIsDecorated(False)
        self.slots.setAccessibleName(tr("Ways to open the store"))
        self.slots.setColumnWidth(0, 40)
        self.slots.setColumnWidth(1, 160)
        self.slots.setFixedHeight(130)
        self.revoke, self.another = button(tr("Revoke the chosen one")), button(tr("New recovery key"))
        self.old = QLineEdit()
        self.old.setEchoMode(QLineEdit.EchoMode.Password)
        self.old.setPlaceholderText(tr("Passphrase or recovery key now"))
        self.old.setAccessibleName(tr("Passphrase or recovery key now"))
        self.new = SecrecyPanel(look)
        for widget in (self.new.sealed, self.new.open, self.new.sentence):
            widget.hide()
        self.change, self.further = (
            button(tr("Change the passphrase"), primary=True),
            button(tr("Add as a further one")),
        )
        self.said = label("", "strong", wrap=True)
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 18, 20, 18)
        column.setSpacing(9)
        column.addWidget(
            label(tr("Ways to open the store in {where}").format(where=store.where), "strong", wrap=True)
        )
        column.addWidget(self.slots)
        column.addLayout(line(self.revoke, self.another, stretch=2))
        column.addWidget(
            label(
                tr("A new passphrase; no data is rewritten. The old one no longer opens the store."),
                "small",
                wrap=True,
            )
        )
        column.addWidget(self.old)
        column.addWidget(self.new)
        column.addLayout(line(self.further, self.change, stretch=0))
        column.addWidget(self.said)
        self.revoke.clicked.connect(self._revoke)
        self.another.clicked.connect(lambda: self._act(AddRecoveryKey(self._job, self._store)))
        self.change.clicked.connect(self._change)
        self.further.clicked.connect(self._add)
        self.new.changed.connect(self._show)
        self.old.textChanged.connect(lambda words: self._show())
        self.slots.currentItemChanged.connect(lambda now, before: self._show())
        self._show()
        self._ask()

    def _change(self) -> None:
        new, hint, remember = self._new()
        self._act(ChangePassphrase(self._job, self._store, self.old.text(), new, hint, remember))

    def _add(self) -> None:
        new, hint, _ = self._new()
        self._act(AddPassphrase(self._job, self._store, new, hint))

    def _new(self) -> tuple[str, str, bool]:
        """The new passphrase, its hint, and whether it is to be remembered."""
        return self.new.passphrase.text(), self.new.hint.text().strip(), self.new.remember.isChecked()

    def _ask(self) -> None:
        self._link.ask(ListSlots(self._job, self._store), self._fill)

    def _fill(self, slots: list[SlotView]) -> None:
        self.slots.clear()
        for slot in slots:
            kind = {"passphrase": tr("Passphrase"), "recovery": tr("Recovery key")}.get(slot.kind, slot.kind)
            item = QTreeWidgetItem([str(slot.number), kind, slot.hint])
            item.setData(0, Qt.ItemDataRole.UserRole, slot.number)
            self.slots.addTopLevelItem(item)
        self._show()

    def _show(self) -> None:
        missing = self.new.missing()
        self.change.setEnabled(bool(self.old.text()) and not missing)
        self.further.setEnabled(not missing)
        self.revoke.setEnabled(self.slots.currentItem() is not None and self.slots.topLevelItemCount() > 1)

    def _revoke(self) -> None:
        item = self.slots.currentItem()
        if item is not None:
            self._act(RevokeSlot(self._job, self._store, item.data(0, Qt.ItemDataRole.UserRole)))

    def _act(self, call: StoreCall[MadeView]) -> None:
        self._link.ask(call, self._done, self._refused)

    def _done(self, made: MadeView) -> None:
        self.said.setText(". ".join(made.notes) + ".")
        for field in (self.old, self.new.passphrase, self.new.again, self.new.hint):
            field.clear()
        if made.recovery_key is not None:
            self.accept()
            self.recovery.emit(made)
            return
        self._ask()

    def _refused(self, fault: Fault) -> None:
        self.said.setText(str(fault))
