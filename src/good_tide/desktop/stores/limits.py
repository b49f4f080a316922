"""What the stores of a job may take: limit, reserve, and what happens when room gets short."""

from __future__ import annotations

from typing import get_args

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QDialog, QSpinBox, QVBoxLayout, QWidget

from good_tide.core.clock import SECOND
from good_tide.core.settings import Room, WhenShort
from good_tide.core.translation import tr
from good_tide.core.words import local, size_words
from good_tide.desktop.link import AgentLink
from good_tide.desktop.painting.widgets import button, label, line, number
from good_tide.protocol.store_calls import KeepRoom, RoomView

_GIB = 1 << 30
_WORDS: dict[WhenShort, str] = {
    "stop": tr("take no snapshot, and say so"),
    "thin": tr("release the oldest first"),
}


def full_words(view: RoomView, now: int) -> str:
    """When the disk will be full, as a sentence."""
    if view.short:
        return tr("{short} are missing to keep the limits.").format(short=size_words(view.short))
    if view.full is None:
        return tr("When it will be full is told after two weeks of snapshots.")
    if view.full.mid is None or view.full.low is None:
        return tr("Not full within five years at this pace.")

    def day(ahead: int) -> str:
        when = local(now + ahead * 86400 * SECOND)
        return f"{when.day} {when:%b %Y}"

    latest = day(view.full.high) if view.full.high is not None else tr("later than in five years")
    return tr("Full about {day}; four times of five between {day_2} and {latest}.").format(
        day=day(view.full.mid), day_2=day(view.full.low), latest=latest
    )


class LimitsDialog(QDialog):
    """Asks for the limits of a job's stores."""

    kept = Signal()

    def __init__(self, link: AgentLink, room: Room, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Room for this job’s stores"))
        self._link, self._job, self._room = link, link.job, room
        self.limit, self.reserve = (
            number(0, 1 << 20, tr(" GiB"), tr("Limit")),
            number(0, 1 << 20, tr(" GiB"), tr("Reserve")),
        )
        self.part = number(0, 100, " %", tr("Part of the disk"))
        self.limit.setSpecialValueText(tr("no limit"))
        self.part.setSpecialValueText(tr("any part"))
        self.reserve.setSpecialValueText("none")
        self.floor, self.short = number(0, 36500, tr(" days"), tr("Floor")), QComboBox()
        self.short.setAccessibleName(tr("When room gets short"))
        for name in get_args(WhenShort):
            self.short.addItem(_WORDS[name], name)
        self.limit.setValue(round(room.limit_bytes / _GIB))
        self.part.setValue(round(room.limit_part * 100))
        self.reserve.setValue(round(room.reserve_bytes / _GIB))
        self.floor.setValue(room.floor_days)
        self.short.setCurrentIndex(self.short.findData(room.when_short))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 18, 20, 18)
        layout.setSpacing(10)
        layout.addLayout(
            line(
                label(tr("Each store takes at most")),
                self.limit,
                label(tr("and")),
                self.part,
                label(tr("of its disk")),
                stretch=5,
            )
        )
        layout.addLayout(line(label(tr("For other things stay free")), self.reserve, stretch=2))
        layout.addLayout(line(label(tr("When room gets short")), self.short, stretch=2))
        layout.addLayout(
            line(label(tr("Never released for room: those younger than")), self.floor, stretch=2)
        )
        layout.addWidget(
            label(
                tr(
                    "Pinned snapshots and the newest always stay. When releasing is not enough, it stops and"
                    " says so."
                ),
                "quiet",
                wrap=True,
            )
        )
        keep, cancel = button(tr("Keep"), primary=True), button(tr("Cancel"))
        layout.addLayout(line(cancel, keep, stretch=0))
        keep.clicked.connect(self._keep)
        cancel.clicked.connect(self.reject)
        self.keep = keep

    def wanted(self) -> Room:
        """What is chosen. What was not changed stays as exact as commands set it."""

        def bytes_of(field: QSpinBox, before: int) -> int:
            return before if round(before / _GIB) == field.value() else field.value() * _GIB

        part = self._room.limit_part
        return Room(
            limit_bytes=bytes_of(self.limit, self._room.limit_bytes),
            limit_part=part if round(part * 100) == self.part.value() else self.part.value() / 100,
            reserve_bytes=bytes_of(self.reserve, self._room.reserve_bytes),
            when_short=self.short.currentData(),
            floor_days=self.floor.value(),
        )

    def _keep(self) -> None:
        def kept(result: object) -> None:
            self.kept.emit()

        self._link.ask(KeepRoom(self._job, self.wanted()), kept)
        self.accept()
