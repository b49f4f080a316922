"""What takes the room of one store: its snapshots, its parts; releasing some by hand, pinning some, taking
something out of all history."""

from __future__ import annotations

import os
from datetime import date
from typing import get_args

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QComboBox,
    QLineEdit,
    QScrollArea,
    QTreeWidget,
    QTreeWidgetItem,
)

from good_tide.core.parts import By
from good_tide.core.rules import path_pattern
from good_tide.core.translation import tr
from good_tide.core.words import count_words, from_home, local, printable, size_words, time_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.confirm import ConfirmDialog
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import align_numbers, button, card, label, line
from good_tide.desktop.stores.held_picture import HeldPicture
from good_tide.desktop.stores.parts_picture import PartsPicture
from good_tide.desktop.stores.store_page import StorePage
from good_tide.protocol.agent_calls import Overview, StoreView
from good_tide.protocol.faults import Fault
from good_tide.protocol.store_calls import (
    HeldHistory,
    HeldSnapshot,
    PinSnapshots,
    PlanPurge,
    PlanRelease,
    Purge,
    PurgeView,
    ReadHeldHistory,
    ReleaseSnapshots,
    ReleaseView,
)

_BY_WORDS: dict[By, str] = {
    "folder": tr("by folder"),
    "kind": tr("by kind of file"),
    "period": tr("by month"),
    "machine": tr("by machine"),
}
_ASK_AFTER_MS = 150
_HINT = tr(
    "Drag over a stretch of time, or click one, to see what would come back if it went. Those with a square"
    " stay: filled, because they are pinned; hollow, because they are the newest or hold precious versions."
)


class RoomPage(StorePage):
    """One store's room.

    :ivar closed: back to all stores.
    """

    def __init__(self, look: Palette, link: AgentLink) -> None:
        super().__init__(link)
        self._covered: tuple[str, ...] = ()
        self._home = ""
        self._held: HeldHistory | None = None
        self._asked = 0
        self._looked = ""
        self.question: ConfirmDialog | None = None
        self.picture, self.parts = HeldPicture(look), PartsPicture(look)
        self.words, self.why = label(_HINT, "", wrap=True), QLineEdit()
        self.why.setPlaceholderText(tr("Why they stay"))
        self.why.setAccessibleName(tr("Label of the pin"))
        self.why.setMaximumWidth(220)
        self.pin, self.unpin, self.release = (
            button(tr("Pin")),
            button(tr("Take pins away")),
            button(tr("Release…")),
        )
        self.by = QComboBox()
        self.by.setAccessibleName(tr("How to look at what takes the room"))
        for name in get_args(By):
            self.by.addItem(_BY_WORDS[name], name)
        self.pattern, self.look = QLineEdit(), button(tr("See what that touches"))
        self.pattern.setPlaceholderText(tr("*.mkv or Letters/private.odt"))
        self.pattern.setAccessibleName(tr("What to take out of all history"))
        self.touched, self.paths = label("", "strong", wrap=True), QTreeWidget()
        self.paths.setHeaderLabels([tr("Path"), tr("Versions")])
        self.paths.setRootIsDecorated(False)
        self.paths.setColumnWidth(0, 310)
        self.paths.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.paths.setAccessibleName(tr("What would be taken out"))
        align_numbers(self.paths, (1,))
        self.out = button(tr("Take out for ever…"))
        self._lay_out()
        self._timer = QTimer(self, interval=_ASK_AFTER_MS, singleShot=True)
        self._timer.timeout.connect(self._ask_release)
        self._connect()

    def _lay_out(self) -> None:
        outer = self._outer()
        frame, upper = card(margin=16, spacing=6)
        upper.addWidget(label(tr("What each snapshot holds alone"), "strong"))
        upper.addWidget(self.picture)
        self.words.setMinimumHeight(2 * self.words.fontMetrics().lineSpacing() + 4)
        row = line(self.words, self.why, self.pin, self.unpin, self.release)
        row.setStretch(0, 1)
        upper.addLayout(row)
        outer.addWidget(frame)
        left, parts = card(margin=16, spacing=6)
        parts.addLayout(line(label(tr("What takes the room"), "strong"), self.by, stretch=1))
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.parts)
        parts.addWidget(scroll, 1)
        right, purge = card(margin=16, spacing=8)
        purge.addWidget(label(tr("Take something out of all history"), "strong"))
        purge.addWidget(
            label(
                tr(
                    "A film that slipped in, a private file: a path, or a pattern as in the rules of"
                    " coverage."
                ),
                "quiet",
                wrap=True,
            )
        )
        typed = line(self.pattern, self.look)
        typed.setStretch(0, 1)
        purge.addLayout(typed)
        purge.addWidget(self.touched)
        purge.addWidget(self.paths, 1)
        purge.addLayout(line(self.out, stretch=0))
        lower = line(left, right, spacing=12)
        lower.setStretch(0, 3)
        lower.setStretch(1, 2)
        outer.addLayout(lower, 1)

    def _connect(self) -> None:
        self.picture.chosen_changed.connect(self._chosen)
        self.by.currentIndexChanged.connect(lambda number: self._show_parts())
        self.parts.picked.connect(self._picked)
        self.release.clicked.connect(self._release)
        self.pin.clicked.connect(lambda: self._pin(True))
        self.unpin.clicked.connect(lambda: self._pin(False))
        self.look.clicked.connect(self._look)
        self.pattern.returnPressed.connect(self._look)
        self.pattern.textChanged.connect(lambda typed: self._forget_look())
        self.out.clicked.connect(self._take_out)

    def show_store(self, view: StoreView, overview: Overview) -> None:
        """Show a store, or show it anew."""
        self._covered, self._home = overview.covered, overview.home
        if self._know(view, overview):
            self._held = None
            self.picture.show_snapshots((), self._now)
            self.parts.show_parts(())
            self.pattern.clear()
            self.sentence.setText(tr("Reading what the snapshots hold…"))
        self.title.setText(tr("Room on {disk}").format(disk=view.disk))
        self._forget_look()
        self._chosen()
        self.picture.setFocus()
        self.ask()

    def ask(self) -> None:
        """Ask for everything anew."""
        self._link.ask(
            ReadHeldHistory(self._job, self._store),
            self._show,
            lambda fault: self.sentence.setText(str(fault)),
        )

    def _show(self, held: HeldHistory) -> None:
        self._held = held
        machines = {one.machine for one in held.snapshots}
        by_whom = (
            " " + tr("of {machines}").format(machines=count_words(len(machines), "machine"))
            if len(machines) > 1
            else ""
        )
        self.sentence.setText(
            tr("{snapshots}{by_whom} need {total}.").format(
                snapshots=count_words(len(held.snapshots), "snapshot"),
                by_whom=by_whom,
                total=size_words(held.total),
            )
        )
        self.picture.show_snapshots(held.snapshots, self._now)
        self._show_parts()

    def _show_parts(self) -> None:
        if self._held is None:
            return
        by, parts = self.by.currentData(), self._held.parts[self.by.currentData()]
        if by == "period":
            self.parts.show_parts(sorted(parts, key=lambda one: one.name, reverse=True), _month)
        elif by == "folder":
            self.parts.show_parts(parts, lambda name: from_home(os.fsencode(name), self._home))
        else:
            self.parts.show_parts(parts)

    def _picked(self, name: str) -> None:
        """A part was clicked: a month or a machine chooses its snapshots, a folder is what to take out."""
        by = self.by.currentData()
        if by in ("period", "machine") and self._held is not None:
            self.picture.choose(
                one.id
                for one in self._held.snapshots
                if name == (one.machine if by == "machine" else f"{local(one.time):%Y-%m}")
            )
        elif by == "folder" and name not in self._covered:
            self.pattern.setText(path_pattern(name, self._home, self._covered) + "/")

    def _some(self) -> list[HeldSnapshot]:
        return [one for one in self.picture.snapshots if one.id in self.picture.chosen]

    def _chosen(self) -> None:
        """Other snapshots are chosen."""
        some = self._some()
        pinned = [one for one in some if one.pin is not None]
        may = [one for one in some if not one.stays]
        for widget in (self.why, self.pin):
            widget.setVisible(len(some) > len(pinned) and not self._reading)
        self.unpin.setVisible(bool(pinned) and not self._reading)
        self.release.setVisible(bool(some) and not self._reading)
        self.release.setEnabled(bool(may))
        if not some:
            self.words.setText(_HINT)
            return
        self.words.setText(self._span(some) + ".")
        if may:
            self._timer.start()
        else:
            self.words.setText(
                f"{self._span(some)}."
                if len(some) == 1
                else tr("{span}: all of them stay.").format(span=self._span(some))
            )

    def _span(self, some: list[HeldSnapshot]) -> str:
        if len(some) == 1:
            return self.picture.words(some[0])
        return tr("{some}, {time} to {time_2}").format(
            some=count_words(len(some), "snapshot"),
            time=time_words(some[0].time, self._now),
            time_2=time_words(some[-1].time, self._now),
        )

    def _ask_release(self) -> None:
        self._asked += 1
        number, some = self._asked, self._some()

        def told(view: ReleaseView) -> None:
            if some and number == self._asked and {one.id for one in some} == self.picture.chosen:
                stays = " " + tr("{stays} of them stay.").format(stays=view.stays) if view.stays else ""
                self.words.setText(
                    tr(
                        "{span}.\nReleasing gives back {gives_back} that no other snapshot needs.{stays}"
                    ).format(span=self._span(some), gives_back=size_words(view.gives_back), stays=stays)
                )

        call = PlanRelease(self._job, tuple(one.id for one in some), self._store)
        self._link.ask(call, told, lambda fault: self.words.setText(str(fault)))

    def _release(self) -> None:
        some = [one for one in self._some() if not one.stays]
        snapshots = tuple(one.id for one in some)
        detail = tr(
            "{span}.\n\nWhat only they hold is gone for good, and its room is given back. All others stay as"
            " they are."
        ).format(span=self._span(some))

        def go() -> None:
            self._link.ask(ReleaseSnapshots(self._job, self._store, snapshots), None, self._refused)

        self.question = ConfirmDialog(
            self,
            tr("Release {some} on {disk}?").format(some=count_words(len(some), "snapshot"), disk=self._disk),
            detail,
            tr("Release {some}").format(some=count_words(len(some), "snapshot")),
            go,
        )
        self.question.open()

    def _pin(self, on: bool) -> None:
        snapshots = tuple(one.id for one in self._some() if (one.pin is None) is on)
        call = PinSnapshots(self._job, self._store, snapshots, on, self.why.text().strip())
        self._link.ask(call, lambda done: self.ask(), self._refused)
        self.why.clear()

    def _refused(self, fault: Fault) -> None:
        self.words.setText(str(fault))

    def _forget_look(self) -> None:
        self._looked = ""
        self.touched.clear()
        self.paths.clear()
        self.out.setEnabled(False)
        self.look.setEnabled(bool(self.pattern.text().strip()))

    def _look(self) -> None:
        """See what taking the pattern out touches."""
        pattern = self.pattern.text().strip()
        if not pattern:
            return
        self.touched.setText(tr("Looking through all snapshots…"))

        def told(view: PurgeView) -> None:
            if view.pattern == self.pattern.text().strip():
                self._show_look(view)

        def wrong(fault: Fault) -> None:
            self.touched.setText(str(fault))

        self._link.ask(PlanPurge(self._job, self._store, pattern), told, wrong)

    def _show_look(self, view: PurgeView) -> None:
        self.paths.clear()
        for path, versions in view.paths:
            row = QTreeWidgetItem([from_home(path, self._home), f"{versions:,}"])
            row.setToolTip(0, printable(path))
            row.setTextAlignment(1, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.paths.addTopLevelItem(row)
        if not view.snapshots:
            self.touched.setText(tr("No snapshot holds anything that fits."))
            return
        paths = count_words(len(view.paths) + view.more, "path")
        again = (
            " " + tr("The next snapshot takes it again, unless it is deleted or left out in Coverage.")
            if view.stands
            else ""
        )
        self.touched.setText(
            tr("{paths} in {snapshots}; gives back up to {gives_back}.{again}").format(
                paths=paths,
                snapshots=count_words(view.snapshots, "snapshot"),
                gives_back=size_words(view.gives_back),
                again=again,
            )
        )
        self._looked = view.pattern
        self.out.setEnabled(not self._reading)

    def _take_out(self) -> None:
        pattern = self._looked
        detail = tr(
            "{text}\n\nIt cannot be brought back from {disk}. The snapshots get new names; everything else in"
            " them stays. Copies in other stores stay as well: take it out there too."
        ).format(text=self.touched.text(), disk=self._disk)

        def go() -> None:
            self._link.ask(Purge(self._job, self._store, pattern), None, self._refused)
            self._forget_look()

        self.question = ConfirmDialog(
            self,
            tr("Take “{pattern}” out of all history?").format(pattern=pattern),
            detail,
            tr("Take it out for ever"),
            go,
        )
        self.question.open()


def _month(name: str) -> str:
    return f"{date.fromisoformat(f'{name}-01'):%B %Y}"
