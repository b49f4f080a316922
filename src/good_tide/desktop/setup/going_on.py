"""Going on here with the job of a machine that is no more."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QDialog, QLineEdit, QVBoxLayout, QWidget

from good_tide.core.identifiers import JobId
from good_tide.core.translation import tr
from good_tide.core.words import count_words, time_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.widgets import button, label, line
from good_tide.protocol.faults import Fault
from good_tide.protocol.setup_calls import MadeView, ProposeTakeOver, TakeOver, TakeOverView


class GoOnDialog(QDialog):
    """Says what is taken over, and takes it over. ``made``: it was done (``MadeView``)."""

    made = Signal(object)

    def __init__(
        self, link: AgentLink, job: JobId, machine: str, now: int, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Go on here"))
        self.resize(560, 380)
        self._link, self._job, self._machine, self._now = link, job, machine, now
        self.name = QLineEdit()
        self.name.setAccessibleName(tr("What the job is called here"))
        self.what = label(tr("Looking…"), "", wrap=True)
        self._warning = label("", "harm", wrap=True)
        self.remember = QCheckBox(tr("Remember the passphrase in the key ring, so that it runs by itself"))
        self._leave, self.go = button(tr("Not now")), button(tr("Go on with it here"), primary=True)
        self.go.setEnabled(False)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 18, 20, 18)
        layout.setSpacing(10)
        layout.addWidget(
            label(tr("Go on here with the job of {machine}").format(machine=machine), "title", wrap=True)
        )
        layout.addLayout(line(label(tr("It is called")), self.name))
        layout.addWidget(self.what)
        layout.addWidget(self._warning)
        layout.addWidget(self.remember)
        layout.addStretch()
        layout.addLayout(line(self._leave, self.go, stretch=0))
        self._leave.clicked.connect(self.reject)
        self.go.clicked.connect(self._take_over)
        self._leave.setFocus()
        link.ask(ProposeTakeOver(job), self._show, self._fail)

    def _show(self, view: TakeOverView) -> None:
        self.name.setText(view.name)
        rules = count_words(view.rules, "rule") if view.rules else tr("no rules")
        lines = [
            tr("Covered: {folders}").format(folders=", ".join(view.folders)),
            tr("Taken over: {rules}, snapshots {rhythm}, the store, and its history.").format(
                rules=rules, rhythm=view.rhythm
            )
            + (
                " " + tr("Thinned by the same ladder: {ladder}.").format(ladder=view.ladder)
                if view.ladder
                else ""
            ),
            tr("The next snapshot goes on where the last one ended; what is the same is not stored again."),
            *view.notes,
        ]
        self.what.setText("\n\n".join(lines))
        self._warning.setText(
            tr(
                "Only if {machine} writes no more: its last snapshot is of {newest}. Two machines must not"
                " write one history."
            ).format(machine=self._machine, newest=time_words(view.newest, self._now))
        )
        self.go.setEnabled(True)

    def _fail(self, fault: Fault) -> None:
        self.what.setText(str(fault))
        self.remember.hide()
        self.go.setEnabled(False)

    def _take_over(self) -> None:
        self.go.setEnabled(False)
        call = TakeOver(self._job, self.name.text().strip(), self.remember.isChecked())
        self._link.ask(call, self._done, self._fail)

    def _done(self, made: MadeView) -> None:
        self.accept()
        self.made.emit(made)
