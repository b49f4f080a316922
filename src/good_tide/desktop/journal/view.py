"""The place Journal: what happened, what it means, what to do; the runs; and files that could not be read."""

from __future__ import annotations

import heapq
from collections.abc import Iterator
from typing import NamedTuple

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QFileDialog,
    QLineEdit,
    QStackedWidget,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
)

from good_tide.core.clock import SECOND
from good_tide.core.happenings import AGAIN_AND_AGAIN, Event, Filter, Level, Run
from good_tide.core.identifiers import JobId, SnapshotId
from good_tide.core.job_facts import StoreState
from good_tide.core.status import Action
from good_tide.core.translation import tr
from good_tide.core.words import count_words, duration_words, exact_words, printable, size_words, time_words
from good_tide.desktop.journal.growing_list import GrowingList
from good_tide.desktop.journal.restores_list import RestoresList
from good_tide.desktop.journal.runs_picture import RunsPicture
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import align_numbers, button, card, is_listed, label, line
from good_tide.desktop.view import RuleOffer, View, ViewKind
from good_tide.protocol.agent_calls import Overview
from good_tide.protocol.history_calls import ReadGaps
from good_tide.protocol.journal_calls import ExportJournal, JournalView, LeftOutView, ReadJournal, WriteReport

_DAY = 86400 * SECOND
_SPANS = (
    (tr("of all time"), 0),
    (tr("of the last day"), _DAY),
    (tr("of the last week"), 7 * _DAY),
    (tr("of the last four weeks"), 28 * _DAY),
)
_LEVELS: tuple[tuple[str, tuple[Level, ...]], ...] = (
    (tr("Everything"), ()),
    (tr("Needs a look"), ("trouble", "note")),
    (tr("Only trouble"), ("trouble",)),
)
_MARKS = {"good": ("done", "kelp"), "note": ("note", "sand"), "trouble": ("trouble", "coral")}
_RESULTS = {
    "done": ("done", "kelp"),
    "gaps": (tr("with gaps"), "sand"),
    "failed": ("failed", "coral"),
    "stopped": ("stopped", "sand"),
}
_OCCASIONS = {
    "time": tr("by the clock"),
    "disk": tr("the disk came"),
    "change": tr("files came to rest"),
    "hand": tr("by hand"),
    "": "earlier",
}
_SNAPSHOT, _WORDS = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1
_SOON_MS = 300
_RESTORES = 3
"""Which of the lists is that of the restores."""


class _Happened(NamedTuple):
    """A line of the list: an event or a run. ``gaps_of`` names a snapshot that tells more."""

    time: int
    job: str
    mark: str
    color: str
    what: str
    below: tuple[str, ...] = ()
    gaps_of: str = ""


def _of_event(event: Event) -> _Happened:
    below = tuple(words for words in (event.means, event.todo, *event.detail) if words)
    return _Happened(event.time, event.name, *_MARKS[event.level], event.what, below)


def _of_run(run: Run) -> _Happened:
    mark, color = _RESULTS[run.result]
    if not run.snapshot:
        return _Happened(
            run.began,
            run.name,
            mark,
            color,
            tr("No snapshot into {store}: {words}").format(store=run.store, words=run.words),
        )
    changed = (
        tr("{changed} changed, {new_bytes} new").format(
            changed=count_words(run.changed, "file"), new_bytes=size_words(run.new_bytes)
        )
        if run.changed
        else tr("nothing had changed")
    )
    gaps = (
        "; " + tr("{gaps} could not be read").format(gaps=count_words(run.gaps, "file")) if run.gaps else ""
    )
    return _Happened(
        run.began,
        run.name,
        mark,
        color,
        tr("Snapshot into {store}: {changed}{gaps}").format(store=run.store, changed=changed, gaps=gaps),
        (),
        run.snapshot if run.gaps else "",
    )


def _tree(headings: list[str], name: str, widths: tuple[int, ...]) -> QTreeWidget:
    made = QTreeWidget()
    made.setHeaderLabels(headings)
    made.setAccessibleName(name)
    made.setUniformRowHeights(True)
    made.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    for column, width in enumerate(widths):
        made.setColumnWidth(column, width)
    return made


class JournalPage(View):
    """What happened."""

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._look, self._link = look, link
        self._job, self._now = JobId(""), 0
        self.view: JournalView | None = None
        self.picture = RunsPicture(look)
        self.what, self.level, self.span, self.all_jobs = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        self.what.addItems([tr("What happened"), tr("Table of runs"), tr("Left-out files"), tr("Restores")])
        for words, _ in _LEVELS:
            self.level.addItem(words)
        for words, _ in _SPANS:
            self.span.addItem(words)
        self.all_jobs.addItems([tr("of this job"), tr("of all jobs")])
        self.text = QLineEdit()
        self.text.setPlaceholderText(tr("with these words"))
        self.export, self.report = button(tr("Export…")), button(tr("Report…"))
        for widget, name in (
            (self.what, tr("What is listed")),
            (self.level, tr("Level")),
            (self.span, tr("Time")),
            (self.all_jobs, tr("Jobs")),
            (self.text, tr("Words")),
        ):
            widget.setAccessibleName(name)
        self.events = _tree([tr("When"), "", tr("What happened")], tr("What happened"), (186, 92))
        self.runs = _tree(
            [tr("Began"), "", tr("Occasion"), tr("Store"), tr("Took"), tr("Changed"), tr("New"), tr("Gaps")],
            tr("Runs"),
            (186, 92, 150, 220, 90, 90, 100),
        )
        self.left_out = _tree(
            [tr("File"), tr("Why"), tr("Runs"), tr("Since"), ""], tr("Left-out files"), (420, 220, 60, 150)
        )
        align_numbers(self.runs, (4, 5, 6, 7))
        align_numbers(self.left_out, (2,))
        self.lists = QStackedWidget()
        self._several = False
        """Whether what is listed is of more than one job."""
        self._all_events = GrowingList(self.events, self._event_row, self._event_shown)
        self._all_runs = GrowingList(self.runs, self._run_row, self._run_shown)
        self.restores = RestoresList(look, link)
        for shown in (self.events, self.runs, self.left_out, self.restores):
            self.lists.addWidget(shown)
        self.summary = label("", "quiet", wrap=True)
        self.empty = label("", "quiet")
        self._timer = QTimer(self, singleShot=True, interval=_SOON_MS)
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 14, 24, 14)
        column.setSpacing(10)
        head = line(label(tr("Journal"), "title"), spacing=12)
        head.addWidget(self.summary, 1)
        head.addWidget(self.report)
        head.addWidget(self.export)
        column.addLayout(head)
        frame, layout = card()
        layout.addWidget(self.picture)
        column.addWidget(frame)
        filters = line(self.what, self.level, self.span, self.all_jobs, spacing=8)
        filters.addWidget(self.text, 1)
        column.addLayout(filters)
        column.addWidget(self.empty)
        column.addWidget(self.lists, 1)
        self.empty.hide()

    def _connect(self) -> None:
        self.what.currentIndexChanged.connect(self._choose_list)
        for combo in (self.level, self.span, self.all_jobs):
            combo.currentIndexChanged.connect(self.refresh)
        self.text.textEdited.connect(lambda words: self._timer.start())
        self._timer.timeout.connect(self.refresh)
        self.export.clicked.connect(self._export)
        self.report.clicked.connect(self._report)
        self.runs.itemExpanded.connect(lambda row: self._unfold(row, 0))
        self.events.itemExpanded.connect(lambda row: self._unfold(row, 2))

    def show_job(self, overview: Overview) -> None:
        """Another look at the job."""
        self._job, self._now = overview.job, overview.now
        if self.isVisible() and overview.state is StoreState.READY:
            self.refresh()

    def entered(self) -> None:
        self.refresh()
        self.events.setFocus()

    def _filter(self) -> Filter:
        length = _SPANS[self.span.currentIndex()][1]
        return Filter(
            job=JobId("") if self.all_jobs.currentIndex() else self._job,
            levels=_LEVELS[self.level.currentIndex()][1],
            text=self.text.text().strip(),
            since=self._now - length if length else 0,
        )

    def refresh(self) -> None:
        """Ask for what the filters let through."""
        self._link.ask(ReadJournal(self._filter()), self.show_journal, in_order=True)
        if self.what.currentIndex() == _RESTORES:
            self.restores.refresh(self._now)

    def show_journal(self, view: JournalView) -> None:
        """Show events, runs and left-out files."""
        self.view = view
        runs = self._filtered(view.runs)
        self.picture.show_runs(view.runs)
        names = {event.name for event in view.events} | {run.name for run in runs}
        self._several = len(names - {""}) > 1
        self._all_events.show(self._happened(view.events, runs))
        self._all_runs.show(runs)
        self._fill_left_out(view.left_out)
        done = [run for run in view.runs if run.snapshot]
        failed = sum(run.result == "failed" for run in view.runs)
        words = tr("{done}, {sum} new in all").format(
            done=count_words(len(done), "snapshot"), sum=size_words(sum(run.new_bytes for run in done))
        )
        words += "; " + tr("{failed} failed").format(failed=count_words(failed, "run")) if failed else ""
        words += (
            "; "
            + tr("{left_out} left out at the last").format(left_out=count_words(len(view.left_out), "file"))
            if view.left_out
            else ""
        )
        self.summary.setText(words + ".")
        self._show_list()

    def _filtered(self, runs: tuple[Run, ...]) -> list[Run]:
        """Runs under the same filters as the events."""
        wanted = self._filter()
        levels = {"done": "good", "gaps": "note", "failed": "trouble", "stopped": "note"}
        words = wanted.text.casefold()
        return [
            run
            for run in runs
            if run.began >= wanted.since
            and (not wanted.levels or levels[run.result] in wanted.levels)
            and (not words or words in f"{run.name} {run.store} {run.words}".casefold())
        ]

    def _happened(self, events: tuple[Event, ...], runs: list[Run]) -> Iterator[_Happened]:
        """Events and runs together, newest first."""
        both = map(_of_event, events), map(_of_run, runs)
        return heapq.merge(*both, key=lambda one: -one.time)

    def _event_row(self, one: _Happened) -> QTreeWidgetItem:
        what = f"{one.job}: {one.what}" if self._several and one.job else one.what
        row = QTreeWidgetItem([time_words(one.time, self._now), one.mark, what])
        row.setToolTip(0, exact_words(one.time))
        row.setToolTip(2, one.what)
        row.setForeground(1, self._look.color(one.color))
        for words in one.below:
            child = QTreeWidgetItem(["", "", words])
            child.setToolTip(2, words)
            row.addChild(child)
        if one.gaps_of:
            row.setData(0, _SNAPSHOT, one.gaps_of)
            row.setChildIndicatorPolicy(QTreeWidgetItem.ChildIndicatorPolicy.ShowIndicator)
        return row

    def _run_row(self, run: Run) -> QTreeWidgetItem:
        words, color = _RESULTS[run.result]
        took = duration_words(run.seconds) if run.seconds >= 1 else "under 1 s" if run.occasion else ""
        values = [
            time_words(run.began, self._now),
            words,
            _OCCASIONS.get(run.occasion, run.occasion),
            run.store,
            took,
        ]
        values += (
            [f"{run.changed:,}", size_words(run.new_bytes), f"{run.gaps:,}" if run.gaps else ""]
            if run.snapshot
            else ["", "", ""]
        )
        row = QTreeWidgetItem(values)
        row.setToolTip(0, exact_words(run.began))
        row.setForeground(1, self._look.color(color))
        row.setData(0, _SNAPSHOT, run.snapshot)
        for column in (4, 5, 6, 7):
            row.setTextAlignment(column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        if run.words:
            row.setData(0, _WORDS, run.words)
        elif run.gaps:
            row.setChildIndicatorPolicy(QTreeWidgetItem.ChildIndicatorPolicy.ShowIndicator)
        return row

    def _event_shown(self, row: QTreeWidgetItem) -> None:
        row.setExpanded(row.text(1) == _MARKS["trouble"][0] and not row.data(0, _SNAPSHOT))

    def _run_shown(self, row: QTreeWidgetItem) -> None:
        if row.data(0, _WORDS):
            self._below(row, str(row.data(0, _WORDS)))

    @staticmethod
    def _below(row: QTreeWidgetItem, words: str) -> None:
        """Put a line below a row of the tree, as wide as all its columns."""
        child = QTreeWidgetItem([words])
        child.setToolTip(0, words)
        row.addChild(child)
        child.setFirstColumnSpanned(True)

    def _unfold(self, row: QTreeWidgetItem, column: int) -> None:
        """A run with gaps was unfolded: its snapshot tells which files."""
        if row.childCount() or not row.data(0, _SNAPSHOT):
            return

        def show(gaps: list[str]) -> None:
            if not is_listed(row) or row.childCount():
                return
            for words in gaps:
                if column:
                    row.addChild(QTreeWidgetItem(["", "", words]))
                else:
                    self._below(row, words)

        self._link.ask(ReadGaps(self._job, SnapshotId(row.data(0, _SNAPSHOT))), show)

    def _fill_left_out(self, files: tuple[LeftOutView, ...]) -> None:
        self.left_out.clear()
        for one in files:
            file = one.file
            row = QTreeWidgetItem(
                [
                    printable(file.path),
                    file.detail or file.reason,
                    str(file.runs),
                    time_words(file.first, self._now),
                    "",
                ]
            )
            row.setToolTip(0, printable(file.path))
            row.setTextAlignment(2, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.left_out.addTopLevelItem(row)
            if one.rule:
                offer = button(tr("Leave it out by a rule…"))
                offer.setToolTip(one.rule)
                offer.clicked.connect(lambda checked=False, rule=one.rule: self.offered.emit(RuleOffer(rule)))
                self.left_out.setItemWidget(row, 4, offer)

    def _choose_list(self) -> None:
        if self.what.currentIndex() == _RESTORES:
            self.restores.refresh(self._now)
        self._show_list()

    def _show_list(self) -> None:
        number = self.what.currentIndex()
        self.lists.setCurrentIndex(number)
        tree = (self.events, self.runs, self.left_out, self.restores.tree)[number]
        nothing = (
            tr("Nothing happened that fits."),
            tr("No run fits."),
            tr("The last snapshot left no file out."),
            "",
        )[number]
        if number == 2 and self.all_jobs.currentIndex():
            nothing = tr("Choose “of this job” to see its left-out files.")
        offered = (
            tr("From {AGAIN_AND_AGAIN} runs in a row on a rule is offered.").format(
                AGAIN_AND_AGAIN=AGAIN_AND_AGAIN
            )
            if number == 2 and tree.topLevelItemCount()
            else ""
        )
        self.empty.setText(offered if tree.topLevelItemCount() else nothing)
        self.empty.setVisible(bool(self.empty.text()))
        for combo in (self.level, self.span, self.text):
            combo.setEnabled(number < 2)
        self.all_jobs.setEnabled(number != _RESTORES)

    def _export(self) -> None:
        forms = "Web page (*.html);;Table (*.csv);;JSON (*.json)"
        file, form = QFileDialog.getSaveFileName(self, tr("Export the journal"), "journal.html", forms)
        if file:
            ending = form.rpartition("*")[2].rstrip(")")
            named = file if file.endswith((".html", ".csv", ".json")) else file + ending
            said = tr("The journal was written to {named}").format(named=named)
            self._link.ask(ExportJournal(self._filter(), named), lambda done: self.told.emit(said, "", False))

    def _report(self) -> None:
        file, _ = QFileDialog.getSaveFileName(
            self,
            tr("Write a report"),
            tr("{job} report.html").format(job=self._job),
            "Web page (*.html);;Text (*.txt)",
        )
        if file:
            self._link.ask(WriteReport(self._job, file=file), lambda words: self.told.emit(words, "", False))


JOURNAL = ViewKind(tr("Journal"), "journal", JournalPage, frozenset((Action.JOURNAL,)))
