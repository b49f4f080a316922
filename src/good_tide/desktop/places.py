"""The places Rhythm and Journal: what they can truly say of the job so far."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from good_tide.core.clock import SECOND
from good_tide.core.history import TidePoint
from good_tide.core.words import count_words, exact_words, local, time_words
from good_tide.desktop.painting import hatch, sized, text
from good_tide.desktop.palette import Palette
from good_tide.desktop.widgets import card, label
from good_tide.protocol.messages import JournalView, Overview

_WEEKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")


class _Place(QWidget):
    """A place with a title, a sentence, and cards below."""

    def __init__(self, title: str, sentence: str) -> None:
        super().__init__()
        self.sentence = label(sentence, "quiet", wrap=True)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(24, 18, 24, 18)
        self.column.setSpacing(12)
        self.column.addWidget(label(title, "title"))
        self.column.addWidget(self.sentence)


class WeekPicture(QWidget):
    """The hours of the week at which snapshots were taken: the more often, the fuller the cell."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._counts: dict[tuple[int, int], int] = {}
        self._weeks = 1
        self.setMinimumHeight(300)
        self.setAccessibleName("Hours of the week with snapshots")

    def show_tide(self, tide: Sequence[TidePoint]) -> None:
        """Count snapshots by weekday and hour."""
        self._counts.clear()
        weeks = set()
        for point in tide:
            when = local(point.time)
            self._counts[when.weekday(), when.hour] = self._counts.get((when.weekday(), when.hour), 0) + 1
            weeks.add(when.isocalendar()[:2])
        self._weeks = max(1, len(weeks))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        look = self._look
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(sized(self.font(), 9))
        left, top = 48.0, 24.0
        wide, high = (self.width() - left) / 24, (self.height() - top) / 7
        for hour in range(0, 24, 3):
            text(painter, QRectF(left + hour * wide, 0, 60, 20), f"{hour:02d}:00", look.color("quiet_text"))
        for day, name in enumerate(_WEEKDAYS):
            text(painter, QRectF(0, top + day * high, left, high), name, look.color("ink"))
            for hour in range(24):
                cell = QRectF(left + hour * wide + 1.5, top + day * high + 1.5, wide - 3, high - 3)
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(look.color("band" if day < 5 else "rail"))
                painter.drawRoundedRect(cell, 3, 3)
                count = self._counts.get((day, hour), 0)
                if count:
                    part = min(1.0, count / self._weeks)
                    painter.setBrush(look.color("kelp"))
                    painter.drawRoundedRect(
                        QRectF(cell.left(), cell.bottom() - cell.height() * part, cell.width(), cell.height() * part), 3, 3
                    )


class RhythmPlace(_Place):
    """When snapshots were taken."""

    def __init__(self, look: Palette) -> None:
        super().__init__("Rhythm", "")
        frame, layout = card(margin=20)
        layout.addWidget(label("When snapshots were taken", "strong"))
        self._facts = label("", "quiet", wrap=True)
        self._picture = WeekPicture(look)
        layout.addWidget(self._facts)
        layout.addWidget(self._picture)
        layout.addWidget(label("A full cell: a snapshot at that hour in every week there is.", "quiet"))
        self.column.addWidget(frame)
        self.column.addStretch()

    def show_tide(self, overview: Overview) -> None:
        """The rhythm so far."""
        tide = overview.tide
        self.sentence.setText(
            "Snapshots are taken by hand, with “Take snapshot” or the command line. A schedule and thinning are not part of this version; nothing is ever released."
        )
        if tide:
            days = len({local(point.time).date() for point in tide})
            span = f"{time_words(tide[0].time, overview.now)} to {time_words(tide[-1].time, overview.now)}"
            self._facts.setText(
                f"{count_words(len(tide), 'snapshot')} on {count_words(days, 'day')}, {span}; {len(tide) / max(days, 1):.1f} on a day with any"
            )
        self._picture.show_tide(tide)


class RunsPicture(QWidget):
    """The runs of the past weeks: files changed and added per day, days with gaps hatched."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._days: list[tuple[int, int, int]] = []
        self.setFixedHeight(96)
        self.setAccessibleName("Runs by day")

    def show_tide(self, tide: Sequence[TidePoint]) -> None:
        """Add up the runs of each day."""
        days: dict[int, tuple[int, int]] = {}
        for point in tide:
            day = int(local(point.time).replace(hour=0, minute=0, second=0).timestamp())
            files, gaps = days.get(day, (0, 0))
            days[day] = (files + point.added + point.changed, gaps + point.gaps)
        if days:
            first, last = min(days), max(days)
            self._days = [(day, *days.get(day, (0, 0))) for day in range(first, last + 1, 86400)]
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        if not self._days:
            return
        look = self._look
        painter = QPainter(self)
        base = float(self.height() - 20)
        wide = min(24.0, self.width() / len(self._days))
        peak = max(files for _, files, _ in self._days) or 1
        painter.setFont(sized(self.font(), 9))
        for number, (day, files, gaps) in enumerate(self._days):
            height = max(2.0 if files else 0.0, (base - 4) * (files / peak) ** 0.5)
            fill = hatch(look, "sand_soft", "sand") if gaps else look.color("shoal_deep")
            painter.fillRect(QRectF(number * wide + 1, base - height, wide - 2, height), fill)
            when = local(day * SECOND)
            if when.weekday() == 0:
                text(painter, QRectF(number * wide, base + 2, 80, 18), f"{when.day} {when:%b}", look.color("quiet_text"))
        painter.setPen(QPen(look.color("line"), 1))
        painter.drawLine(0, int(base), self.width(), int(base))


class JournalPlace(_Place):
    """What happened."""

    def __init__(self, look: Palette) -> None:
        super().__init__("Journal", "Every run, newest first. What could not be read is named below its run.")
        frame, layout = card()
        layout.addWidget(label("Files added and changed by day", "strong"))
        self._picture = RunsPicture(look)
        layout.addWidget(self._picture)
        self.column.addWidget(frame)
        self._look = look
        self._tree = QTreeWidget()
        self._tree.setHeaderLabels(["When", "", "What happened"])
        self._tree.setUniformRowHeights(True)
        self._tree.setAccessibleName("Runs")
        self._tree.setColumnWidth(0, 190)
        self._tree.setColumnWidth(1, 84)
        self.column.addWidget(self._tree, 1)

    def show_tide(self, overview: Overview) -> None:
        """The picture of the runs."""
        self._picture.show_tide(overview.tide)

    def show_journal(self, view: JournalView, now: int) -> None:
        """The events."""
        words = {"good": "done", "note": "with gaps", "trouble": "failed"}
        colors = {"good": "kelp", "note": "sand", "trouble": "coral"}
        self._tree.clear()
        rows = []
        for entry in view.events:
            row = QTreeWidgetItem([time_words(entry.time, now), words[entry.level], entry.what])
            row.setToolTip(0, exact_words(entry.time))
            row.setForeground(1, self._look.color(colors[entry.level]))
            for detail in entry.detail:
                row.addChild(QTreeWidgetItem(["", "", detail]))
            rows.append(row)
        self._tree.addTopLevelItems(rows)
