"""The head of the window: how the job stands, the one action that matters now, and the choice of a job."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QFrame

from good_tide.core.identifiers import JobId
from good_tide.core.status import Action, Status
from good_tide.core.translation import tr
from good_tide.desktop.painting.signs import Sign
from good_tide.desktop.painting.widgets import OneLine, button, line
from good_tide.protocol.agent_calls import Overview

_QUIET = (Action.NONE, Action.TAKE, Action.SET_UP)
"""Actions that have a button of their own, or a view."""


class Head(QFrame):
    """Status sentence with its sign, and what can be done about it."""

    acted = Signal(object)
    """The action that the status sentence offers was chosen."""
    job_chosen = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("head")
        self.setFixedHeight(52)
        self.sign = Sign()
        self.sentence, self.detail = OneLine(first=True), OneLine("quiet")
        self.sentence.setText(tr("Looking for the agent…"))
        self.sentence.setStyleSheet("font-weight: 600;")
        self.job = QComboBox()
        self.job.setAccessibleName(tr("Job"))
        self.job.hide()
        self.take, self.act = button(tr("Take snapshot"), primary=True), button("")
        self._action = Action.NONE
        self.act.hide()
        self.take.setEnabled(False)
        row = line(self.sign, self.sentence, spacing=10)
        row.addWidget(self.detail, 1)
        row.addWidget(self.act)
        row.addWidget(self.job)
        row.addWidget(self.take)
        row.setContentsMargins(20, 0, 16, 0)
        self.setLayout(row)
        self.act.clicked.connect(lambda: self.acted.emit(self._action))
        self.job.activated.connect(lambda number: self.job_chosen.emit(JobId(self.job.itemData(number))))

    def show_status(self, now: Status) -> None:
        """Show how the job stands."""
        self.sign.mood = now.mood
        self.sign.update()
        self.sentence.setText(now.sentence)
        self.sentence.setToolTip(now.sentence)
        self.detail.setText(now.detail)
        self.detail.setToolTip(now.detail)
        self._action = now.action
        self.act.setText(tr(now.action.value))
        self.act.setVisible(now.action not in _QUIET)

    def show_jobs(self, overview: Overview) -> None:
        """The choice of a job, where there are several."""
        self.job.setVisible(len(overview.jobs) > 1)
        shown = [(self.job.itemData(number), self.job.itemText(number)) for number in range(self.job.count())]
        if shown != [(job.id, job.name) for job in overview.jobs]:
            self.job.clear()
            for job in overview.jobs:
                self.job.addItem(job.name, job.id)
        self.job.setCurrentIndex(self.job.findData(overview.job))
