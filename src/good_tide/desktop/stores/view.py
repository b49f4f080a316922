"""The view Stores: each disk with its room; adding stores, carrying history over, and who may read them."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import (
    QButtonGroup,
    QRadioButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from good_tide.core.job_facts import StoreState
from good_tide.core.status import Action
from good_tide.core.translation import tr
from good_tide.core.words import count_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.confirm import ConfirmDialog
from good_tide.desktop.painting.flow import Pages
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import button, label, line
from good_tide.desktop.setup.replacing import ReplaceDialog
from good_tide.desktop.stores.adding import AddStorePanel
from good_tide.desktop.stores.card import StoreCard
from good_tide.desktop.stores.fleet_page import FleetPage
from good_tide.desktop.stores.health_page import HealthPage
from good_tide.desktop.stores.limits import LimitsDialog
from good_tide.desktop.stores.readers import ReadersDialog
from good_tide.desktop.stores.room_page import RoomPage
from good_tide.desktop.view import View, ViewKind
from good_tide.protocol.agent_calls import DisksChanged, Overview, StoreView
from good_tide.protocol.replacing_calls import CarryLeft, LetLeftGo
from good_tide.protocol.setup_calls import MadeView, OpenedView
from good_tide.protocol.store_calls import (
    CarryHistory,
    DropStore,
    EjectDisk,
    LookInto,
    MachineView,
    ReadFleet,
    ReadRoom,
    RoomView,
    UseStores,
)


class StoresPage(View):
    """The job's stores."""

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._look, self._link = look, link
        self._overview = Overview(StoreState.UNKNOWN)
        self.cards: list[StoreCard] = []
        self.dialog: ReadersDialog | None = None
        self.limits: LimitsDialog | None = None
        self.replacing: ReplaceDialog | None = None
        self.sure: ConfirmDialog | None = None
        self.sentence = label("", "quiet", wrap=True)
        self.add = button(tr("Add a store…"))
        self.panel = AddStorePanel(look, link)
        self.panel.hide()
        self.both, self.turns = (
            QRadioButton(tr("each snapshot goes into all of them")),
            QRadioButton(tr("they take turns")),
        )
        group = QButtonGroup(self)
        group.addButton(self.both)
        group.addButton(self.turns)
        self._use = QWidget()
        row = line(label(tr("With several stores:"), "strong"), self.both, self.turns, stretch=3, spacing=16)
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
        self.room_page, self.health_page = RoomPage(look, link), HealthPage(look, link)
        self.fleet_page = FleetPage(look, link)
        self._pages = Pages()
        for page in (listed, self.room_page, self.health_page, self.fleet_page):
            self._pages.addWidget(page)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(24, 16, 16, 16)
        whole.addWidget(self._pages)
        head = line(label(tr("Stores"), "title"), self.sentence, spacing=16)
        head.setStretch(1, 1)
        head.addWidget(self.add)
        outer.addLayout(head)
        outer.addWidget(scroll, 1)
        link.hear(DisksChanged, self._disks_changed)
        self.add.clicked.connect(self.open_panel)
        for page in (self.room_page, self.health_page, self.fleet_page):
            page.closed.connect(lambda: self._pages.setCurrentIndex(0))
        self.panel.closed.connect(self._close_panel)
        self.panel.made.connect(self._made)
        self.panel.opened.connect(self._opened)
        self.both.clicked.connect(lambda: self._link.ask(UseStores(self._link.job, "both")))
        self.turns.clicked.connect(lambda: self._link.ask(UseStores(self._link.job, "turns")))

    def open_panel(self) -> None:
        """Show what is needed to add a store."""
        self.panel.show()
        self.add.setEnabled(False)
        self.panel.start(self._overview.covered, tuple(view.where for view in self._overview.stores))

    def _close_panel(self) -> None:
        self.panel.hide()
        self.add.setEnabled(True)

    def _opened(self, opened: OpenedView) -> None:
        self._close_panel()
        self.job_wanted.emit(opened.histories[-1].job)

    def _made(self, made: MadeView) -> None:
        self._close_panel()
        if made.recovery_key is not None:
            self.recovery.emit(made)
        self.refresh_wanted.emit()

    def entered(self) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Ask for the room of each store, and which machines use it."""
        for one in self.cards:
            if one.view.present and not one.view.trouble:
                job, store = self._overview.job, one.view.id
                self._link.ask(ReadRoom(job, store), partial(self._show_room, one), lambda fault: None)
                self._link.ask(ReadFleet(job, store), partial(self._show_machines, one), lambda fault: None)

    def _show_room(self, shown: StoreCard, view: RoomView) -> None:
        if shown in self.cards:
            shown.show_room(view, self._overview.now)

    def show_room(self, view: StoreView) -> None:
        """Show what takes the room of a store."""
        self._pages.setCurrentWidget(self.room_page)
        self.room_page.show_store(view, self._overview)

    def show_health(self, view: StoreView) -> None:
        """Show how well a store is."""
        self._pages.setCurrentWidget(self.health_page)
        self.health_page.show_store(view, self._overview)

    def show_fleet(self, view: StoreView) -> None:
        """Show the machines that use a store."""
        self._pages.setCurrentWidget(self.fleet_page)
        self.fleet_page.show_store(view, self._overview)

    def _show_standings(self) -> None:
        """What has proven each store, and what somebody should look at."""
        standing = self._overview.standing
        if standing is not None and len(standing.stores) == len(self.cards):
            for card, one in zip(self.cards, standing.stores, strict=True):
                card.show_standing(one)

    def _limits(self, view: RoomView) -> None:
        self.limits = LimitsDialog(self._link, view.room, self)
        self.limits.kept.connect(self.refresh)
        self.limits.open()

    def _show_machines(self, shown: StoreCard, machines: list[MachineView]) -> None:
        if shown in self.cards:
            shown.show_machines(machines, self._overview.now)

    def _disks_changed(self, note: DisksChanged) -> None:
        if self.panel.isVisible():
            self.panel.place.ask()

    def show_job(self, overview: Overview) -> None:
        if (
            overview.stores == self._overview.stores
            and overview.store_use == self._overview.store_use
            and self.cards
        ):
            self._overview = overview
            self._show_standings()
            if self._pages.currentWidget() is self.health_page:
                self.health_page.ask()
            return
        self._overview = overview
        self._show_page_again()
        for old in self.cards:
            self._column.removeWidget(old)
            old.deleteLater()
        self.cards = []
        for number, view in enumerate(overview.stores):
            others = [one for one in overview.stores if one is not view]
            made = StoreCard(self._look, view, others, overview.reading)
            made.look_into.connect(self._look_into)
            made.drop.connect(self._drop)
            made.carry.connect(self._carry)
            made.readers.connect(self._readers)
            made.eject.connect(self._eject)
            made.limits.connect(self._limits)
            made.takes.connect(self.show_room)
            made.health.connect(self.show_health)
            made.fleet_wanted.connect(self.show_fleet)
            made.replace.connect(self._replace)
            made.carry_left.connect(self._carry_left)
            made.let_go.connect(self._let_go)
            self.cards.append(made)
            self._column.insertWidget(2 + number, made)
        away = sum(not view.present for view in overview.stores)
        self.sentence.setText(
            tr("{stores} of this job{value}.").format(
                stores=count_words(len(overview.stores), "store"),
                value=", " + tr("{away} away").format(away=away) if away else "",
            )
        )
        if overview.reading:
            self.sentence.setText(
                tr("A store of {machine}, opened only to read.").format(machine=overview.machine)
            )
        self.add.setVisible(not overview.reading)
        self._show_standings()
        if self.isVisible():
            self.refresh()
        self._use.setVisible(len(overview.stores) > 1)
        (self.turns if overview.store_use == "turns" else self.both).setChecked(True)

    def _show_page_again(self) -> None:
        """Show the store of the page that is open anew; close the page when it is not here any more."""
        present = {view.id: view for view in self._overview.stores if view.present}
        page = self._pages.currentWidget()
        if page is self.room_page and self.room_page.store in present:
            self.show_room(present[self.room_page.store])
        elif page is self.health_page and self.health_page.store in present:
            self.show_health(present[self.health_page.store])
        elif page is self.fleet_page and self.fleet_page.store in present:
            self.show_fleet(present[self.fleet_page.store])
        else:
            self._pages.setCurrentIndex(0)

    def _look_into(self, view: StoreView) -> None:
        self._link.ask(LookInto(self._overview.job, view.id), lambda done: self.refresh_wanted.emit())

    def _drop(self, view: StoreView) -> None:
        self._link.ask(DropStore(self._overview.job, view.id), lambda done: self.refresh_wanted.emit())

    def _carry(self, source: StoreView, target: StoreView) -> None:
        self._link.ask(CarryHistory(self._overview.job, source.id, target.id))

    def _eject(self, view: StoreView) -> None:
        def ejected(words: str) -> None:
            self.told.emit(f"{words}.", "", False)
            self.refresh_wanted.emit()

        self._link.ask(EjectDisk(self._overview.job, view.id), ejected)

    def _replace(self, view: StoreView) -> None:
        self.replacing = ReplaceDialog(self._link, view.id, self)
        self.replacing.made.connect(self._made)
        self.replacing.open()

    def _carry_left(self, view: StoreView) -> None:
        self._link.ask(CarryLeft(self._overview.job, view.id))

    def _let_go(self, view: StoreView) -> None:
        waited = tr("{left} that waited for an earlier disk").format(left=count_words(view.left, "snapshot"))
        self.sure = ConfirmDialog(
            self,
            tr("Let {waited} go?").format(waited=waited),
            tr(
                "They are deleted from this machine. What only they had is gone then; everything in the store"
                " stays."
            ),
            tr("Let them go"),
            lambda: self._link.ask(
                LetLeftGo(self._overview.job, view.id), lambda done: self.refresh_wanted.emit()
            ),
        )
        self.sure.open()

    def _readers(self, view: StoreView) -> None:
        self.dialog = ReadersDialog(self._look, self._link, view, self)
        self.dialog.recovery.connect(self.recovery)
        self.dialog.open()


STORES = ViewKind(tr("Stores"), "stores", StoresPage, frozenset((Action.STORES,)))
