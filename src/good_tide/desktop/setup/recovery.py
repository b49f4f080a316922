"""Showing a recovery key, once: to be copied, printed, or saved elsewhere than on the store's own disk."""

from __future__ import annotations

import os
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QTextDocument
from PySide6.QtPrintSupport import QPrintDialog, QPrinter
from PySide6.QtWidgets import QFileDialog, QWidget

from good_tide.core.translation import tr
from good_tide.core.words import printable
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.widgets import button, card, centre, label, line
from good_tide.protocol.setup_calls import AreOnSameDisk


class RecoveryPanel(QWidget):
    """Shows a recovery key, once. ``done`` when the person goes on."""

    done = Signal()

    def __init__(self, link: AgentLink) -> None:
        super().__init__()
        self._link = link
        self._store = ""
        frame, layout = card(margin=28, spacing=12)
        frame.setFixedWidth(640)
        self.key = label("", "key", wrap=True)
        self.key.setTextInteractionFlags(
            Qt.TextInteractionFlag.TextSelectableByMouse | Qt.TextInteractionFlag.TextSelectableByKeyboard
        )
        self._words = label("", "", wrap=True)
        self.said = label("", "strong", wrap=True)
        self.save, self.print, self.go_on = (
            button(tr("Save as text…")),
            button(tr("Print…")),
            button(tr("I have it: go on"), primary=True),
        )
        layout.addWidget(label(tr("The recovery key"), "title"))
        layout.addWidget(
            label(
                tr(
                    "It opens the store if the passphrase is lost, on any machine. Copy it by hand, print it,"
                    " or save it elsewhere than on the store's disk. It is not shown again; a new one can be"
                    " made at any time."
                ),
                wrap=True,
            )
        )
        for widget in (self.key, self._words, self.said):
            layout.addWidget(widget)
        layout.addLayout(line(self.save, self.print, self.go_on, stretch=2))
        centre(self, frame)
        self.save.clicked.connect(self._save)
        self.print.clicked.connect(self._print)
        self.go_on.clicked.connect(self._end)

    def show_key(self, key: str, store: str, notes: tuple[str, ...]) -> None:
        """Show the key of the store in a folder."""
        self._store = store
        self.key.setText(key)
        self._words.setText("\n".join([tr("For the store in {store}.").format(store=store), *notes]))
        self.said.clear()

    def _text(self) -> str:
        return tr(
            "Recovery key of the Good Tide store in {store}\n\n    {text}\n\nWhoever has it can read"
            " everything in the store.\n"
        ).format(store=self._store, text=self.key.text())

    def _save(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, tr("Save the recovery key"), tr("recovery key.txt"), "Text (*.txt)"
        )
        if name:
            self.save_to(name)

    def save_to(self, name: str) -> None:
        """Save the key, unless the file would lie on the store's own disk."""

        def answer(same: bool) -> None:
            if same:
                self.said.setText(
                    tr(
                        "That is on the store's own disk: whoever has the disk would have the key. Choose"
                        " another place."
                    )
                )
                return
            try:
                handle = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600)
                with os.fdopen(handle, "w", encoding="utf-8") as file:
                    file.write(self._text())
            except OSError as error:
                self.said.setText(
                    tr("It could not be saved there: {strerror}.").format(
                        strerror=os.strerror(error.errno or 0)
                    )
                )
                return
            self.said.setText(tr("Saved to {fsencode}.").format(fsencode=printable(os.fsencode(Path(name)))))

        self._link.ask(AreOnSameDisk(name, self._store), answer)

    def _print(self) -> None:
        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        if QPrintDialog(printer, self).exec():
            self.print_on(printer)

    def print_on(self, printer: QPrinter) -> None:
        """Print the key."""
        document = QTextDocument()
        document.setPlainText(self._text())
        document.print_(printer)
        self.said.setText(tr("Sent to the printer."))

    def _end(self) -> None:
        self.key.clear()
        self.done.emit()
