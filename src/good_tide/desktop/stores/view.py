"""The place Stores: each disk with its room; adding stores, carrying history over, and who may read them."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QButtonGroup,
    QHBoxLayout,
    QMenu,
    QRadioButton,
    QScrollArea,
    QStackedWidget,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.clock import SECOND
from good_tide.core.places import Level
from good_tide.core.words import count_words, duration_words, size_words, time_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import align_numbers, button, card, label, line
from good_tide.desktop.setup.disk_rows import PlaceChooser
from good_tide.desktop.setup.secrecy import SecrecyPanel
from good_tide.desktop.stores.forecast_picture import ForecastPicture
from good_tide.desktop.stores.limits import LimitsDialog, full_words
from good_tide.desktop.stores.readers import ReadersDialog
from good_tide.desktop.stores.room_page import RoomPage
from good_tide.desktop.stores.room_picture import RoomPicture
from good_tide.protocol.messages import Fault, MadeView, Overview, SetUpView, StoreView
from good_tide.protocol.upkeep_messages import MachineView, RoomView


class StoreCard(QWidget):
    """One store of the job."""

    look_into = Signal(str)
    carry = Signal(str, str)
    readers = Signal(str)
    drop = Signal(str)
    eject = Signal(str)
    limits = Signal(object)
    takes = Signal(object)

    def __init__(self, look: Palette, view: StoreView, others: list[StoreView], reading: bool) -> None:
        super().__init__()
        self.view = view
        frame, layout = card(margin=18, spacing=8)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(frame)
        self.name = label(view.disk + ("" if view.present else "   away"), "title")
        head = line(self.name)
        head.addStretch()
        self.into = button("Look into it")
        self.carry_to, self.who, self.off = (
            button("Carry history to…"),
            button("Who may read it…"),
            button("No longer use it"),
        )
        if view.present and not view.shown:
            head.addWidget(self.into)
        if view.present and others:
            head.addWidget(self.carry_to)
        if view.present and view.encrypted and not reading:
            head.addWidget(self.who)
        if others:
            head.addWidget(self.off)
        self.take_away = button("Eject")
        self.take_away.setToolTip("Write everything out, unmount the disk, and switch it off")
        if view.present and view.removable:
            head.addWidget(self.take_away)
        self.take_away.clicked.connect(lambda: self.eject.emit(view.folder))
        layout.addLayout(head)
        layout.addWidget(label(self._words(view), "quiet", wrap=True))
        if view.trouble:
            layout.addWidget(label(view.trouble, "harm", wrap=True))
        self.picture = RoomPicture(look)
        if view.present and view.disk_total:
            self.picture.show_store(view)
            layout.addWidget(self.picture)
        self.forecast, self.full = ForecastPicture(look), label("", "strong", wrap=True)
        self.room = button("Limits…")
        self.room.setToolTip(
            "What the store may take, what stays free for other things, and what happens when room gets short"
        )
        self.room_view: RoomView | None = None
        self.room.clicked.connect(lambda: self.limits.emit(self.room_view))
        self.what = button("What takes the room…")
        self.what.setToolTip(
            "By snapshot, folder, kind and month; release some, or take something out of all history"
        )
        self.what.clicked.connect(lambda: self.takes.emit(self.view))
        layout.addLayout(line(self.full, self.what, self.room))
        layout.addWidget(self.forecast)
        for widget in (self.full, self.room, self.what, self.forecast):
            widget.hide()
        self.machines = QTreeWidget()
        self.machines.setHeaderLabels(["Machine", "Job", "Last snapshot", "Snapshots", "", "Rhythm"])
        self.machines.setRootIsDecorated(False)
        self.machines.setAccessibleName("Machines that use this store")
        self.machines.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.machines.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        for column, width in enumerate((160, 150, 130, 85, 95)):
            self.machines.setColumnWidth(column, width)
        align_numbers(self.machines, (3,))
        self._look, self._machines_title = look, label("Machines that use this store", "strong")
        for one in (self._machines_title, self.machines):
            layout.addWidget(one)
            one.hide()
        menu = QMenu(self.carry_to)
        for other in others:
            action = menu.addAction(f"{other.disk}   {other.folder}")
            action.setEnabled(other.present)
            action.triggered.connect(
                lambda checked=False, other=other: self.carry.emit(view.folder, other.folder)
            )
        self.carry_to.setMenu(menu)
        self.into.clicked.connect(lambda: self.look_into.emit(view.folder))
        self.who.clicked.connect(lambda: self.readers.emit(view.folder))
        self.off.clicked.connect(lambda: self.drop.emit(view.folder))

    def show_room(self, view: RoomView, now: int) -> None:
        """When the disk will be full, and the coming half year."""
        self.room_view = view
        self.full.setText(full_words(view, now))
        for widget in (self.full, self.room, self.what):
            widget.show()
        self.forecast.show_room(view, now)

    def show_machines(self, machines: list[MachineView], now: int) -> None:
        """The machines that use the store, those that are late first."""
        self.machines.clear()
        for one in machines:
            state = f"late by {duration_words(one.late / SECOND)}" if one.late else "in time"
            name = f"{one.machine} (this one)" if one.mine else one.machine
            row = QTreeWidgetItem(
                [name, one.job, time_words(one.last, now), f"{one.snapshots:,}", state, one.rhythm]
            )
            row.setTextAlignment(3, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            row.setToolTip(5, one.rhythm)
            row.setForeground(4, self._look.color("coral" if one.late else "kelp"))
            self.machines.addTopLevelItem(row)
        self.machines.setFixedHeight(min(8, len(machines)) * 28 + 36)
        for widget in (self._machines_title, self.machines):
            widget.setVisible(bool(machines))

    @staticmethod
    def _words(view: StoreView) -> str:
        if not view.present:
            return f"{view.folder}\nThe disk is not here. Everything on it is as it was; connect it to go on."
        secrecy = (
            f"Encrypted; hint: {view.hint or 'none'}"
            if view.encrypted
            else "Not encrypted: whoever has the disk can read everything"
        )
        shown = "   ·   the timeline shows this one" if view.shown else ""
        where = f"{view.folder}   ·   {view.file_system or 'unknown file system'}"
        held = f"{count_words(view.snapshots, 'snapshot')}, {size_words(view.stored)} stored{shown}"
        return f"{where}\n{secrecy}\n{held}"


class AddStorePanel(QWidget):
    """Adding a store: where, and who may read it."""

    made = Signal(object)
    closed = Signal()

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._link = link
        self.place, self.secrecy = PlaceChooser(look, link), SecrecyPanel(look)
        self.trouble = label("", "harm", wrap=True)
        self.add, self.cancel = button("Add this store", primary=True), button("Cancel")
        self.read = button("Only read it")
        self.read.setToolTip("Look into a store of another machine without adding it to this job")
        frame, layout = card(margin=18, spacing=10)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(frame)
        layout.addWidget(label("Add a store", "title"))
        layout.addWidget(
            label(
                "On another disk, as a second copy or to move to. A store that is found there is put to use"
                " again.",
                "quiet",
                wrap=True,
            )
        )
        sides = QHBoxLayout()
        sides.setSpacing(18)
        sides.addWidget(self.place, 3)
        sides.addWidget(self.secrecy, 2)
        layout.addLayout(sides)
        row = QHBoxLayout()
        row.addWidget(self.trouble, 1)
        row.addWidget(self.cancel)
        row.addWidget(self.read)
        row.addWidget(self.add)
        layout.addLayout(row)
        self.place.setMinimumHeight(430)
        self.place.changed.connect(self._changed)
        self.secrecy.changed.connect(self._show)
        self.cancel.clicked.connect(self.closed)
        self.add.clicked.connect(self._add)
        self.read.clicked.connect(self._read)

    def start(self, folders: tuple[str, ...], used: tuple[str, ...]) -> None:
        """Show the disks there are; ``used`` are the folders of the job's stores."""
        self._link.ask("proposal", None, SetUpView, lambda view: self.secrecy.set_key_ring(view.key_ring))
        self.place.folders, self.place.used = folders, used
        self.place.path.clear()
        self.place.ask()

    def _changed(self) -> None:
        found = self.place.examined
        self.secrecy.holds(
            found is not None and found.holds is not None, None if found is None else found.hint
        )
        self._show()

    def _show(self) -> None:
        bad = next((check for check in self.place.list.checks if check.level is Level.BAD), None)
        missing = (
            f"{bad.what}."
            if bad is not None
            else ""
            if self.place.examined is not None
            else "Choose a place."
        )
        missing = missing or self.secrecy.missing()
        self.trouble.setText(missing)
        self.add.setEnabled(not missing)
        holds = self.place.examined is not None and self.place.examined.holds is not None
        self.read.setVisible(holds)
        self.read.setEnabled(holds and not self.secrecy.missing())

    def _read(self) -> None:
        request = {"folder": self.place.folder, "passphrase": self.secrecy.value()}
        self._link.ask("open-to-read", request, str, self.made.emit, self._refused)

    def _add(self) -> None:
        request = {
            "folder": self.place.folder,
            "passphrase": self.secrecy.value(),
            "hint": self.secrecy.hint.text().strip(),
            "remember": self.secrecy.remember.isChecked(),
            "doubts": list(self.place.doubts()),
        }
        self.add.setEnabled(False)
        self._link.ask("add-store", request, MadeView, self.made.emit, self._refused)

    def _refused(self, fault: Fault) -> None:
        self._show()
        self.trouble.setText(f"{fault.message}. {fault.data}")


class StoresPlace(QWidget):
    """The job's stores. ``recovery`` carries what was made with a recovery key that is to be shown."""

    recovery = Signal(object)
    refresh_wanted = Signal()
    job_wanted = Signal(str)
    """Show a job, such as a store that was opened only to read."""
    told = Signal(str)

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._look, self._link = look, link
        self._overview = Overview("unknown")
        self.cards: list[StoreCard] = []
        self.dialog: ReadersDialog | None = None
        self.limits: LimitsDialog | None = None
        self.sentence = label("", "quiet", wrap=True)
        self.add = button("Add a store…")
        self.panel = AddStorePanel(look, link)
        self.panel.hide()
        self.both, self.turns = (
            QRadioButton("each snapshot goes into all of them"),
            QRadioButton("they take turns"),
        )
        group = QButtonGroup(self)
        group.addButton(self.both)
        group.addButton(self.turns)
        self._use = QWidget()
        row = line(label("With several stores:", "strong"), self.both, self.turns, stretch=3, spacing=16)
        row.setContentsMargins(4, 0, 0, 0)
        self._use.setLayout(row)
        holder = QWidget()
        holder.setObjectName("clear")
        self._column = QVBoxLayout(holder)
        self._column.setContentsMargins(0, 0, 8, 0)
        self._column.setSpacing(12)
        self._column.addWidget(self.panel)
        self._column.addWidget(self._use)
        self._column.addStretch()
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(holder)
        listed = QWidget()
        outer = QVBoxLayout(listed)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(10)
        self.room_page = RoomPage(look, link)
        self._pages = QStackedWidget()
        self._pages.addWidget(listed)
        self._pages.addWidget(self.room_page)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(24, 16, 16, 16)
        whole.addWidget(self._pages)
        head = line(label("Stores", "title"), self.sentence, spacing=16)
        head.setStretch(1, 1)
        head.addWidget(self.add)
        outer.addLayout(head)
        outer.addWidget(scroll, 1)
        self.add.clicked.connect(self.open_panel)
        self.room_page.closed.connect(lambda: self._pages.setCurrentIndex(0))
        self.panel.closed.connect(self._close_panel)
        self.panel.made.connect(self._made)
        self.both.clicked.connect(lambda: self._link.ask("store-use", {"use": "both"}))
        self.turns.clicked.connect(lambda: self._link.ask("store-use", {"use": "turns"}))

    def open_panel(self) -> None:
        """Show what is needed to add a store."""
        self.panel.show()
        self.add.setEnabled(False)
        self.panel.start(self._overview.covered, tuple(view.folder for view in self._overview.stores))

    def _close_panel(self) -> None:
        self.panel.hide()
        self.add.setEnabled(True)

    def _made(self, made: MadeView | str) -> None:
        self._close_panel()
        if isinstance(made, str):
            self.job_wanted.emit(made)
            return
        if made.recovery_key is not None:
            self.recovery.emit(made)
        self.refresh_wanted.emit()

    def refresh(self) -> None:
        """The place was entered: ask which machines use each store."""
        for one in self.cards:
            if one.view.present and not one.view.trouble:
                self._link.ask(
                    "room",
                    {"words": one.view.folder},
                    RoomView,
                    partial(self._show_room, one),
                    lambda fault: None,
                )
                show = partial(self._show_machines, one)
                self._link.ask(
                    "fleet", {"words": one.view.folder}, list[MachineView], show, lambda fault: None
                )

    def _show_room(self, shown: StoreCard, view: RoomView) -> None:
        if shown in self.cards:
            shown.show_room(view, self._overview.now)

    def show_room(self, view: StoreView) -> None:
        """Show what takes the room of a store."""
        self._pages.setCurrentWidget(self.room_page)
        self.room_page.show_store(view, self._overview)

    def _limits(self, view: RoomView) -> None:
        self.limits = LimitsDialog(self._link, view.room, self)
        self.limits.kept.connect(self.refresh)
        self.limits.open()

    def _show_machines(self, shown: StoreCard, machines: list[MachineView]) -> None:
        if shown in self.cards:
            shown.show_machines(machines, self._overview.now)

    def disks_changed(self) -> None:
        """A disk came or went."""
        if self.panel.isVisible():
            self.panel.place.ask()

    def show_stores(self, overview: Overview) -> None:
        """The job's stores."""
        if (
            overview.stores == self._overview.stores
            and overview.store_use == self._overview.store_use
            and self.cards
        ):
            self._overview = overview
            return
        self._overview = overview
        shown = next(
            (view for view in overview.stores if view.folder == self.room_page.folder and view.present), None
        )
        if shown is None:
            self._pages.setCurrentIndex(0)
        elif self._pages.currentWidget() is self.room_page:
            self.show_room(shown)
        for old in self.cards:
            self._column.removeWidget(old)
            old.deleteLater()
        self.cards = []
        for number, view in enumerate(overview.stores):
            others = [one for one in overview.stores if one is not view]
            made = StoreCard(self._look, view, others, overview.reading)
            made.look_into.connect(lambda folder: self._then("look-into", folder))
            made.drop.connect(lambda folder: self._then("drop-store", folder))
            made.carry.connect(
                lambda source, target: self._link.ask("carry", {"source": source, "target": target})
            )
            made.readers.connect(self._readers)
            made.eject.connect(self._eject)
            made.limits.connect(self._limits)
            made.takes.connect(self.show_room)
            self.cards.append(made)
            self._column.insertWidget(2 + number, made)
        away = sum(not view.present for view in overview.stores)
        self.sentence.setText(
            f"{count_words(len(overview.stores), 'store')} of this job{f', {away} away' if away else ''}."
        )
        if overview.reading:
            self.sentence.setText(f"A store of {overview.machine}, opened only to read.")
        self.add.setVisible(not overview.reading)
        if self.isVisible():
            self.refresh()
        self._use.setVisible(len(overview.stores) > 1)
        (self.turns if overview.store_use == "turns" else self.both).setChecked(True)

    def _then(self, method: str, folder: str) -> None:
        self._link.ask(method, {"words": folder}, None, lambda result: self.refresh_wanted.emit())

    def _eject(self, folder: str) -> None:
        def ejected(words: str) -> None:
            self.told.emit(f"{words}.")
            self.refresh_wanted.emit()

        self._link.ask("eject", {"words": folder}, str, ejected)

    def _readers(self, folder: str) -> None:
        self.dialog = ReadersDialog(self._look, self._link, folder, self)
        self.dialog.recovery.connect(self.recovery)
        self.dialog.open()
