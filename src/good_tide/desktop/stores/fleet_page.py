"""All machines that use one store: which of them need somebody, what each did this week, and which are
retired."""

from __future__ import annotations

from datetime import timedelta

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeWidget,
    QTreeWidgetItem,
)

from good_tide.core.clock import SECOND
from good_tide.core.identifiers import StoreId
from good_tide.core.translation import tr
from good_tide.core.words import count_words, duration_words, local, time_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.confirm import ConfirmDialog
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import align_numbers, button, card, label, line
from good_tide.desktop.stores.store_page import StorePage
from good_tide.protocol.agent_calls import Overview, StoreView
from good_tide.protocol.store_calls import MachineView, ReadFleet, RetireMachine

_MACHINE, _JOB, _STATE, _WEEK, _LAST, _SNAPSHOTS, _FILES, _GAPS, _RHYTHM = range(9)
_HEADINGS = (
    tr("Machine"),
    tr("Job"),
    "",
    tr("This week"),
    tr("Last snapshot"),
    tr("Snapshots"),
    tr("Files"),
    tr("Gaps"),
    tr("Rhythm"),
)
_WIDTHS = (160, 140, 150, 150, 140, 85, 65, 60)
_VIEW = Qt.ItemDataRole.UserRole
_ORDERS = (tr("those in need first"), tr("together by machine"), tr("together by job"))


def _state(one: MachineView, now: int) -> str:
    if one.retired:
        return tr("retired {retired}").format(retired=time_words(one.retired, now))
    return tr("late by {late}").format(late=duration_words(one.late / SECOND)) if one.late else tr("in time")


def week_words(week: tuple[int, ...], now: int) -> str:
    """What a machine did on each of the last days, one a line."""
    today = local(now)
    days = [today - timedelta(days=len(week) - 1 - number) for number in range(len(week))]
    return "\n".join(
        "{day:%A %d %B}: {count}".format(
            day=day, count=count_words(count, "snapshot") if count else tr("no snapshot")
        )
        for day, count in zip(days, week, strict=True)
    )


class WeekStrip(QStyledItemDelegate):
    """Paints the snapshots of seven days as water in seven locks, today's at the right: as high as the day
    had many of the machine's busiest; a day without is an empty lock."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        super().paint(painter, option, index)
        one = index.sibling(index.row(), 0).data(_VIEW)
        if not isinstance(one, MachineView) or not one.week:
            return
        box = QRectF(option.rect).adjusted(4, 5, -4, -5)
        cell, most = box.width() / len(one.week), max(1, *one.week)
        painter.save()
        for number, count in enumerate(one.week):
            lock = QRectF(box.left() + number * cell, box.top(), cell - 3, box.height())
            painter.setPen(QPen(self._look.color("coral" if one.late and not count else "line"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(lock)
            if count:
                height = max(3.0, lock.height() * count / most)
                water = QRectF(lock.left(), lock.bottom() - height, lock.width(), height)
                painter.fillRect(water, self._look.color("quiet_text" if one.retired else "shoal_deep"))
        painter.restore()


class FleetPage(StorePage):
    """The machines of one store."""

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__(link)
        self._look = look
        self.machines: list[MachineView] = []
        self.question: ConfirmDialog | None = None
        self.late = QCheckBox(tr("Only those that are late"))
        self.order = QComboBox()
        self.order.addItems(_ORDERS)
        self.order.setAccessibleName(tr("In which order"))
        self.retire = button(tr("Retire…"))
        self.retire.setToolTip(tr("It takes no more snapshots into this store: it is never late from now on"))
        self.rows = QTreeWidget()
        self.rows.setHeaderLabels(list(_HEADINGS))
        self.rows.setRootIsDecorated(False)
        self.rows.setAccessibleName(tr("Machines that use this store"))
        self.rows.setItemDelegateForColumn(_WEEK, WeekStrip(look))
        for column, width in enumerate(_WIDTHS):
            self.rows.setColumnWidth(column, width)
        align_numbers(self.rows, (_SNAPSHOTS, _FILES, _GAPS))
        self._lay_out()
        self.late.toggled.connect(self._fill)
        self.order.currentIndexChanged.connect(self._fill)
        self.retire.clicked.connect(self._retire)
        self.rows.currentItemChanged.connect(lambda row, before: self._offer())

    def _lay_out(self) -> None:
        outer = self._outer()
        frame, inner = card(margin=16, spacing=8)
        inner.addLayout(line(self.late, self.order, self.retire, stretch=2, spacing=14))
        inner.addWidget(self.rows, 1)
        inner.addWidget(
            label(
                tr(
                    "This week: one column a day, today's at the right, as high as the day had many"
                    " snapshots; an empty one had none."
                ),
                "quiet",
                wrap=True,
            )
        )
        outer.addWidget(frame, 1)

    @property
    def store(self) -> StoreId:
        """The store whose machines are shown."""
        return self._store

    def show_store(self, view: StoreView, overview: Overview) -> None:
        """Show the machines of a store, or show them anew."""
        if self._know(view, overview):
            self.machines = []
            self.rows.clear()
            self.sentence.setText(tr("Looking…"))
        self.title.setText(tr("Machines of {disk}").format(disk=view.disk))
        self._link.ask(ReadFleet(self._job, self._store), self._show, self._wrong)

    def _show(self, machines: list[MachineView]) -> None:
        self.machines = machines
        late, retired = sum(bool(one.late) for one in machines), sum(bool(one.retired) for one in machines)
        told = [tr("{count} watched").format(count=count_words(len(machines) - retired, "job"))]
        told.append(tr("{late} late").format(late=late) if late else tr("none is late"))
        told += [tr("{retired} retired").format(retired=retired)] if retired else []
        self.sentence.setText(f"{', '.join(told)}.")
        self._fill()

    def _fill(self) -> None:
        """Show the rows that are wanted, in the order that is wanted."""
        current = self._current()
        chosen = (current.machine, current.job) if current is not None else None
        self.rows.clear()
        shown = [one for one in self.machines if one.late or not self.late.isChecked()]
        groups: dict[str, QTreeWidgetItem] = {}
        order = self.order.currentIndex()
        for one in shown:
            row = self._row(one)
            if order == 0:
                self.rows.addTopLevelItem(row)
            else:
                name = one.machine if order == 1 else one.job or tr("by hand")
                if name not in groups:
                    groups[name] = QTreeWidgetItem([name])
                    self.rows.addTopLevelItem(groups[name])
                groups[name].addChild(row)
            if chosen == (one.machine, one.job):
                self.rows.setCurrentItem(row)
        self.rows.setRootIsDecorated(bool(groups))
        self.rows.expandAll()
        self._offer()

    def _row(self, one: MachineView) -> QTreeWidgetItem:
        name = tr("{machine} (this one)").format(machine=one.machine) if one.mine else one.machine
        numbers = [f"{count:,}" for count in (one.snapshots, one.files, one.gaps)]
        row = QTreeWidgetItem(
            [name, one.job, _state(one, self._now), "", time_words(one.last, self._now), *numbers, one.rhythm]
        )
        row.setData(0, _VIEW, one)
        for column in (_SNAPSHOTS, _FILES, _GAPS):
            row.setTextAlignment(column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        words = week_words(one.week, self._now)
        row.setToolTip(_WEEK, words)
        row.setData(_WEEK, Qt.ItemDataRole.AccessibleTextRole, words)
        row.setToolTip(_RHYTHM, one.rhythm)
        mood = "quiet_text" if one.retired else "coral" if one.late else "kelp"
        row.setForeground(_STATE, self._look.color(mood))
        return row

    def _current(self) -> MachineView | None:
        row = self.rows.currentItem()
        return row.data(0, _VIEW) if row is not None else None

    def _offer(self) -> None:
        """What can be done with the row that is chosen."""
        one = self._current()
        self.retire.setVisible(not self._reading)
        self.retire.setEnabled(one is not None)
        self.retire.setText(tr("Watch it again") if one is not None and one.retired else tr("Retire…"))

    def _retire(self) -> None:
        one = self._current()
        if one is None:
            return
        call = RetireMachine(self._job, self._store, one.machine, one.job, not one.retired)
        if one.retired:
            self._link.ask(call, self._show, self._wrong)
            return
        job = " " + tr("with its job {job}").format(job=one.job) if one.job else ""
        self.question = ConfirmDialog(
            self,
            tr("Retire {machine}{job}?").format(machine=one.machine, job=job),
            tr(
                "It is called late no more. Its {snapshots} stay, and a snapshot that it takes all the same"
                " brings it back to this list."
            ).format(snapshots=count_words(one.snapshots, "snapshot")),
            tr("Retire it"),
            lambda: self._link.ask(call, self._show, self._wrong),
        )
        self.question.open()
