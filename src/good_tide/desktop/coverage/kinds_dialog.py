"""The kinds of files: what each catches, by its endings and here; further endings, and kinds of one's own."""

from __future__ import annotations

import re

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QDialog,
    QHeaderView,
    QLineEdit,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.errors import PersonError
from good_tide.core.kinds import checked_kinds, extended
from good_tide.core.translation import tr
from good_tide.core.words import size_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import align_numbers, button, label, line
from good_tide.protocol.coverage_calls import KeepKinds, KindView, ReadKinds
from good_tide.protocol.faults import Fault

_WORD = Qt.ItemDataRole.UserRole


def _endings(text: str) -> tuple[str, ...]:
    """Endings as they are typed: with or without dots, between blanks or commas."""
    found = [one.lower().lstrip("*").lstrip(".") for one in re.split(r"[\s,;]+", text) if one.strip(".*")]
    return tuple(dict.fromkeys(found))


class KindsDialog(QDialog):
    """Shows the kinds, and keeps what a job adds to them.

    :ivar kept: the additions were kept.
    """

    kept = Signal()

    def __init__(self, look: Palette, link: AgentLink, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Kinds of files"))
        self.setMinimumSize(720, 480)
        self._look, self._link, self._job = look, link, link.job
        self._views: list[KindView] = []
        self.own: dict[str, tuple[str, ...]] = {}
        self.tree = QTreeWidget()
        self.tree.setHeaderLabels([tr("Kind"), tr("Files here"), tr("Size"), tr("Catches")])
        self.tree.setRootIsDecorated(False)
        self.tree.setAccessibleName(tr("Kinds of files, and what each catches"))
        align_numbers(self.tree, (1, 2))
        for column, wide in enumerate((150, 85, 95)):
            self.tree.setColumnWidth(column, wide)
        self.tree.header().setSectionResizeMode(3, QHeaderView.ResizeMode.Stretch)
        self.whole = label("", "small", wrap=True)
        self.more = QLineEdit()
        self.more.setAccessibleName(tr("Further endings of the chosen kind"))
        self.more_words = label(tr("Further endings"), "strong")
        self.name, self.endings = QLineEdit(), QLineEdit()
        for field, words, example in (
            (self.name, tr("A new kind"), "scores"),
            (self.endings, tr("Its endings"), "musx mscz"),
        ):
            field.setAccessibleName(words)
            field.setPlaceholderText(tr("{words}, such as {example}").format(words=words, example=example))
        self.add = button(tr("Add this kind"))
        self.remove = button(tr("Remove it"))
        self.trouble = label("", "harm", wrap=True)
        self.trouble.hide()
        self.leave, self.keep = button(tr("Cancel")), button(tr("Keep"), primary=True)
        self._lay_out()
        self.tree.currentItemChanged.connect(lambda now, before: self._chosen())
        self.more.textEdited.connect(self._typed)
        self.add.clicked.connect(self._add)
        self.endings.returnPressed.connect(self._add)
        self.remove.clicked.connect(self._remove)
        self.leave.clicked.connect(self.reject)
        self.keep.clicked.connect(self._keep)
        self.add.setAutoDefault(False)
        self.remove.setAutoDefault(False)
        self._link.ask(ReadKinds(self._job), self._show, self._wrong)

    def _lay_out(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(20, 18, 20, 18)
        column.setSpacing(10)
        column.addWidget(
            label(
                tr(
                    "Rules can name a kind. A file is of a kind by its ending or its whole name, not by what"
                    " is in it."
                ),
                "quiet",
                wrap=True,
            )
        )
        column.addWidget(self.tree, 1)
        column.addWidget(self.whole)
        row = line(self.more_words, self.more, self.remove)
        row.setStretch(1, 1)
        column.addLayout(row)
        row = line(self.name, self.endings, self.add)
        row.setStretch(0, 2)
        row.setStretch(1, 3)
        column.addLayout(row)
        column.addWidget(self.trouble)
        column.addLayout(line(self.leave, self.keep, stretch=0))

    def _wrong(self, fault: Fault) -> None:
        self.trouble.setText(str(fault))
        self.trouble.show()

    def _show(self, views: list[KindView]) -> None:
        self._views = views
        self.own = {view.word: view.own for view in views if view.own or not view.everybody}
        self._fill(views[0].word if views else "")

    def _fill(self, choose: str) -> None:
        """Show the kinds with what is added to them now."""
        known = {view.word: view for view in self._views}
        self.tree.clear()
        for word, kind in extended(self.own).items():
            view = known.get(word)
            same = view is not None and view.own == self.own.get(word, ())
            files = view.files if view is not None and same else None
            row = QTreeWidgetItem(
                [
                    word,
                    "" if files is None else f"{files:,}",
                    size_words(view.size) if view is not None and files else "",
                    kind.words,
                ]
            )
            row.setData(0, _WORD, word)
            row.setToolTip(3, kind.words)
            for column in (1, 2):
                row.setTextAlignment(column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            if not files:
                row.setForeground(1, self._look.color("quiet_text"))
            self.tree.addTopLevelItem(row)
            if word == choose:
                self.tree.setCurrentItem(row)
        self._chosen()

    def _word(self) -> str:
        row = self.tree.currentItem()
        return str(row.data(0, _WORD)) if row is not None else ""

    def _chosen(self) -> None:
        """Show everything that the chosen kind catches."""
        word = self._word()
        kind = extended(self.own).get(word)
        view = next((one for one in self._views if one.word == word), None)
        self.whole.setText(tr("Catches {words}.").format(words=kind.words) if kind is not None else "")
        self.more.setEnabled(kind is not None)
        if _endings(self.more.text()) != self.own.get(word, ()) or not self.more.hasFocus():
            self.more.setText(" ".join(self.own.get(word, ())))
        everybody = view is not None and view.everybody
        self.more_words.setText(tr("Further endings") if everybody or kind is None else tr("Its endings"))
        self.remove.setVisible(kind is not None and not everybody)

    def _typed(self, text: str) -> None:
        """What is added to the chosen kind was changed."""
        word = self._word()
        given = _endings(text)
        view = next((one for one in self._views if one.word == word), None)
        if given or not (view is not None and view.everybody):
            self.own[word] = given
        else:
            self.own.pop(word, None)
        self._check()
        row = self.tree.currentItem()
        kind = extended(self.own).get(word)
        if row is not None and kind is not None:
            row.setText(3, kind.words)
            row.setText(1, "")
            row.setText(2, "")
            self.whole.setText(tr("Catches {words}.").format(words=kind.words))

    def _check(self) -> bool:
        """Say what is wrong with the additions, if anything is."""
        try:
            checked_kinds(self.own)
        except PersonError as error:
            self.trouble.setText(str(error))
            self.trouble.show()
            return False
        self.trouble.hide()
        return True

    def _add(self) -> None:
        word, given = self.name.text().strip().lower(), _endings(self.endings.text())
        before = dict(self.own)
        self.own[word] = (*self.own.get(word, ()), *given)
        if not self._check():
            self.own = before
            return
        self.name.clear()
        self.endings.clear()
        self._fill(word)

    def _remove(self) -> None:
        self.own.pop(self._word(), None)
        self._check()
        self._fill(self._views[0].word if self._views else "")

    def _keep(self) -> None:
        if self._check():
            self._link.ask(KeepKinds(self._job, self.own), self._done, self._wrong)

    def _done(self, nothing: None) -> None:
        self.kept.emit()
        self.accept()
