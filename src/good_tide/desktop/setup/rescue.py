"""A store was opened on a machine that has lost its files, or is a new one: whose history it is, which
moment, what of it, and into which home."""

from __future__ import annotations

import os
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QButtonGroup,
    QDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.homes import home_of
from good_tide.core.records import StoreHistory
from good_tide.core.translation import tr
from good_tide.core.words import count_words, printable, time_words
from good_tide.desktop.painting.widgets import button, label, line
from good_tide.desktop.view import RestoreOffer
from good_tide.protocol.setup_calls import HistoryView, OpenedView


class RescueDialog(QDialog):
    """``chosen``: a history is to be shown, by its job's identity, and what is to be brought back of it at
    once (``RestoreOffer``, or None)."""

    chosen = Signal(object, object)

    def __init__(self, opened: OpenedView, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Bring back from a store"))
        self.resize(640, 520)
        self._now = opened.now
        self.whose = QListWidget()
        self.whose.setAccessibleName(tr("Whose history"))
        self.whose.setWordWrap(True)
        self._histories = tuple(reversed(opened.histories))
        for one in self._histories:
            item = QListWidgetItem(self._words(one.history))
            item.setToolTip("\n".join(printable(folder) for folder in one.history.folders))
            self.whose.addItem(item)
        self.everything, self.look = (
            QRadioButton(),
            QRadioButton(tr("Choose on the timeline what, and of when")),
        )
        self.everything.setChecked(True)
        self._ways = QButtonGroup(self)
        for way in (self.everything, self.look):
            self._ways.addButton(way)
        self._moment = label("", "quiet", wrap=True)
        self.old_home, self.new_home = QLineEdit(), QLineEdit(str(Path.home()))
        self.old_home.setAccessibleName(tr("The home as it was"))
        self.new_home.setAccessibleName(tr("The home here"))
        self._homes = QWidget()
        self._homes.setLayout(
            line(label(tr("What was below")), self.old_home, label(tr("goes below")), self.new_home)
        )
        self._leave, self._go = button(tr("Not now")), button(tr("Go on…"), primary=True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 18, 20, 18)
        layout.setSpacing(10)
        layout.addWidget(label(tr("Whose files are to come back?"), "title"))
        layout.addWidget(self.whose, 1)
        layout.addWidget(self.everything)
        layout.addWidget(self._moment)
        layout.addWidget(self._homes)
        layout.addWidget(self.look)
        layout.addWidget(
            label(
                tr("Nothing is written yet: a plan is shown first. Nothing in the store is changed by it."),
                "quiet",
                wrap=True,
            )
        )
        layout.addLayout(line(self._leave, self._go, stretch=0))
        self.whose.currentRowChanged.connect(self._show)
        self._ways.buttonClicked.connect(lambda way: self._show(self.whose.currentRow()))
        self._leave.clicked.connect(self.reject)
        self._go.clicked.connect(self.accept)
        self.accepted.connect(self._choose)
        self.whose.setCurrentRow(0)
        self.whose.setFocus()
        self._go.setDefault(True)

    def _words(self, one: StoreHistory) -> str:
        job = f" · {one.job}" if one.job and one.job not in one.machine.name else ""
        people = ", " + tr("files of {people}").format(people=", ".join(one.people)) if one.people else ""
        folders = ", ".join(printable(os.path.basename(folder)) for folder in one.folders[:6])
        more = " " + tr("and more") if len(one.folders) > 6 else ""
        newest = time_words(one.newest, self._now)
        return tr("{name}{job}{people}\n{snapshots}, the last {newest}: {folders}{more}").format(
            name=one.machine.name,
            job=job,
            people=people,
            snapshots=count_words(one.snapshots, "snapshot"),
            newest=newest,
            folders=folders,
            more=more,
        )

    @property
    def history(self) -> HistoryView:
        """The chosen history."""
        return self._histories[max(0, self.whose.currentRow())]

    def _show(self, row: int) -> None:
        one = self.history.history
        when = time_words(one.complete_time, self._now)
        self.everything.setText(tr("Everything, as it was {when}").format(when=when))
        if one.lacks:
            words = tr("No snapshot is complete; the newest lacks {lacks}.").format(
                lacks=count_words(one.lacks, "thing")
            )
        elif one.complete_time < one.newest:
            words = tr("That is the newest complete snapshot; the later ones lack something.")
        else:
            words = tr("That is the newest snapshot, and it is complete.")
        self._moment.setText(words)
        home = home_of(one.folders)
        self.old_home.setText(home)
        other = bool(home) and home != str(Path.home())
        self._homes.setVisible(other and self.everything.isChecked())

    def _choose(self) -> None:
        job, one = self.history.job, self.history.history
        if self.look.isChecked():
            self.chosen.emit(job, None)
            return
        homes = None
        if self._homes.isVisibleTo(self) and self.old_home.text().strip():
            homes = self.old_home.text().strip(), self.new_home.text().strip()
        self.chosen.emit(job, RestoreOffer(one.complete, one.complete_time, homes))
