"""One store of the job: its disk, its room, and the machines that use it."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QMenu,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.clock import SECOND
from good_tide.core.standing import StoreStanding
from good_tide.core.translation import tr
from good_tide.core.words import count_words, duration_words, size_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, card, label, line
from good_tide.desktop.stores.forecast_picture import ForecastPicture
from good_tide.desktop.stores.limits import full_words
from good_tide.desktop.stores.room_picture import RoomPicture
from good_tide.protocol.agent_calls import StoreView
from good_tide.protocol.store_calls import (
    MachineView,
    RoomView,
)


class StoreCard(QWidget):
    """One store of the job."""

    look_into = Signal(object)
    carry = Signal(object, object)
    readers = Signal(object)
    drop = Signal(object)
    eject = Signal(object)
    limits = Signal(object)
    takes = Signal(object)
    health = Signal(object)
    fleet_wanted = Signal(object)
    replace = Signal(object)
    carry_left = Signal(object)
    let_go = Signal(object)

    def __init__(self, look: Palette, view: StoreView, others: list[StoreView], reading: bool) -> None:
        super().__init__()
        self.view = view
        frame, layout = card(margin=18, spacing=8)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(frame)
        self.name = label(view.disk + ("" if view.present else "   " + tr("away")), "title")
        head = line(self.name)
        head.addStretch()
        self.into = button(tr("Look into it"))
        self.carry_to, self.who, self.off = (
            button(tr("Carry history to…")),
            button(tr("Who may read it…")),
            button(tr("No longer use it")),
        )
        if view.present and not view.shown and not view.trouble:
            head.addWidget(self.into)
        if view.present and others and not view.trouble:
            head.addWidget(self.carry_to)
        if view.present and view.encrypted and not reading:
            head.addWidget(self.who)
        if others:
            head.addWidget(self.off)
        self.take_away = button(tr("Eject"))
        self.take_away.setToolTip(tr("Write everything out, unmount the disk, and switch it off"))
        if view.present and view.removable:
            head.addWidget(self.take_away)
        self.take_away.clicked.connect(lambda: self.eject.emit(view))
        layout.addLayout(head)
        layout.addWidget(label(self._words(view), "quiet", wrap=True))
        self._add_trouble(layout, view)
        self.proven, self.well = label("", "quiet", wrap=True), button(tr("Health…"))
        self.well.setToolTip(
            tr("Pack by pack when it was read back, what was put right, what is lost; and repair")
        )
        self.well.clicked.connect(lambda: self.health.emit(self.view))
        row = line(self.proven, self.well)
        row.setStretch(0, 1)
        layout.addLayout(row)
        self.well.setVisible(view.present and not view.trouble)
        self.picture = RoomPicture(look)
        if view.present and view.disk_total:
            self.picture.show_store(view)
            layout.addWidget(self.picture)
        self.forecast, self.full = ForecastPicture(look), label("", "strong", wrap=True)
        self.room = button(tr("Limits…"))
        self.room.setToolTip(
            tr(
                "What the store may take, what stays free for other things, and what happens when room gets"
                " short"
            )
        )
        self.room_view: RoomView | None = None
        self.room.clicked.connect(lambda: self.limits.emit(self.room_view))
        self.what = button(tr("What takes the room…"))
        self.what.setToolTip(
            tr("By snapshot, folder, kind and month; release some, or take something out of all history")
        )
        self.what.clicked.connect(lambda: self.takes.emit(self.view))
        layout.addLayout(line(self.full, self.what, self.room))
        layout.addWidget(self.forecast)
        for widget in (self.full, self.room, self.what, self.forecast):
            widget.hide()
        self.machines, self.fleet = label("", "quiet", wrap=True), button(tr("Machines…"))
        self.fleet.setToolTip(
            tr("All machines that use this store: which are late, and what each did this week")
        )
        self.fleet.clicked.connect(lambda: self.fleet_wanted.emit(self.view))
        row = line(self.machines, self.fleet)
        row.setStretch(0, 1)
        layout.addLayout(row)
        for widget in (self.machines, self.fleet):
            widget.hide()
        menu = QMenu(self.carry_to)
        for other in others:
            action = menu.addAction(f"{other.disk}   {other.where}")
            action.setEnabled(other.present)
            action.triggered.connect(lambda checked=False, other=other: self.carry.emit(view, other))
        self.carry_to.setMenu(menu)
        self.into.clicked.connect(lambda: self.look_into.emit(view))
        self.who.clicked.connect(lambda: self.readers.emit(view))
        self.off.clicked.connect(lambda: self.drop.emit(view))

    def _add_trouble(self, layout: QVBoxLayout, view: StoreView) -> None:
        """What is wrong with the store, and the ways on."""
        self.go_on = button(tr("Go on with this disk…"), primary=True)
        self.again, self.forget = button(tr("Try again to carry them")), button(tr("Let them go…"))
        self.go_on.clicked.connect(lambda: self.replace.emit(view))
        self.again.clicked.connect(lambda: self.carry_left.emit(view))
        self.forget.clicked.connect(lambda: self.let_go.emit(view))
        if view.replaced:
            words = tr(
                "The store of this job is not there any more: its disk was replaced or emptied. Connect"
                " the old"
            )
            layout.addWidget(
                label(tr("{words} disk, or go on with this one.").format(words=words), "harm", wrap=True)
            )
            layout.addLayout(line(self.go_on, stretch=1))
        elif view.trouble:
            layout.addWidget(label(view.trouble, "harm", wrap=True))
        if view.left:
            waits = tr("{left} that waited for the disk before this one").format(
                left=count_words(view.left, "snapshot")
            )
            words = tr("{waits} could not be carried: what they build on is on that disk only.").format(
                waits=waits
            )
            layout.addWidget(label(words, "quiet", wrap=True))
            layout.addLayout(line(self.again, self.forget, stretch=2))

    def show_standing(self, standing: StoreStanding) -> None:
        """What has proven the store, and what somebody should look at."""
        if self.view.trouble:
            return  # it cannot be opened, which is said, and what to do
        words = [standing.proven, *(f"{what}. {todo}." for what, todo in standing.trouble)]
        self.proven.setText("\n".join(one for one in words if one))
        self.proven.setObjectName("harm" if standing.trouble else "quiet")
        self.proven.style().unpolish(self.proven)
        self.proven.style().polish(self.proven)

    def show_room(self, view: RoomView, now: int) -> None:
        """When the disk will be full, and the coming half year."""
        self.room_view = view
        self.full.setText(full_words(view, now))
        for widget in (self.full, self.room, self.what):
            widget.show()
        self.forecast.show_room(view, now)

    def show_machines(self, machines: list[MachineView], now: int) -> None:
        """How many machines use the store, and which one is latest."""
        late = [one for one in machines if one.late]
        told = tr("{value} with").format(value=count_words(len({one.machine for one in machines}), "machine"))
        told += " " + tr("{machines} here").format(machines=count_words(len(machines), "job"))
        if late:
            first = f"{late[0].machine} by {duration_words(late[0].late / SECOND)}"
            told += (
                "; "
                + tr("late: {first}").format(first=first)
                + (" " + tr("and {late} more").format(late=len(late) - 1) if len(late) > 1 else "")
            )
        self.machines.setText(f"{told}.")
        self.machines.setObjectName("harm" if late else "quiet")
        self.machines.style().polish(self.machines)
        for widget in (self.machines, self.fleet):
            widget.setVisible(bool(machines))

    @staticmethod
    def _words(view: StoreView) -> str:
        if view.why:
            return f"{view.where}\n{view.why}"
        if not view.present:
            return tr(
                "{where}\nThe disk is not here. Everything on it is as it was; connect it to go on."
            ).format(where=view.where)
        if view.trouble:
            return view.where
        secrecy = (
            tr("Encrypted; hint: {hint}").format(hint=view.hint or "none")
            if view.encrypted
            else tr("Not encrypted: whoever has the disk can read everything")
        )
        shown = "   ·   " + tr("the timeline shows this one") if view.shown else ""
        where = "{where}   ·   {file_system}".format(
            where=view.where, file_system=view.file_system or tr("unknown file system")
        )
        held = tr("{snapshots}, {stored} stored{shown}").format(
            snapshots=count_words(view.snapshots, "snapshot"), stored=size_words(view.stored), shown=shown
        )
        return f"{where}\n{secrecy}\n{held}"
