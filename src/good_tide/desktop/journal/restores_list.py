"""Restores that were made here: what they set aside, gone on with, undone, let go."""

from __future__ import annotations

import os

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QHeaderView, QMessageBox, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from good_tide.core.restoring import RestoreState
from good_tide.core.translation import tr
from good_tide.core.words import count_words, exact_words, number_words, printable, size_words, time_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import align_numbers, button, label, line
from good_tide.protocol.restore_calls import (
    GoOnRestoring,
    LetRestoreGo,
    ReadRestores,
    RestoreMade,
    RestoresView,
    UndoRestore,
)

_STATES = {
    RestoreState.RUNNING: (tr("goes on"), "dusk"),
    RestoreState.DONE: ("done", "kelp"),
    RestoreState.CUT_OFF: (tr("cut off"), "coral"),
    RestoreState.UNDONE: ("undone", "quiet_text"),
    RestoreState.LET_GO: (tr("let go"), "quiet_text"),
}
_MADE = Qt.ItemDataRole.UserRole


class RestoresList(QWidget):
    """The list, and what can be done with the chosen restore."""

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._look, self._link, self._now = look, link, 0
        self.tree = QTreeWidget()
        self.tree.setHeaderLabels([tr("When"), "", tr("What"), tr("Where to"), tr("Set aside")])
        self.tree.setAccessibleName(tr("Restores"))
        self.tree.setRootIsDecorated(False)
        self.tree.setUniformRowHeights(True)
        self.tree.setColumnWidth(0, 160)
        self.tree.setColumnWidth(1, 84)
        self.tree.header().setStretchLastSection(False)
        for column in (2, 3):
            self.tree.header().setSectionResizeMode(column, QHeaderView.ResizeMode.Stretch)
        self.tree.header().setSectionResizeMode(4, QHeaderView.ResizeMode.ResizeToContents)
        align_numbers(self.tree, (4,))
        self.says = label("", "quiet", wrap=True)
        self.go_on = button(tr("Go on with it"), primary=True)
        self.undo = button(tr("Undo…"))
        self.let_go = button(tr("Let go of what was set aside…"))
        self.show_it = button(tr("Show in files"))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        layout.addWidget(self.tree, 1)
        layout.addWidget(self.says)
        layout.addLayout(line(self.show_it, self.undo, self.let_go, self.go_on, stretch=0))
        self.tree.currentItemChanged.connect(lambda now, before: self._show_one())
        self.go_on.clicked.connect(self._go_on)
        self.undo.clicked.connect(self._undo)
        self.let_go.clicked.connect(self._let_go)
        self.show_it.clicked.connect(self._show_in_files)
        self._show_one()

    def refresh(self, now: int) -> None:
        """Ask for the restores."""
        self._now = now
        self._link.ask(ReadRestores(), self._fill)

    def _fill(self, view: RestoresView) -> None:
        chosen = self.chosen
        self.tree.clear()
        for made in view.restores:
            note = made.note
            state, colour = _STATES[note.state]
            targets = [printable(os.fsencode(target)) for target in note.targets]
            aside = f"{count_words(made.files, 'file')}, {size_words(made.size)}" if made.files else ""
            row = QTreeWidgetItem(
                [time_words(note.began, self._now), state, _what(made), ", ".join(targets[:2]), aside]
            )
            row.setData(0, _MADE, made)
            row.setToolTip(0, exact_words(note.began))
            row.setToolTip(2, "\n".join(printable(one.path) for one in note.request.wished[:20]))
            row.setToolTip(3, "\n".join(targets))
            row.setForeground(1, self._look.color(colour))
            row.setTextAlignment(4, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.tree.addTopLevelItem(row)
            if chosen is not None and chosen.note.id == note.id:
                self.tree.setCurrentItem(row)
        first = self.tree.topLevelItem(0)
        if self.chosen is None and first is not None:
            self.tree.setCurrentItem(first)
        self._show_one()

    @property
    def chosen(self) -> RestoreMade | None:
        """The chosen restore."""
        row = self.tree.currentItem()
        made: RestoreMade | None = None if row is None else row.data(0, _MADE)
        return made

    def _show_one(self) -> None:
        made = self.chosen
        state = None if made is None else made.note.state
        self.go_on.setVisible(state is RestoreState.CUT_OFF)
        rests = state in (RestoreState.DONE, RestoreState.CUT_OFF)
        self.undo.setEnabled(made is not None and bool(made.there) and rests)
        self.let_go.setEnabled(made is not None and bool(made.there) and rests)
        self.show_it.setEnabled(made is not None and bool(made.note.targets))
        self.says.setText("" if made is None else _said(made))

    def _go_on(self) -> None:
        made = self.chosen
        if made is not None:
            self._link.ask(GoOnRestoring(made.note.id), lambda done: self.refresh(self._now))

    def _undo(self) -> None:
        made = self.chosen
        if made is None:
            return
        note = made.note
        words = tr(
            "{created} will be removed, and {replaced} put back. What was changed since is left."
        ).format(
            created=count_words(note.created, "restored thing"),
            replaced=count_words(note.replaced + note.strange, "thing"),
        )
        if self._sure(tr("Undo this restore?"), words, tr("Undo it")):
            self._link.ask(UndoRestore(made.there))

    def _let_go(self) -> None:
        made = self.chosen
        if made is None:
            return
        what = f"{count_words(made.files, 'file')}, {size_words(made.size)}"
        words = tr("{what} will be deleted, and this restore cannot be undone any more.").format(what=what)
        if self._sure(tr("Let go of what was set aside?"), words, tr("Delete it")):
            self._link.ask(LetRestoreGo(made.note.id), lambda done: self.refresh(self._now))

    def _sure(self, title: str, words: str, act: str) -> bool:
        """Ask; the safe answer has the focus."""
        box = QMessageBox(self.window())
        box.setWindowTitle(title)
        box.setText(title)
        box.setInformativeText(words)
        do = box.addButton(act, QMessageBox.ButtonRole.DestructiveRole)
        keep = box.addButton(tr("Leave it"), QMessageBox.ButtonRole.RejectRole)
        box.setDefaultButton(keep)
        box.exec()
        return box.clickedButton() is do

    def _show_in_files(self) -> None:
        made = self.chosen
        if made is not None and made.note.targets:
            QDesktopServices.openUrl(QUrl.fromLocalFile(made.note.targets[0]))


def _what(made: RestoreMade) -> str:
    wished = made.note.request.wished
    first = printable(os.path.basename(wished[0].path) or wished[0].path) if wished else ""
    return (
        first
        if len(wished) == 1
        else tr("{first} and {wished} more").format(first=first, wished=number_words(len(wished) - 1))
    )


def _said(made: RestoreMade) -> str:
    """What became of a restore, and what is left of it, in sentences."""
    note = made.note
    match note.state:
        case RestoreState.CUT_OFF:
            rest = tr("What it had brought is there; going on passes it over.")
            return tr("Cut off: {why}. {rest}").format(why=note.why, rest=rest)
        case RestoreState.RUNNING:
            return tr("It goes on.")
        case RestoreState.UNDONE:
            return tr("It was undone.")
        case RestoreState.LET_GO:
            return tr("What it had set aside was deleted; it cannot be undone.")
    done = tr("{created} created, {replaced} replaced").format(
        created=number_words(note.created), replaced=number_words(note.replaced)
    )
    done += (
        ", " + tr("{strange} set aside that were not there then").format(strange=number_words(note.strange))
        if note.strange
        else ""
    )
    if not made.there:
        return tr("{done}. Nothing is left by which it could be undone.").format(done=done)
    kept = (
        " "
        + tr("It keeps {files}, {size}, in {there}").format(
            files=count_words(made.files, "file"), size=size_words(made.size), there=made.there[0]
        )
        if made.files
        else ""
    )
    return f"{done}.{kept}"
