"""What can be chosen of a rhythm, in cards: when, what it waits for, what goes on without the disk, and who
is told."""

from __future__ import annotations

from typing import Any, get_args

import msgspec
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QSpinBox, QVBoxLayout, QWidget

from good_tide.core.errors import PersonError
from good_tide.core.rhythm import EVERY_HOUR, Considerate, Rhythm, at_text, every, every_minutes_of, parse_at
from good_tide.core.settings import Holding, LineLimit, Noise, Reporting, ReportTime
from good_tide.core.translation import tr
from good_tide.desktop.painting.flow import Flow
from good_tide.desktop.painting.widgets import button, card, label, number

_MIB = 1 << 20
_GIB = 1 << 30
_MEGABIT = 125_000
"""Bytes a second."""
_USUAL_LIMIT = 10
_INTERVALS = {
    10: tr("10 minutes"),
    15: tr("15 minutes"),
    30: tr("30 minutes"),
    60: tr("hour"),
    120: tr("2 hours"),
    180: tr("3 hours"),
    360: tr("6 hours"),
    720: tr("12 hours"),
    1440: tr("24 hours"),
}
_NOISES: dict[Noise, str] = {
    "trouble": tr("only trouble"),
    "changes": tr("trouble, its end, and first snapshots"),
    "everything": tr("every snapshot too"),
}
_TIMES: dict[ReportTime, str] = {
    "never": tr("never"),
    "trouble": tr("on trouble, once a day at most"),
    "daily": tr("every morning"),
    "weekly": tr("every Monday morning"),
}


class Choices(QWidget):
    """A card of choices.

    :ivar changed: something was chosen by hand.
    """

    changed = Signal()

    def __init__(self, title: str) -> None:
        super().__init__()
        self._shows = False
        frame, layout = card(margin=14, spacing=6)
        self._rows = QVBoxLayout()
        self._rows.setSpacing(6)
        layout.addLayout(self._rows)
        layout.addStretch()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(frame)
        self._rows.addWidget(label(title, "strong"))

    def row(self, *parts: QWidget) -> None:
        """Add a row of widgets, which report changes."""
        self._rows.addWidget(Flow(*parts))

    def watch(self, *parts: QWidget) -> None:
        """Tell of what is chosen in these."""
        for part in parts:
            if isinstance(part, QCheckBox):
                part.toggled.connect(self._tell)
            elif isinstance(part, QComboBox):
                part.currentIndexChanged.connect(self._tell)
            elif isinstance(part, QSpinBox):
                part.valueChanged.connect(self._tell)
            elif isinstance(part, QLineEdit):
                part.textEdited.connect(self._tell)

    def _tell(self) -> None:
        if not self._shows:
            self.changed.emit()

    def fill(self, act: Any) -> None:
        """Show something without telling of it."""
        self._shows = True
        try:
            act()
        finally:
            self._shows = False


class When(Choices):
    """On which occasions snapshots are taken."""

    def __init__(self) -> None:
        super().__init__(tr("A snapshot is taken"))
        self.every, self.interval = QCheckBox(tr("every")), QComboBox()
        self.interval.setAccessibleName(tr("Interval"))
        for minutes, words in _INTERVALS.items():
            self.interval.addItem(words, minutes)
        self.at, self.times = QCheckBox(tr("at")), QLineEdit()
        self.times.setPlaceholderText(tr("weekdays 12:30; mon,thu 18:00"))
        self.times.setAccessibleName(tr("Days and times"))
        self.times.setToolTip(
            tr(
                "Days and times with semicolons between: daily, weekdays, weekends, or days such as"
                " mon,wed-fri"
            )
        )
        self.on_disk, self.settle = (
            QCheckBox(tr("when the disk comes, after")),
            number(0, 3600, " s", tr("Settling time")),
        )
        self.on_change, self.quiet = (
            QCheckBox(tr("when files come to rest, after")),
            number(1, 3600, " s", tr("Quiet time")),
        )
        self.most = number(1, 1440, tr(" min"), tr("At most every"))
        self.large, self.apart = number(1, 1 << 20, tr(" MiB"), tr("Files above")), QLineEdit()
        self.apart.setPlaceholderText(tr("~/Films; …"))
        self.apart.setAccessibleName(tr("Folders left to the timed runs"))
        self.apart.setToolTip(
            tr(
                "Changes of such large files, and in these folders, wait for the timed runs; folders with"
                " semicolons between"
            )
        )
        self.trouble = label("", "harm", wrap=True)
        self.row(self.every, self.interval)
        self.row(self.at, self.times)
        self.times.setMinimumWidth(220)
        self.row(self.on_disk, self.settle)
        self.row(self.on_change, self.quiet)
        indent = label(tr("      at most every"), "quiet")
        self.row(indent, self.most)
        self.row(label(tr("      but not for files above"), "quiet"), self.large)
        self.row(label(tr("      nor in"), "quiet"), self.apart)
        self.apart.setMinimumWidth(180)
        self._rows.addWidget(self.trouble)
        self.trouble.hide()
        self._kept = Rhythm()
        self.watch(
            self.every,
            self.interval,
            self.at,
            self.times,
            self.on_disk,
            self.settle,
            self.on_change,
            self.quiet,
            self.most,
            self.large,
            self.apart,
        )

    def show_rhythm(self, rhythm: Rhythm) -> None:
        """Show the occasions of a rhythm."""
        self.fill(lambda: self._fill(rhythm))

    def _fill(self, rhythm: Rhythm) -> None:
        self._kept = rhythm
        minutes, times = (
            every_minutes_of(rhythm),
            "; ".join(at_text(rule) for rule in rhythm.rules if at_text(rule)),
        )
        self.every.setChecked(minutes is not None)
        if minutes is not None:
            if self.interval.findData(minutes) < 0:
                self.interval.addItem(tr("{minutes} minutes").format(minutes=minutes), minutes)
            self.interval.setCurrentIndex(self.interval.findData(minutes))
        elif self.interval.currentData() is None or not self.every.isChecked():
            self.interval.setCurrentIndex(self.interval.findData(60))
        self.at.setChecked(bool(times))
        self.times.setText(times)
        self.on_disk.setChecked(rhythm.on_disk)
        self.settle.setValue(rhythm.settle_seconds)
        self.on_change.setChecked(rhythm.on_change)
        self.quiet.setValue(rhythm.quiet_seconds)
        self.most.setValue(rhythm.at_most_minutes)
        self.large.setValue(max(1, round(rhythm.large_bytes / _MIB)))
        self.apart.setText("; ".join(rhythm.timed_only))
        self.tell("")

    def tell(self, words: str) -> None:
        """Say what cannot be understood; nothing for the empty text."""
        self.trouble.setText(words)
        self.trouble.setVisible(bool(words))

    def rhythm(self, zone: str) -> Rhythm:
        """The rhythm with the occasions chosen. Rules that only a job file can hold stay as they are.

        Raises:
            PersonError: the times cannot be understood.
        """
        rules = [
            rule for rule in self._kept.rules if not at_text(rule) and every_minutes_of(_only(rule)) is None
        ]
        if self.every.isChecked():
            minutes = int(self.interval.currentData())
            same = [rule for rule in self._kept.rules if every_minutes_of(_only(rule)) == minutes]
            rules.append(same[0] if same else EVERY_HOUR if minutes == 60 else every(minutes))
        if self.at.isChecked():
            parts = [part for part in self.times.text().split(";") if part.strip()]
            if not parts:
                raise PersonError(tr("There is no time yet"), tr("Write such as weekdays 12:30"))
            for part in parts:
                known_rules = [rule for rule in self._kept.rules if at_text(rule) == part.strip().lower()]
                rules += known_rules or parse_at(part, zone)
        return msgspec.structs.replace(
            self._kept,
            rules=tuple(dict.fromkeys(rules)),
            on_disk=self.on_disk.isChecked(),
            settle_seconds=self.settle.value(),
            on_change=self.on_change.isChecked(),
            quiet_seconds=self.quiet.value(),
            at_most_minutes=self.most.value(),
            large_bytes=self._large(),
            timed_only=tuple(part.strip() for part in self.apart.text().split(";") if part.strip()),
        )

    def _large(self) -> int:
        """What is chosen; a size that is no whole number of MiB stays as it is while nobody changes it."""
        same = max(1, round(self._kept.large_bytes / _MIB)) == self.large.value()
        return self._kept.large_bytes if same else self.large.value() * _MIB


def _only(rule: str) -> Rhythm:
    return Rhythm(rules=(rule,))


class Waits(Choices):
    """What automatic runs wait for."""

    def __init__(self) -> None:
        super().__init__(tr("By itself it waits"))
        self.on_battery, self.level = (
            QCheckBox(tr("on battery, below")),
            number(1, 100, " %", tr("Battery level")),
        )
        self.metered, self.presenting = (
            QCheckBox(tr("while the network is metered")),
            QCheckBox(tr("while the screen is used for a presentation")),
        )
        self.busy = QCheckBox(tr("while the machine is busy with other work,"))
        self.busy_minutes = number(0, 24 * 60, tr(" min"), tr("Longest wait for a busy machine"))
        self.row(self.on_battery, self.level)
        for one in (self.metered, self.presenting, self.busy):
            self.row(one)
        self.row(label(tr("      but for no longer than"), "quiet"), self.busy_minutes)
        self.watch(self.on_battery, self.level, self.metered, self.presenting, self.busy, self.busy_minutes)

    def show_considerate(self, considerate: Considerate) -> None:
        """Show what is chosen."""

        def fill() -> None:
            self.on_battery.setChecked(considerate.battery_below > 0)
            self.level.setValue(considerate.battery_below or 25)
            self.metered.setChecked(considerate.metered)
            self.presenting.setChecked(considerate.presenting)
            self.busy.setChecked(considerate.load)
            self.busy_minutes.setValue(considerate.load_at_most_minutes)

        self.fill(fill)

    def considerate(self) -> Considerate:
        """What is chosen."""
        level = self.level.value() if self.on_battery.isChecked() else 0
        return Considerate(
            battery_below=level,
            metered=self.metered.isChecked(),
            presenting=self.presenting.isChecked(),
            load=self.busy.isChecked(),
            load_at_most_minutes=self.busy_minutes.value(),
        )


class Away(Choices):
    """What goes on while the disk is away."""

    def __init__(self) -> None:
        super().__init__(tr("While the disk or server is away"))
        self.on = QCheckBox(tr("go on in the holding area of this machine"))
        self.limit, self.part = (
            number(1, 4096, tr(" GiB"), tr("Limit of the holding area")),
            number(1, 90, " %", tr("Part of the free room")),
        )
        self.words = label("", "quiet", wrap=True)
        self.row(self.on)
        self.row(
            label(tr("      at most"), "quiet"),
            self.limit,
            label(tr("and"), "quiet"),
            self.part,
            label(tr("      of the free room"), "quiet"),
        )
        self._rows.addWidget(self.words)
        self.watch(self.on, self.limit, self.part)

    def show_holding(self, holding: Holding, words: str) -> None:
        """Show what is chosen, and what that comes to."""

        def fill() -> None:
            self.on.setChecked(holding.on)
            self.limit.setValue(max(1, round(holding.limit_bytes / _GIB)))
            self.part.setValue(round(holding.part_of_free * 100))

        self.fill(fill)
        self.words.setText(words)

    def holding(self) -> Holding:
        """What is chosen."""
        return Holding(
            on=self.on.isChecked(),
            limit_bytes=self.limit.value() * _GIB,
            part_of_free=self.part.value() / 100,
        )


class OverTheLine(Choices):
    """How much goes over the line to a server."""

    def __init__(self) -> None:
        super().__init__(tr("Over the network"))
        self.sends, self.up = (
            QCheckBox(tr("send no more than")),
            number(1, 10_000, " Mbit/s", tr("Limit of what is sent")),
        )
        self.brings, self.down = (
            QCheckBox(tr("bring no more than")),
            number(1, 10_000, " Mbit/s", tr("Limit of what is brought back")),
        )
        self.hours = QLineEdit()
        self.hours.setPlaceholderText(tr("mon-fri 08:00-18:00; always if empty"))
        self.hours.setAccessibleName(tr("Hours in which these limits hold"))
        self.hours.setToolTip(tr("Days and hours, with semicolons between"))
        self.row(self.sends, self.up)
        self.row(self.brings, self.down)
        self.row(label(tr("      in the hours"), "quiet"), self.hours)
        self.hours.setMinimumWidth(210)
        self._kept = LineLimit()
        self.watch(self.sends, self.up, self.brings, self.down, self.hours)

    def show_limit(self, limit: LineLimit) -> None:
        """Show what is chosen."""

        def fill() -> None:
            self._kept = limit
            for box, field, size in (
                (self.sends, self.up, limit.up_bytes),
                (self.brings, self.down, limit.down_bytes),
            ):
                box.setChecked(size > 0)
                field.setValue(_megabits(size) if size else _USUAL_LIMIT)
            self.hours.setText("; ".join(limit.hours))

        self.fill(fill)

    def limit(self) -> LineLimit:
        """What is chosen; a limit that is no whole number stays as it is while nobody changes it."""
        return LineLimit(
            up_bytes=_limit(self.sends, self.up, self._kept.up_bytes),
            down_bytes=_limit(self.brings, self.down, self._kept.down_bytes),
            hours=tuple(part.strip() for part in self.hours.text().split(";") if part.strip()),
        )


def _megabits(size: int) -> int:
    """Bytes a second as what lines are sold by, 1 at least."""
    return max(1, round(size / _MEGABIT))


def _limit(box: QCheckBox, field: QSpinBox, before: int) -> int:
    if not box.isChecked():
        return 0
    return before if before and _megabits(before) == field.value() else field.value() * _MEGABIT


class Telling(Choices):
    """Who is told of what."""

    def __init__(self) -> None:
        super().__init__(tr("Who is told"))
        self.noise, self.reports = QComboBox(), QComboBox()
        for noise in get_args(Noise):
            self.noise.addItem(_NOISES[noise], noise)
        for when in get_args(ReportTime):
            self.reports.addItem(_TIMES[when], when)
        self.noise.setAccessibleName(tr("Notifications"))
        self.reports.setAccessibleName(tr("Reports"))
        self.to, self.folder, self.full = (
            QLineEdit(),
            QLineEdit(),
            QCheckBox(tr("with everything that happened")),
        )
        self.to.setPlaceholderText(tr("office@example.org, …"))
        self.to.setAccessibleName(tr("Reports by mail to"))
        self.folder.setPlaceholderText(tr("none"))
        self.folder.setAccessibleName(tr("Reports as HTML files into the folder"))
        self.words, self.server = label("", "quiet", wrap=True), button(tr("Mail server…"))
        self.row(label(tr("At the screen:")), self.noise)
        self.row(label(tr("Reports:")), self.reports, self.full, self.server)
        self.row(
            label(tr("      by mail to"), "quiet"),
            self.to,
            label(tr("and as HTML files in the folder"), "quiet"),
            self.folder,
        )
        self.to.setMinimumWidth(190)
        self.folder.setMinimumWidth(150)
        self._rows.addWidget(self.words)
        self.watch(self.noise, self.reports, self.to, self.folder, self.full)

    def show_telling(self, noise: Noise, reporting: Reporting, mail: str) -> None:
        """Show what is chosen; ``mail`` says through which server."""

        def fill() -> None:
            self.noise.setCurrentIndex(self.noise.findData(noise))
            self.reports.setCurrentIndex(self.reports.findData(reporting.when))
            self.to.setText(", ".join(reporting.to))
            self.folder.setText(reporting.folder)
            self.full.setChecked(reporting.full)

        self.fill(fill)
        self.words.setText(mail)
        self.words.setVisible(bool(mail))

    def telling(self) -> tuple[Noise, Reporting]:
        """What is chosen."""
        to = tuple(part.strip() for part in self.to.text().split(",") if part.strip())
        noise: Noise = self.noise.currentData()
        return noise, Reporting(
            when=self.reports.currentData(),
            full=self.full.isChecked(),
            to=to,
            folder=self.folder.text().strip(),
        )
