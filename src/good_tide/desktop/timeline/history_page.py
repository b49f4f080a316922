"""History: find what was, and bring it back."""

from __future__ import annotations

import os
from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.identifiers import JobId, SnapshotId
from good_tide.core.restoring import Extent
from good_tide.core.tide import NO_TIDE
from good_tide.core.translation import tr
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import OneLine, label, line, set_keys
from good_tide.desktop.timeline.choice_pane import ChoicePane
from good_tide.desktop.timeline.crumbs import Crumbs
from good_tide.desktop.timeline.finding import Finding
from good_tide.desktop.timeline.glimpse import Glimpse
from good_tide.desktop.timeline.handing import Handing
from good_tide.desktop.timeline.lifelines import LifelineView
from good_tide.desktop.timeline.model import TimelineModel
from good_tide.desktop.timeline.pin_button import PinButton
from good_tide.desktop.timeline.restore_dialogs import PlanDialog
from good_tide.desktop.timeline.restore_list import RestoreList
from good_tide.desktop.timeline.sides import Sides
from good_tide.desktop.timeline.tide_chart import TideChart
from good_tide.desktop.timeline.zoom_tools import ZoomTools
from good_tide.desktop.view import PathOffer
from good_tide.protocol.agent_calls import Overview
from good_tide.protocol.history_calls import FolderView, ReadFolder
from good_tide.protocol.restore_calls import PickedItem, Restore

_COMMANDS = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier


class HistoryPage(QWidget):
    """Tide chart, lifelines, inspector and restore list around one model."""

    pins_changed = Signal()
    outdated = Signal()
    """History is another one than the one that is shown."""

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._look, self._link = look, link
        self.model = TimelineModel(NO_TIDE)
        self._coming: TimelineModel | None = None
        """Of a newer history: takes the place of the one shown when all it needs has come."""
        self._job, self._now, self._lost = JobId(""), 0, 0
        self._covered: tuple[str, ...] = ()
        self._asked: set[tuple[str, bytes]] = set()
        self._reveal = b""
        """A row that is to be scrolled to when it has come."""
        self.dialog: PlanDialog | None = None
        self.chart = TideChart(look)
        self.lines = LifelineView(look)
        self.glimpse = Glimpse(link, self)
        self.pane = ChoicePane(look, link)
        self.inspector = self.pane.inspector
        self.restore_list = RestoreList()
        self._crumbs = Crumbs()
        self._count = label("", "quiet")
        self.unmark = QToolButton()
        self.unmark.setText(tr("Compare with now again"))
        self.unmark.setToolTip(tr("Take the second mark away (Escape)"))
        self.pin, self.zoom = PinButton(link), ZoomTools(look)
        self._pinned: dict[SnapshotId, str] = {}
        self.finding, self.handing = Finding(link, self), Handing(link, self)
        self.search = self.finding.bar
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        top = QHBoxLayout()
        top.setSpacing(4)
        top.addWidget(self._crumbs)
        top.addStretch()
        top.addWidget(self.search.field)
        left = QVBoxLayout()
        left.setSpacing(8)
        left.addLayout(top)
        left.addWidget(self.search)
        left.addWidget(self.chart)
        left.addLayout(line(self._count, self.unmark, self.pin, self.zoom, stretch=1, spacing=2))
        left.addWidget(self.lines, 1)
        keys = OneLine("quiet")
        keys.setText(
            tr(
                "← → snapshot     Alt+← → change     Shift+← → second mark     ↑ ↓ row     Enter opens,"
                " Backspace goes up     F6 pane     type to find"
            )
        )
        left.addWidget(keys)
        left.addWidget(self.restore_list)
        right = QFrame()
        right.setObjectName("card")
        box = QVBoxLayout(right)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(self.pane)
        holder = QWidget()
        holder.setObjectName("clear")
        left.setContentsMargins(0, 0, 0, 0)
        holder.setLayout(left)
        self.sides = Sides(holder, right)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(14, 10, 14, 10)
        whole.addWidget(self.sides)

    def _connect(self) -> None:
        self.pin.changed.connect(self.pins_changed)
        self.zoom.moved.connect(self._view_moved)
        self.chart.moved.connect(self._view_moved)
        self.lines.moved.connect(self._view_moved)
        self.lines.verticalScrollBar().valueChanged.connect(self.finding.note_scrolled)
        self.chart.chosen.connect(self.go)
        self.chart.marked.connect(self.mark)
        self.lines.marked.connect(self.mark)
        self.lines.also.connect(self._also)
        self.lines.up_to.connect(self._up_to)
        self.pane.bring_all.connect(self.plan)
        self.pane.bring.connect(lambda item, extent: self.plan([item], extent))
        self.pane.archive.connect(lambda items: self.handing.save(items, self._now))
        self.restore_list.archive_wanted.connect(self._save_list)
        self.restore_list.dragged.connect(self.handing.drag)
        self.lines.dragged.connect(self._drag)
        self.pane.gather.connect(lambda item: self.restore_list.add(item, self._now))
        self.pane.go.connect(self.go)
        self.pane.shown.connect(self._show_in_rows)
        self.pane.outdated.connect(self.outdated)
        self.pane.says.connect(self.lines.refresh)
        self.unmark.clicked.connect(lambda: self.mark(self.model.moment))
        self.lines.picked.connect(self._picked)
        self.lines.opened.connect(self._toggle)
        self.lines.entered.connect(self.enter)
        self.lines.rested.connect(lambda on: self.glimpse.show_resting(on, self.model, self._job))
        self.lines.moved_on.connect(self.glimpse.move_on)
        self.restore_list.moment_wanted.connect(self._from_this_moment)
        self.restore_list.plan_wanted.connect(lambda: self.plan(self.restore_list.items))
        self._crumbs.entered.connect(self.enter)
        self.finding.found.connect(self._show_found)
        self.finding.over.connect(self._end_finding)
        self.finding.led_in.connect(self._lead_in)
        self.finding.outdated.connect(self.outdated)
        keys: dict[str, Callable[[], object]] = {
            "Left": lambda: self._step(-1),
            "Right": lambda: self._step(1),
            "Alt+Left": lambda: self._step_change(False),
            "Alt+Right": lambda: self._step_change(True),
            "Home": lambda: self.go(1),
            "End": lambda: self.go(len(self.model.tide)),
            "Up": lambda: self._move_row(-1),
            "Down": lambda: self._move_row(1),
            "Shift+Up": lambda: self._move_row(-1, True),
            "Shift+Down": lambda: self._move_row(1, True),
            "Ctrl+A": self._choose_all,
            "Return": self._open_selected,
            "Enter": self._open_selected,
            "Space": lambda: self._toggle_selected(),
            "Backspace": self._go_up,
            "Escape": self._escape,
            "Ctrl+C": lambda: self.handing.copy(self.model.chosen_items),
            "Shift+Left": lambda: self.mark((self.model.against or self.model.moment) - 1),
            "Shift+Right": lambda: self.mark((self.model.against or self.model.moment) + 1),
            "+": lambda: self.zoom.by(0.625),
            "-": lambda: self.zoom.by(1.6),
            "0": self.zoom.all,
        }
        for widget in (self.lines, self.chart):
            set_keys(widget, keys)
        QShortcut(QKeySequence("Ctrl+F"), self).activated.connect(self.search.field.setFocus)

    def take_overview(self, overview: Overview) -> None:
        """History as the agent tells it. Another one than is shown takes its place only when its rows have
        come as well: never are rows shown that count other snapshots."""
        self._now, self._pinned, self._covered = overview.now, overview.pinned, overview.covered
        if overview.job != self._job:
            self._job = overview.job
            self.model, self._coming = self._model_of(overview), None
            self.restore_list.clear()
            self.finding.forget()
            self._show_model()
        elif (overview.history, overview.lost) != ((self._coming or self.model).history, self._lost):
            self._coming = self._model_of(overview)
            self._coming.follow(self.model)
        self.chart.pinned = self.model.tide.seqs_of(self._pinned)
        self._asked.clear()
        self.pane.forget()
        self._lost = overview.lost
        self._refresh()

    @staticmethod
    def _model_of(overview: Overview) -> TimelineModel:
        model = TimelineModel(overview.tide, overview.history)
        if len(overview.covered) == 1:
            model.root = os.fsencode(overview.covered[0])
        return model

    def _show_model(self) -> None:
        self.chart.pinned = self.model.tide.seqs_of(self._pinned)
        self.chart.show_model(self.model, self._now)
        self.lines.show_model(self.model, self._now)
        self.zoom.model = self.finding.model = self.model
        self.finding.job = self._job

    def go(self, seq: int) -> None:
        """Look at another moment."""
        self.model.go(seq)
        self._refresh()

    def mark(self, seq: int) -> None:
        """Set the second mark; on the moment that is looked at it is taken away."""
        if self.model.tide:
            self.model.mark(seq)
            self._refresh()

    def _escape(self) -> None:
        """Out of a search; otherwise the second mark goes."""
        if self.model.found is None and self.model.together:
            self.select(self.model.selected or b"")
        elif self.model.found is None and self.model.against:
            self.mark(self.model.moment)
        else:
            self.finding.end()

    def _show_in_rows(self, path: bytes) -> None:
        self.enter(os.path.dirname(path))
        self.select(path)
        self.lines.setFocus()

    def enter(self, path: bytes) -> None:
        """Look into a folder; whatever was looked for is found."""
        self.model.found = None
        self.finding.forget()
        self.model.enter(path)
        self.lines.verticalScrollBar().setValue(0)
        self._refresh()

    def select(self, path: bytes) -> None:
        """Choose a row, and no other."""
        self.model.choose(path)
        self._go_to_last()
        self._refresh()
        self.lines.reveal_selected()

    def plan(self, items: list[PickedItem], extent: Extent = Extent.ALL) -> None:
        """Open the restore plan for some items, or for all covered folders where a path is empty."""
        named = [item for item in items if item.path]
        if not named and items:
            first, known = items[0], [os.fsencode(one) for one in self._covered]
            covered = self.model.covered_at(self.model.moment) or known
            named = [PickedItem(one, first.snapshot, first.time) for one in covered]
        self.dialog = PlanDialog(self._link, named, self._now, self.window(), extent)
        self.dialog.accepted.connect(self._plan_accepted)
        self.dialog.finished.connect(lambda result: self.lines.setFocus())
        self.dialog.open()

    def plan_all(self, snapshot: SnapshotId, time: int, homes: tuple[str, str] | None = None) -> None:
        """Look at a moment, and open the plan that brings all covered folders back as they were then; below
        another home, if two are given."""
        seq = self.model.tide.seq_of(snapshot)
        if seq:
            self.go(seq)
        self.plan([PickedItem(b"", snapshot, time)])
        if homes is not None and self.dialog is not None:
            self.dialog.restore_home(*homes)

    def _from_this_moment(self, numbers: list[int]) -> None:
        """Things on the restore list are taken from the moment that is looked at."""
        items = [self.model.picked(self.restore_list.items[number].path) for number in numbers]
        self.restore_list.replace(numbers, items)

    def _plan_accepted(self) -> None:
        assert self.dialog is not None
        self.restore_list.clear()
        assert self.dialog.plan is not None
        self._link.ask(Restore(self.dialog.job, self.dialog.plan, self.dialog.without))

    def _refresh(self) -> None:
        """Show the model's state, and ask for what is missing."""
        if self._coming is not None:
            self._coming.follow(self.model)
        wanted = self._coming or self.model
        for path in wanted.missing_views():
            if (wanted.history, path) not in self._asked:
                self._asked.add((wanted.history, path))
                self._link.ask(ReadFolder(self._job, path), self._take_view)
        self.search.set_moments(self._now, self.model.stretch)
        self.unmark.setVisible(self.model.against > 0)
        self._show_crumbs()
        self._show_counts()
        moment = self.model.moment
        self.pin.show_snapshot(self._job, self.model.tide.name[moment - 1] if moment else None, self._pinned)
        self.chart.refresh()
        self.lines.refresh()
        self.pane.show_choice(self.model, self._job, self._now)

    def _take_view(self, view: FolderView) -> None:
        wanted = self._coming or self.model
        if view.history != wanted.history:
            self.outdated.emit()
            return
        wanted.take_view(view.path, view.lifelines, view.lost)
        if self._coming is not None and not self._coming.missing_views():
            self._coming.follow(self.model)
            self.model, self._coming = self._coming, None
            self._show_model()
            self.finding.again()
        self._refresh()
        if self._reveal and self.model.row_of(self._reveal) is not None:
            self._reveal = b""
            self.lines.reveal_selected()

    def _view_moved(self) -> None:
        self.chart.refresh()
        self.lines.refresh()

    def _step(self, by: int) -> None:
        self.model.step(by)
        self._refresh()

    def _step_change(self, forward: bool) -> None:
        if self.model.step_change(forward):
            self._refresh()

    def _picked(self, path: bytes, seq: int) -> None:
        self.model.choose(path)
        if seq:
            self.model.moment = seq
        self._go_to_last()
        self._refresh()

    def _toggle(self, path: bytes) -> None:
        self.model.toggle(path)
        self._refresh()

    def _toggle_selected(self) -> None:
        row = self.model.row_of(self.model.selected)
        if row is not None and row.is_folder:
            self._toggle(row.path)

    def _open_selected(self) -> None:
        row = self.model.row_of(self.model.selected)
        if row is not None and row.is_folder:
            self.enter(row.path)
        elif row is not None and self.model.found is not None:  # to where it is
            self.enter(os.path.dirname(row.path))
            self.select(row.path)
            self.lines.setFocus()

    def _go_up(self) -> None:
        parent, here = self.model.parent(), self.model.root
        if parent is not None:
            self.enter(parent)
            self.select(here)

    def _also(self, path: bytes) -> None:
        self.model.also(path)
        self._refresh()

    def _up_to(self, path: bytes) -> None:
        self.model.choose_up_to(path)
        self._refresh()

    def _choose_all(self) -> None:
        rows = [row.path for row in self.model.rows() if not row.caption]
        if rows:
            self.model.choose(rows[0])
            self._up_to(rows[-1])

    def _move_row(self, by: int, together: bool = False) -> None:
        rows = [row for row in self.model.rows() if not row.caption]
        if rows:
            at = next(
                (number for number, row in enumerate(rows) if row.path == self.model.selected),
                -1 if by > 0 else len(rows),
            )
            path = rows[min(max(at + by, 0), len(rows) - 1)].path
            if together:
                self._up_to(path)
                self.lines.reveal_selected()
            else:
                self.select(path)

    def _save_list(self) -> None:
        self.handing.save(self.restore_list.items, self._now)

    def _drag(self, path: bytes) -> None:
        if path not in self.model.several:
            self.select(path)
        self.handing.drag(self.model.chosen_items)

    def _show_crumbs(self) -> None:
        self._crumbs.show_way([(tr("All covered folders"), b""), *self.model.crumbs()])

    def _show_counts(self) -> None:
        found = self.model.found
        self._count.setText(self.finding.words(found) if found is not None else self.model.here_words())

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        """Whoever types looks for something."""
        if event.text().isprintable() and event.text().strip() and not event.modifiers() & _COMMANDS:
            self.search.type(event.text())
            return
        super().keyPressEvent(event)

    def look_at(self, offer: PathOffer) -> None:
        """Show a path that was named from outside, at the moment that was named."""
        seq = self.model.last_before(offer.before) if offer.before else len(self.model.tide)
        self.enter(offer.path if offer.is_folder else os.path.dirname(offer.path))
        if not offer.is_folder:
            self.select(offer.path)
            self._reveal = offer.path
        self.go(seq)
        if offer.missing:
            self.finding.ask_missing(offer.path)
        self.lines.setFocus()

    def _go_to_last(self) -> None:
        """Of what is missing the last that there was of it is shown."""
        row = self.model.row_of(self.model.selected)
        if self.finding.missing and row is not None and row.standing(self.model.moment) is None:
            self.model.go(row.life[-1][1].last or len(self.model.tide))

    def _show_found(self) -> None:
        self.lines.verticalScrollBar().setValue(0)
        if self.finding.missing and self.model.selected is None:
            self._move_row(1)
        self._refresh()

    def _lead_in(self) -> None:
        self.lines.setFocus()
        if self.model.selected is None:
            self._move_row(1)

    def _end_finding(self, scrolled: int) -> None:
        """Back to where one was."""
        self._refresh()
        self.lines.verticalScrollBar().setValue(scrolled)
        self.lines.setFocus()
