"""Going on with the disk that is there now, where a store's own was replaced or emptied."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QDialog, QLineEdit, QVBoxLayout, QWidget

from good_tide.core.identifiers import StoreId
from good_tide.core.translation import tr
from good_tide.core.words import count_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.widgets import button, label, line
from good_tide.protocol.faults import Fault
from good_tide.protocol.replacing_calls import LookAtReplaced, ReplacedView, ReplaceStore
from good_tide.protocol.setup_calls import MadeView


class ReplaceDialog(QDialog):
    """Says what is in the place of a store and what will be done, asks for what passphrases are needed, and
    begins it. ``made``: it was begun (``MadeView``)."""

    made = Signal(object)

    def __init__(self, link: AgentLink, store: StoreId, parent: QWidget) -> None:
        super().__init__(parent)
        self._link, self._job, self._store = link, link.job, store
        self.setWindowTitle(tr("Go on with this disk"))
        self.setMinimumWidth(560)
        self.what, self.then = label("", "", wrap=True), label("", "quiet", wrap=True)
        self.passphrase, self.of_other = QLineEdit(), QLineEdit()
        for field in (self.passphrase, self.of_other):
            field.setEchoMode(QLineEdit.EchoMode.Password)
            field.hide()
        self.hint, self.trouble = label("", "small", wrap=True), label("", "harm", wrap=True)
        self.leave, self.go_on = button(tr("Not now")), button(tr("Go on with this disk"), primary=True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(22, 20, 22, 18)
        layout.setSpacing(10)
        layout.addWidget(label(tr("Go on with the disk that is there now?"), "title", wrap=True))
        for widget in (self.what, self.then, self.passphrase, self.of_other, self.hint, self.trouble):
            layout.addWidget(widget)
        layout.addLayout(line(self.leave, self.go_on, stretch=0))
        self.go_on.setEnabled(False)
        self.leave.clicked.connect(self.reject)
        self.go_on.clicked.connect(self._go_on)
        for field in (self.passphrase, self.of_other):
            field.textChanged.connect(lambda words: self._show())
        self._view = ReplacedView("")
        link.ask(LookAtReplaced(self._job, store), self._take, self._refused)

    def _take(self, view: ReplacedView) -> None:
        self._view = view
        self.what.setText(
            tr("Another store lies in {where}. It is used from now on, with what is in it.").format(
                where=view.where
            )
            if view.other
            else tr("There is no store in {where} any more. A new one is made there,").format(
                where=view.where
            )
            + (
                " " + tr("with the passphrase of the old one.")
                if view.encrypted
                else " " + tr("not encrypted, as the old one was.")
            )
        )
        waits = (
            tr("{waiting} that {words} on this machine for the old disk then {words_2} into it.").format(
                waiting=count_words(view.waiting, "snapshot"),
                words="waits" if view.waiting == 1 else "wait",
                words_2="comes" if view.waiting == 1 else "come",
            )
            + " "
            if view.waiting
            else ""
        )
        self.then.setText(
            tr(
                "First a snapshot is taken. {waits}Older history is on the old disk only: keep that disk if"
                " you have it."
            ).format(waits=waits)
        )
        self._ask_for(self.passphrase, tr("Passphrase of the old store"), view.encrypted and not view.known)
        self._ask_for(
            self.of_other,
            tr("Passphrase of the store that is there (empty: the same)"),
            view.other_hint is not None,
        )
        hints = [tr("Hint: {one}").format(one=one) for one in (view.hint, view.other_hint) if one]
        self.hint.setText("\n".join(dict.fromkeys(hints)))
        self.hint.setVisible(bool(hints) and not (self.passphrase.isHidden() and self.of_other.isHidden()))
        self._show()
        self.adjustSize()

    @staticmethod
    def _ask_for(field: QLineEdit, words: str, wanted: bool) -> None:
        field.setPlaceholderText(words)
        field.setAccessibleName(words)
        field.setVisible(wanted)

    def _show(self) -> None:
        missing = not self.passphrase.isHidden() and not self.passphrase.text()
        self.go_on.setEnabled(bool(self._view.where) and not missing)

    def _go_on(self) -> None:
        self.trouble.clear()
        self.go_on.setEnabled(False)
        call = ReplaceStore(self._job, self._store, self.passphrase.text(), self.of_other.text())
        self._link.ask(call, self._made, self._refused)

    def _made(self, made: MadeView) -> None:
        self.accept()
        self.made.emit(made)

    def _refused(self, fault: Fault) -> None:
        self.trouble.setText(str(fault))
        self._show()
