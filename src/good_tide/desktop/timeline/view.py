"""The view Timeline: history, or what is to be done before there is any."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QVBoxLayout

from good_tide.core.homes import home_of
from good_tide.core.job_facts import StoreState
from good_tide.core.status import Action
from good_tide.core.translation import tr
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.flow import Pages
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.setup.going_on import GoOnDialog
from good_tide.desktop.setup.replacing import ReplaceDialog
from good_tide.desktop.timeline.history_page import HistoryPage
from good_tide.desktop.timeline.reading_strip import ReadingStrip
from good_tide.desktop.timeline.state_page import StatePage
from good_tide.desktop.view import PathOffer, RestoreOffer, View, ViewKind
from good_tide.protocol.agent_calls import Overview
from good_tide.protocol.faults import Fault
from good_tide.protocol.setup_calls import MadeView
from good_tide.protocol.store_calls import Unlock, Unlocked


class TimelineView(View):
    """Find what was, and bring it back."""

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__()
        self._link = link
        self.history, self.state = HistoryPage(look, link), StatePage()
        self.pages = Pages()
        self.pages.addWidget(self.history)
        self.pages.addWidget(self.state)
        self.pages.setCurrentWidget(self.state)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        self.reading = ReadingStrip()
        self._strip = QVBoxLayout()
        self._strip.addWidget(self.reading)
        whole.addLayout(self._strip)
        whole.addWidget(self.pages, 1)
        self.reading.bring.connect(self._bring_all)
        self.reading.go_on.connect(self._go_on_here)
        self.history.pins_changed.connect(self.refresh_wanted)
        self.history.outdated.connect(self.refresh_wanted)
        self.history.handing.told.connect(self.told)
        self.history.lines.dropped.connect(self.path_wanted)
        self.state.unlock.connect(self._unlock)
        self.state.again.connect(self.refresh_wanted)
        self.state.go_on.connect(self._go_on)
        self._overview = Overview(StoreState.UNKNOWN)
        self.replacing: ReplaceDialog | None = None
        self.going_on: GoOnDialog | None = None

    def show_job(self, overview: Overview) -> None:
        self._overview = overview
        self.state.show_state(overview)
        self.reading.show_job(overview)
        self._strip.setContentsMargins(14, 8 if overview.reading else 0, 14, 0)
        if overview.state is StoreState.READY:
            self.history.take_overview(overview)
        self.pages.setCurrentWidget(self.history if overview.state is StoreState.READY else self.state)

    def take_offer(self, offer: object) -> bool:
        if isinstance(offer, PathOffer):
            self.history.look_at(offer)
            return True
        if not isinstance(offer, RestoreOffer):
            return False
        self.history.plan_all(offer.snapshot, offer.time, offer.homes)
        return True

    def entered(self) -> None:
        if self.pages.currentWidget() is self.history:
            self.history.lines.setFocus()

    def _bring_all(self) -> None:
        """Everything as it was at the moment that is looked at; below this home, if it was below another."""
        model = self.history.model
        if model.moment:
            point = model.tide[model.moment - 1]
            home = home_of(tuple(model.covered_at(model.moment)))
            other = home and home != str(Path.home())
            self.history.plan_all(point.name, point.time, (home, str(Path.home())) if other else None)

    def _go_on_here(self) -> None:
        """Go on here with the job of the machine whose store is looked into."""
        overview = self._overview
        self.going_on = GoOnDialog(self._link, overview.job, overview.machine, overview.now, self)
        self.going_on.made.connect(self._goes_on_here)
        self.going_on.open()

    def _goes_on_here(self, made: MadeView) -> None:
        self.told.emit(tr("The job goes on here, with its history"), "\n".join(made.notes), False)
        self.job_wanted.emit(made.job)

    def _go_on(self) -> None:
        """Go on with the disk that is there in place of the one that is looked into."""
        store = self._overview.store
        if store is None:
            return
        self.replacing = ReplaceDialog(self._link, store.id, self)
        self.replacing.made.connect(self._replaced)
        self.replacing.open()

    def _replaced(self, made: MadeView) -> None:
        if made.recovery_key is not None:
            self.recovery.emit(made)
        self.refresh_wanted.emit()

    def _unlock(self, passphrase: str, remember: bool) -> None:
        def opened(answer: Unlocked) -> None:
            if answer.not_remembered:
                what = tr("The store is open, but its passphrase could not be remembered")
                self.told.emit(what, answer.not_remembered, True)
            self.refresh_wanted.emit()

        def wrong(fault: Fault) -> None:
            self.state.wrong(str(fault))

        self._link.ask(Unlock(self._link.job, passphrase, remember), opened, wrong)


TIMELINE = ViewKind(tr("Timeline"), "timeline", TimelineView, frozenset((Action.UNLOCK, Action.ALARM)))
