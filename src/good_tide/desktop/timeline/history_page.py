"""History: find what was, and bring it back."""

from __future__ import annotations

import os
from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QInputDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.entries import Kind
from good_tide.core.identifiers import JobId, SnapshotId
from good_tide.core.words import printable, time_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.icons import icon
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import label, line
from good_tide.desktop.timeline.inspector import Inspector
from good_tide.desktop.timeline.lifelines import LifelineView
from good_tide.desktop.timeline.model import TimelineModel
from good_tide.desktop.timeline.restore_dialogs import PlanDialog, RestoreList
from good_tide.desktop.timeline.tide_chart import TideChart
from good_tide.protocol.agent_calls import Overview
from good_tide.protocol.faults import Fault
from good_tide.protocol.history_calls import (
    Detail,
    FindNames,
    FolderView,
    Found,
    PinSnapshot,
    ReadDetail,
    ReadFolder,
)
from good_tide.protocol.restore_calls import PickedItem, Restore

_SETTLE_MS = 60
_FIND_MS = 250


class HistoryPage(QWidget):
    """Tide chart, lifelines, inspector and restore list around one model."""

    pins_changed = Signal()
    outdated = Signal()
    """History is another one than the one that is shown."""

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._look, self._link = look, link
        self.model = TimelineModel([])
        self._coming: TimelineModel | None = (
            None  # of a newer history; takes the place of the one shown when all it needs has come
        )
        self._job, self._now, self._lost = JobId(""), 0, 0
        self._covered: tuple[str, ...] = ()
        self._asked: set[tuple[str, bytes]] = set()
        self.dialog: PlanDialog | None = None
        self.chart = TideChart(look)
        self.lines = LifelineView(look)
        self.inspector = Inspector(look)
        self.restore_list = RestoreList()
        self._crumbs = QHBoxLayout()
        self._crumbs.setSpacing(2)
        self._count = label("", "quiet")
        self.pin = QToolButton()
        self.label: QInputDialog | None = None
        self._pinned: dict[SnapshotId, str] = {}
        self._find = QLineEdit()
        self._find.setPlaceholderText("Find a name anywhere in time")
        self._find.setFixedWidth(260)
        self._find.setClearButtonEnabled(True)
        for clear in self._find.findChildren(QToolButton):
            clear.setAccessibleName("Clear the search")
        self._found = QListWidget()
        self._found.setAccessibleName("Names found")
        self._found.hide()
        self._settle = QTimer(self, singleShot=True, interval=_SETTLE_MS)
        self._settle.timeout.connect(self._ask_detail)
        self._find_timer = QTimer(self, singleShot=True, interval=_FIND_MS)
        self._find_timer.timeout.connect(self._ask_find)
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        zoom = [
            self._tool("minus", "Show more time (−)", lambda: self._zoom(1.6)),
            self._tool("plus", "Show less time (+)", lambda: self._zoom(0.625)),
        ]
        zoom.append(self._tool("whole", "Show all of history (0)", self._zoom_all))
        top = QHBoxLayout()
        top.setSpacing(4)
        top.addLayout(self._crumbs)
        top.addStretch()
        top.addWidget(self._find)
        left = QVBoxLayout()
        left.setSpacing(8)
        left.addLayout(top)
        left.addWidget(self._found)
        left.addWidget(self.chart)
        left.addLayout(line(self._count, self.pin, *zoom, stretch=1, spacing=2))
        left.addWidget(self.lines, 1)
        hint = (
            "← → snapshot     Alt+← → change of the selected     ↑ ↓ row     Enter opens, Backspace goes up  "
            "   Ctrl+wheel zooms, drag pans"
        )
        keys = label(hint, "quiet")
        keys.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        left.addWidget(keys)
        left.addWidget(self.restore_list)
        right = QFrame()
        right.setObjectName("card")
        box = QVBoxLayout(right)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(self.inspector)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(14, 10, 14, 10)
        whole.setSpacing(12)
        whole.addLayout(left, 1)
        whole.addWidget(right)

    def _tool(self, name: str, words: str, act: Callable[[], None]) -> QToolButton:
        made = QToolButton()
        made.setIcon(icon(name, self._look.ink, 18))
        made.setToolTip(words)
        made.setAccessibleName(words)
        made.clicked.connect(act)
        return made

    def _connect(self) -> None:
        self.pin.clicked.connect(self._pin_or_not)
        self.chart.moved.connect(self._view_moved)
        self.lines.moved.connect(self._view_moved)
        self.chart.chosen.connect(self.go)
        self.lines.picked.connect(self._picked)
        self.lines.opened.connect(self._toggle)
        self.lines.entered.connect(self.enter)
        self.inspector.go.connect(self.go)
        self.inspector.restore.connect(lambda item: self.plan([item]))
        self.inspector.gather.connect(lambda item: self.restore_list.add(item, self._now))
        self.restore_list.plan_wanted.connect(lambda: self.plan(self.restore_list.items))
        self._find.textChanged.connect(lambda: self._find_timer.start())
        self._found.itemActivated.connect(self._go_found)
        self._found.itemClicked.connect(self._go_found)
        keys: dict[str, Callable[[], object]] = {
            "Left": lambda: self._step(-1),
            "Right": lambda: self._step(1),
            "Alt+Left": lambda: self._step_change(False),
            "Alt+Right": lambda: self._step_change(True),
            "Home": lambda: self.go(1),
            "End": lambda: self.go(len(self.model.tide)),
            "Up": lambda: self._move_row(-1),
            "Down": lambda: self._move_row(1),
            "Return": self._open_selected,
            "Enter": self._open_selected,
            "Space": lambda: self._toggle_selected(),
            "Backspace": self._go_up,
            "+": lambda: self._zoom(0.625),
            "-": lambda: self._zoom(1.6),
            "0": self._zoom_all,
        }
        for widget in (self.lines, self.chart):
            for key, act in keys.items():
                shortcut = QShortcut(QKeySequence(key), widget)
                shortcut.setContext(Qt.ShortcutContext.WidgetShortcut)
                shortcut.activated.connect(act)
        QShortcut(QKeySequence("Ctrl+F"), self).activated.connect(self._find.setFocus)

    def take_overview(self, overview: Overview) -> None:
        """History as the agent tells it. Another one than is shown takes its place only when its rows have
        come as well: never are rows shown that count other snapshots."""
        self._now, self._pinned, self._covered = overview.now, overview.pinned, overview.covered
        if overview.job != self._job:
            self._job = overview.job
            self.model, self._coming = self._model_of(overview), None
            self.restore_list.clear()
            self._show_model()
        elif (overview.history, overview.lost) != ((self._coming or self.model).history, self._lost):
            self._coming = self._model_of(overview)
            self._coming.follow(self.model)
        self.chart.pinned = frozenset(point.seq for point in self.model.tide if point.name in self._pinned)
        self._asked.clear()
        self._lost = overview.lost
        self._refresh()

    @staticmethod
    def _model_of(overview: Overview) -> TimelineModel:
        model = TimelineModel(overview.tide, overview.history)
        if len(overview.covered) == 1:
            model.root = os.fsencode(overview.covered[0])
        return model

    def _show_model(self) -> None:
        self.chart.pinned = frozenset(point.seq for point in self.model.tide if point.name in self._pinned)
        self.chart.show_model(self.model, self._now)
        self.lines.show_model(self.model, self._now)

    def go(self, seq: int) -> None:
        """Look at another moment."""
        self.model.go(seq)
        self._refresh()

    def enter(self, path: bytes) -> None:
        """Look into a folder."""
        self.model.enter(path)
        self.lines.verticalScrollBar().setValue(0)
        self._refresh()

    def select(self, path: bytes) -> None:
        """Choose a row."""
        self.model.selected = path
        self._refresh()
        self.lines.reveal_selected()

    def plan(self, items: list[PickedItem]) -> None:
        """Open the restore plan for some items."""
        self.dialog = PlanDialog(self._link, items, self._now, self.window())
        self.dialog.accepted.connect(self._plan_accepted)
        self.dialog.open()

    def plan_all(self, snapshot: SnapshotId, time: int) -> None:
        """Look at a moment, and open the plan that brings all covered folders back as they were then."""
        seq = next((point.seq for point in self.model.tide if point.name == snapshot), 0)
        if seq:
            self.go(seq)
        self.plan([PickedItem(os.fsencode(folder), snapshot, time) for folder in self._covered])

    def _pin_or_not(self) -> None:
        """Pin the snapshot that is looked at, with a label, or take its pin away."""
        snapshot, job = self.model.tide[self.model.moment - 1].name, self._job

        def done(answer: None) -> None:
            self.pins_changed.emit()

        if snapshot in self._pinned:
            self._link.ask(PinSnapshot(job, snapshot, False), done)
            return
        self.label = QInputDialog(self)
        self.label.setWindowTitle("Pin this snapshot")
        self.label.setLabelText("No thinning releases it. Why is it to stay? (This may be left empty.)")
        self.label.textValueSelected.connect(
            lambda words: self._link.ask(PinSnapshot(job, snapshot, True, words), done)
        )
        self.label.open()

    def _show_pin(self) -> None:
        """What can be done with the snapshot that is looked at."""
        point = self.model.tide[self.model.moment - 1] if self.model.moment else None
        pinned = point is not None and point.name in self._pinned
        label_of = self._pinned.get(point.name, "") if point is not None else ""
        self.pin.setText(f"Pinned{f': {label_of}' if label_of else ''}" if pinned else "Pin this snapshot…")
        self.pin.setToolTip("Take the pin away" if pinned else "Keep this snapshot, whatever the ladder says")
        self.pin.setCheckable(pinned)
        self.pin.setChecked(pinned)
        self.pin.setVisible(point is not None)

    def _plan_accepted(self) -> None:
        assert self.dialog is not None
        self.restore_list.clear()
        assert self.dialog.plan is not None
        self._link.ask(Restore(self.dialog.job, self.dialog.plan))

    def _refresh(self) -> None:
        """Show the model's state, and ask for what is missing."""
        if self._coming is not None:
            self._coming.follow(self.model)
        wanted = self._coming or self.model
        for path in wanted.missing_views():
            if (wanted.history, path) not in self._asked:
                self._asked.add((wanted.history, path))
                self._link.ask(ReadFolder(self._job, path), self._take_view)
        self._show_crumbs()
        self._show_counts()
        self._show_pin()
        self.chart.refresh()
        self.lines.refresh()
        self._show_choice()

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
        self._refresh()

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
        self.model.selected = path
        if seq:
            self.model.moment = seq
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

    def _go_up(self) -> None:
        parent, here = self.model.parent(), self.model.root
        if parent is not None:
            self.enter(parent)
            self.select(here)

    def _move_row(self, by: int) -> None:
        rows = self.model.rows()
        if rows:
            at = next(
                (number for number, row in enumerate(rows) if row.path == self.model.selected),
                -1 if by > 0 else len(rows),
            )
            self.select(rows[min(max(at + by, 0), len(rows) - 1)].path)

    def _zoom(self, factor: float) -> None:
        axis = self.model.axis
        at = axis.x(self.model.time_of(self.model.moment)) if self.model.moment else axis.width / 2
        axis.zoom(factor, min(max(at, 0.0), axis.width))
        self._view_moved()

    def _zoom_all(self) -> None:
        self.model.axis.show_all()
        self._view_moved()

    def _show_crumbs(self) -> None:
        while self._crumbs.count():
            item = self._crumbs.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        for number, (name, path) in enumerate([("All covered folders", b""), *self.model.crumbs()]):
            if number:
                self._crumbs.addWidget(label("›", "title"))
            crumb = QToolButton()
            crumb.setObjectName("crumb")
            crumb.setText(name)
            crumb.clicked.connect(lambda checked=False, path=path: self.enter(path))
            self._crumbs.addWidget(crumb)

    def _show_counts(self) -> None:
        here, gone = self.model.here_then()
        self._count.setText(
            f"{here:,} here then" + (f" · {gone:,} no longer here" if gone else "")
            if self.model.moment
            else ""
        )

    def _show_choice(self) -> None:
        chosen = self.model.chosen
        if chosen is None:
            self.inspector.show_nothing(
                "Choose a file",
                "Click a row to see its versions. Step through time with the arrow keys, or click the chart.",
            )
            return
        row, span = chosen
        if span is None:
            self.inspector.show_absent(row, self.model, self._now)
        else:
            self.inspector.show_version(row, span, self.model, self._now)
            self._settle.start()

    def _ask_detail(self) -> None:
        chosen = self.model.chosen
        if (
            chosen is not None
            and chosen[1] is not None
            and chosen[1].kind not in (Kind.FOLDER, Kind.LEFT_OUT)
        ):
            picked = self.model.picked(chosen[0].path)
            call = ReadDetail(self._job, picked.path, picked.snapshot, picked.time)
            self._link.ask(call, self._take_detail, self._no_detail)

    def _take_detail(self, detail: Detail) -> None:
        self.inspector.take_detail(detail, self.model, self._now)

    def _no_detail(self, fault: Fault) -> None:
        """It is not there any more: what is shown is of another history."""
        self.inspector.show_fault(str(fault))
        self.outdated.emit()

    def _ask_find(self) -> None:
        words = self._find.text().strip()
        if len(words) < 2:
            self._found.hide()
            return
        self._link.ask(FindNames(self._job, words), self._show_found, in_order=True)

    def _show_found(self, found: list[Found]) -> None:
        self._found.clear()
        for one in sorted(found, key=lambda one: one.path):
            seen = (
                "there now" if one.last_seen is None else f"last seen {time_words(one.last_seen, self._now)}"
            )
            folder = printable(os.path.basename(os.path.dirname(one.path)))
            item = QListWidgetItem(f"{printable(os.path.basename(one.path))}   in {folder}   {seen}")
            item.setData(256, one)
            item.setToolTip(printable(one.path))
            self._found.addItem(item)
        if not found:
            self._found.addItem("Nothing of this name was ever in a snapshot")
        self._found.setFixedHeight(min(6, max(1, self._found.count())) * 30 + 6)
        self._found.show()

    def _go_found(self, item: QListWidgetItem) -> None:
        one = item.data(256)
        if one is None:
            return
        self._found.hide()
        self._find.clear()
        self.enter(os.path.dirname(one.path))
        if one.last_seen is not None:
            self.model.go(self.model.nearest(one.last_seen))
        self.select(one.path)
        self.lines.setFocus()
