"""The places Coverage, Stores, Rhythm and Journal: what they can truly say of the job so far."""

from __future__ import annotations

import os
from collections.abc import Sequence

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QFont, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHeaderView, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from good_tide.core.clock import SECOND
from good_tide.core.history import TidePoint
from good_tide.core.words import count_words, exact_words, local, printable, size_words, time_words
from good_tide.desktop.painting import hatch, sized, text
from good_tide.desktop.palette import Palette
from good_tide.desktop.widgets import card, label
from good_tide.protocol.messages import CoveredFolder, JournalEntry, Overview, StoreView

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


class AreaPicture(QWidget):
    """Where the bytes are: each folder an area as large as its share, side by side, and its sub-folders within."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._folders: list[CoveredFolder] = []
        self.setMinimumHeight(220)
        self.setAccessibleName("Where the bytes are")

    def show_folders(self, folders: Sequence[CoveredFolder]) -> None:
        """Covered folders and those in them, outermost first."""
        self._folders = [folder for folder in folders if folder.size]
        self.setAccessibleDescription(", ".join(f"{_name(one.path)} {size_words(one.size)}" for one in self._tops()))
        self.update()

    def _tops(self) -> list[CoveredFolder]:
        return [one for one in self._folders if not any(one.path.startswith(other.path + b"/") for other in self._folders)]

    def _inside(self, folder: CoveredFolder) -> list[CoveredFolder]:
        depth = folder.path.count(b"/") + 1
        return [one for one in self._folders if one.path.startswith(folder.path + b"/") and one.path.count(b"/") == depth]

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._divide(painter, self._tops(), QRectF(self.rect()), 0)

    def _divide(self, painter: QPainter, folders: list[CoveredFolder], box: QRectF, depth: int) -> None:
        """Lay folders out in a box: cut it in two at about half of the bytes, along its longer side, again and again."""
        if not folders:
            return
        if len(folders) == 1:
            self._one(painter, folders[0], box, depth)
            return
        ordered = sorted(folders, key=lambda one: -one.size)
        total = sum(one.size for one in ordered)
        first = [ordered[0]]
        while len(first) < len(ordered) - 1 and sum(one.size for one in first) < total / 2.5:
            first.append(ordered[len(first)])
        share = sum(one.size for one in first) / total
        if box.width() >= box.height():
            one, other = QRectF(box), QRectF(box)
            one.setWidth(box.width() * share)
            other.setLeft(one.right())
        else:
            one, other = QRectF(box), QRectF(box)
            one.setHeight(box.height() * share)
            other.setTop(one.bottom())
        self._divide(painter, first, one, depth)
        self._divide(painter, ordered[len(first) :], other, depth)

    def _one(self, painter: QPainter, folder: CoveredFolder, box: QRectF, depth: int) -> None:
        look = self._look
        inner = box.adjusted(2, 2, -2, -2)
        if inner.width() < 3 or inner.height() < 3:
            return
        painter.setPen(QPen(look.color("kelp" if depth == 0 else "shoal_deep"), 1.2))
        painter.setBrush(look.color("kelp_soft" if depth != 1 else "paper"))
        painter.drawRoundedRect(inner, 4, 4)
        if inner.width() > 60 and inner.height() > 18:
            painter.setFont(sized(self.font(), 9.5 if depth == 0 else 9, QFont.Weight.DemiBold if depth == 0 else QFont.Weight.Normal))
            words = f"{_name(folder.path)}  {size_words(folder.size)}"
            text(painter, QRectF(inner.left() + 6, inner.top() + 2, inner.width() - 10, 17), words, look.color("ink"))
        inside = self._inside(folder)
        if depth < 2 and inside and inner.height() > 50 and inner.width() > 60:
            self._divide(painter, inside, inner.adjusted(4, 21, -4, -4), depth + 1)


def _name(path: bytes) -> str:
    return printable(os.path.basename(path))


class CoveragePlace(_Place):
    """What is covered, and where the bytes are."""

    def __init__(self, look: Palette) -> None:
        super().__init__(
            "Coverage", "Everything in these folders is in each snapshot. Rules to leave things out are not part of this version."
        )
        frame, layout = card()
        layout.addWidget(label("Where the bytes are", "strong"))
        self._picture = AreaPicture(look)
        layout.addWidget(self._picture)
        self.column.addWidget(frame, 3)
        self._tree = QTreeWidget()
        self._tree.setHeaderLabels(["Folder", "Files", "Size", "Share"])
        self._tree.setAccessibleName("Covered folders")
        self._tree.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self._tree.header().setStretchLastSection(False)
        self.column.addWidget(self._tree, 4)

    def show_folders(self, folders: list[CoveredFolder]) -> None:
        """The covered folders of the newest snapshot."""
        self._picture.show_folders(folders)
        self._tree.clear()
        items: dict[bytes, QTreeWidgetItem] = {}
        tops = [one for one in folders if not any(one.path.startswith(other.path + b"/") for other in folders)]
        total = sum(one.size for one in tops) or 1
        for one in folders:
            parent = items.get(os.path.dirname(one.path))
            name = _name(one.path) if parent is not None else printable(one.path)
            item = QTreeWidgetItem([name, f"{one.files:,}", size_words(one.size), f"{100 * one.size / total:.0f} %"])
            for column in (1, 2, 3):
                item.setTextAlignment(column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            items[one.path] = item
            if parent is None:
                self._tree.addTopLevelItem(item)
                item.setExpanded(True)
            else:
                parent.addChild(item)


class RoomPicture(QWidget):
    """A disk: this store, other things, free room; below it, what each week of snapshots added."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self._view: StoreView | None = None
        self.setMinimumHeight(300)
        self.setAccessibleName("Room on the disk")

    def show_store(self, view: StoreView) -> None:
        """Show a store's room."""
        self._view = view
        self.setAccessibleDescription(
            f"{size_words(view.stored)} stored, {size_words(view.disk_free)} free of {size_words(view.disk_total)}"
        )
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        view = self._view
        if view is None or not view.disk_total:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_disk(painter, view)
        self._paint_weeks(painter, view)

    def _paint_disk(self, painter: QPainter, view: StoreView) -> None:
        look = self._look
        width = float(self.width())
        other = max(0, view.disk_total - view.disk_free - view.stored)
        parts = [
            (view.stored, look.color("kelp"), "this store"),
            (other, hatch(look, "paper", "shoal_deep"), "other things"),
            (view.disk_free, look.color("kelp_soft"), "free"),
        ]
        left = 0.0
        painter.setFont(sized(self.font(), 9))
        for number, (size, fill, words) in enumerate(parts):
            wide = max(4.0, width * size / view.disk_total) if size else 0.0
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(fill)
            painter.drawRect(QRectF(left, 0, min(wide, width - left), 26))
            key = QRectF(number * 200, 36, 12, 12)
            painter.drawRect(key)
            painter.setPen(QPen(look.color("line"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(key)
            text(painter, QRectF(number * 200 + 18, 32, 178, 20), f"{size_words(size)} {words}", look.color("ink"))
            left += wide
        painter.setPen(QPen(look.color("shoal_deep"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(0.5, 0.5, width - 1, 25))

    def _paint_weeks(self, painter: QPainter, view: StoreView) -> None:
        look = self._look
        if not view.by_age:
            return
        top, base = 100.0, float(self.height() - 24)
        painter.setFont(sized(self.font(), 10, QFont.Weight.DemiBold))
        text(painter, QRectF(0, 70, self.width(), 20), "Room taken by each week's snapshots", look.color("ink"))
        painter.setFont(sized(self.font(), 9))
        peak = max(size for _, size in view.by_age) or 1
        wide = min(90.0, self.width() / len(view.by_age))
        for number, (begin, size) in enumerate(view.by_age):
            height = (base - top - 18) * size / peak
            box = QRectF(number * wide + 3, base - height, wide - 6, height)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(look.color("shoal_deep" if number % 2 else "shoal"))
            painter.drawRoundedRect(box, 3, 3)
            text(painter, QRectF(box.left(), box.top() - 18, wide, 16), size_words(size), look.color("ink"))
            day = local(max(begin, 0))
            text(painter, QRectF(box.left(), base + 4, wide, 18), f"{day.day} {day:%b}", look.color("quiet_text"))
        painter.setPen(QPen(look.color("line"), 1))
        painter.drawLine(0, int(base), self.width(), int(base))


class StoresPlace(_Place):
    """The store and its disk."""

    def __init__(self, look: Palette) -> None:
        super().__init__("Stores", "")
        frame, layout = card(margin=20, spacing=10)
        self._name = label("", "title")
        self._facts = label("", "quiet", wrap=True)
        self._picture = RoomPicture(look)
        for widget in (self._name, self._facts, self._picture):
            layout.addWidget(widget)
        self.column.addWidget(frame)
        self.column.addStretch()

    def show_store(self, overview: Overview) -> None:
        """The job's store."""
        view = overview.store
        if view is None:
            return
        self.sentence.setText("Where the snapshots of this job are kept.")
        self._name.setText(view.disk)
        secrecy = f"Encrypted; hint: {view.hint or 'none'}" if view.encrypted else "Not encrypted: whoever has the disk can read everything"
        if not view.present:
            self._facts.setText(f"{view.folder}\nThe disk is not here.")
            return
        snapshots = count_words(len(overview.tide), "snapshot")
        self._facts.setText(
            f"{view.folder}   ·   {view.file_system or 'unknown file system'}\n{secrecy}\n{snapshots}, {size_words(view.stored)} stored"
        )
        self._picture.show_store(view)


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

    def show_entries(self, entries: list[JournalEntry], now: int) -> None:
        """The runs."""
        words = {"good": "done", "note": "with gaps", "trouble": "failed"}
        colors = {"good": "kelp", "note": "sand", "trouble": "coral"}
        self._tree.clear()
        rows = []
        for entry in entries:
            row = QTreeWidgetItem([time_words(entry.time, now), words[entry.level], entry.what])
            row.setToolTip(0, exact_words(entry.time))
            row.setForeground(1, self._look.color(colors[entry.level]))
            for detail in entry.detail:
                row.addChild(QTreeWidgetItem(["", "", detail]))
            rows.append(row)
        self._tree.addTopLevelItems(rows)
