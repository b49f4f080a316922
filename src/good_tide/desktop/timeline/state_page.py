"""Shown in place of the timeline when there is nothing to show."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QLineEdit, QWidget

from good_tide.core.job_facts import StoreState
from good_tide.core.translation import tr
from good_tide.core.words import number_words
from good_tide.desktop.painting.widgets import button, card, centre, label, line
from good_tide.protocol.agent_calls import Overview

_MAY_CHANGE = (StoreState.AWAY, StoreState.DAMAGED, StoreState.REPLACED)
"""States that may be over when somebody looks again."""


class StatePage(QWidget):
    """Shown instead of the timeline when there is nothing to show: says what is so and offers the next
    step."""

    unlock = Signal(str, bool)
    again = Signal()
    go_on = Signal()
    """Go on with the disk that is there in place of the store's."""

    def __init__(self) -> None:
        super().__init__()
        self._card, layout = card(margin=28, spacing=12)
        self._card.setMaximumWidth(560)
        self._title = label("", "title", wrap=True)
        self._words = label("", "", wrap=True)
        self._passphrase = QLineEdit()
        self._passphrase.setEchoMode(QLineEdit.EchoMode.Password)
        self._passphrase.setPlaceholderText(tr("Passphrase or recovery key"))
        self._wrong = label("", "harm", wrap=True)
        self.remember = QCheckBox(tr("Remember it in the key ring"))
        self.open = button(tr("Open the store"), primary=True)
        self.look_again = button(tr("Look again"))
        self.other_disk = button(tr("Go on with this disk…"), primary=True)
        for widget in (self._title, self._words, self._passphrase, self.remember, self._wrong):
            layout.addWidget(widget)
        layout.addLayout(line(self.look_again, self.other_disk, self.open, stretch=0))
        centre(self, self._card)
        self._passphrase.returnPressed.connect(self._try)
        self.open.clicked.connect(self._try)
        self.look_again.clicked.connect(self.again)
        self.other_disk.clicked.connect(self.go_on)
        self.show_state(Overview(StoreState.UNKNOWN))

    def _try(self) -> None:
        self.unlock.emit(self._passphrase.text(), self.remember.isChecked())

    def wrong(self, words: str) -> None:
        """The passphrase did not open the store."""
        self._wrong.setText(words)
        self._wrong.show()
        self._passphrase.selectAll()
        self._passphrase.setFocus()

    def show_state(self, overview: Overview) -> None:
        """Explain a state in which there is no timeline; nothing while none is known."""
        self._card.setVisible(overview.state is not StoreState.UNKNOWN)
        disk = overview.store.disk if overview.store is not None else tr("the disk")
        folder = overview.store.where if overview.store is not None else ""
        hint = overview.store.hint if overview.store is not None else ""
        why = overview.store.why if overview.store is not None else ""
        away = (
            tr("The disk {disk} is not here").format(disk=disk),
            tr(
                "The store is expected in {folder}. Connect the disk: it is noticed by itself, and"
                " everything on it is as it was."
            ).format(folder=folder),
        )
        if why:
            away = (
                tr("{disk} cannot be used now").format(disk=disk),
                tr("{why} It is tried again by itself; everything in {folder} is as it was.").format(
                    why=why, folder=folder
                ),
            )
        pages = {
            StoreState.AWAY: away,
            StoreState.LOCKED: (
                tr("The store on {disk} is locked").format(disk=disk),
                tr("Hint: {hint}").format(hint=hint or tr("none was given")),
            ),
            StoreState.DAMAGED: (tr("The store cannot be read"), "\n".join(overview.trouble)),
            StoreState.REPLACED: (
                tr("The store on {disk} is not there any more").format(disk=disk),
                (
                    tr(
                        "There is another disk in {folder}, or it was emptied. Connect the old disk, and"
                        " everything is as it was; or go on with the one that is there now. Snapshots are"
                        " kept on this machine meanwhile."
                    ).format(folder=folder)
                ),
            ),
            StoreState.CATCHING_UP: (tr("Reading history"), _reading_words(*overview.history_read)),
            StoreState.EMPTY: (
                tr("No snapshot yet"),
                tr("“Take snapshot” above takes the first one. Then the timeline begins here."),
            ),
        }
        title, words = pages.get(overview.state, ("", ""))
        self._title.setText(title)
        self._words.setText(words)
        locked = overview.state is StoreState.LOCKED
        for widget in (self._passphrase, self.remember, self.open):
            widget.setVisible(locked)
        self._wrong.hide()
        self.look_again.setVisible(overview.state in _MAY_CHANGE)
        self.other_disk.setVisible(overview.state is StoreState.REPLACED)


def _reading_words(done: int, total: int) -> str:
    far = (
        tr("{done} of {total} snapshots.").format(done=number_words(done), total=number_words(total)) + " "
        if total
        else ""
    )
    return tr(
        "{far}This is done once on each machine, so that looking back is quick. You can leave the window; it"
        " goes on."
    ).format(far=far)
