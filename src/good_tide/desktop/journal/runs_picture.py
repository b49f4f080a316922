"""Run history as a picture: by day, how long runs took, files changed, and data added; days with gaps
hatched, failed runs crossed."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime, time, timedelta

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from good_tide.core.clock import SECOND
from good_tide.core.happenings import Run
from good_tide.core.translation import tr
from good_tide.core.words import count_words, duration_words, local, size_words
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.picture import hatch, sized, text
from good_tide.desktop.painting.time_axis import day_words

_LEFT, _FOOT, _ROW_GAP = 112.0, 20.0, 8.0


class Day:
    """The runs of one day, added up."""

    def __init__(self, start: int) -> None:
        self.start = start
        self.runs = self.failed = self.gaps = self.changed = self.added = 0
        self.seconds = 0.0

    def add(self, run: Run) -> None:
        """Add a run."""
        self.runs += bool(run.snapshot)
        self.failed += run.result == "failed"
        self.gaps += run.gaps
        self.changed += run.changed
        self.added += run.new_bytes
        self.seconds = max(self.seconds, run.seconds)

    def words(self) -> str:
        """For a tool tip."""
        when = local(self.start * SECOND)
        parts = [f"{when:%a} {when.day} {when:%b %Y}: {count_words(self.runs, 'snapshot')}"]
        if self.runs:
            took = (
                ", " + tr("the longest took {seconds}").format(seconds=duration_words(self.seconds))
                if self.seconds
                else ""
            )
            parts.append(
                tr("{changed} changed, {added} new{took}").format(
                    changed=count_words(self.changed, "file"), added=size_words(self.added), took=took
                )
            )
        parts += (
            [tr("{count} could not be read").format(count=count_words(self.gaps, "file"))]
            if self.gaps
            else []
        )
        parts += [tr("{count} failed").format(count=count_words(self.failed, "run"))] if self.failed else []
        return "; ".join(parts)


def _midnight(day: date) -> int:
    """When a day begins here, seconds since 1970."""
    return int(datetime.combine(day, time()).astimezone().timestamp())


def by_day(runs: Sequence[Run]) -> list[Day]:
    """The days from the first run to the last, those without any too, oldest first."""
    days: dict[date, Day] = {}
    day, begin, end = date.min, 0, 0
    for run in runs:
        if not begin <= run.began // SECOND < end:  # runs of a day mostly stand together
            day = local(run.began).date()
            begin, end = _midnight(day), _midnight(day + timedelta(days=1))
        days.setdefault(day, Day(begin)).add(run)
    if not days:
        return []
    first, count = min(days), (max(days) - min(days)).days + 1
    every = (first + timedelta(days=number) for number in range(count))
    return [days.get(one) or Day(_midnight(one)) for one in every]


class RunsPicture(QWidget):
    """Three rows of bars, one bar a day. The square root of the values is drawn, so that quiet days are seen
    beside great ones."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._look = look
        self.days: list[Day] = []
        self.setFixedHeight(150)
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Runs by day"))

    def show_runs(self, runs: Sequence[Run]) -> None:
        """Add up the runs of each day."""
        self.days = by_day(runs)
        self.update()

    def _wide(self) -> float:
        return min(26.0, (self.width() - _LEFT) / max(1, len(self.days)))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        number = int((event.position().x() - _LEFT) / self._wide())
        if event.position().x() >= _LEFT and 0 <= number < len(self.days):
            QToolTip.showText(event.globalPosition().toPoint(), self.days[number].words(), self)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        look, painter = self._look, QPainter(self)
        painter.setFont(sized(self.font(), 9))
        if not self.days:
            text(painter, QRectF(0, 0, self.width(), 30), tr("No run yet"), look.color("quiet_text"))
            return
        peaks = [max(getattr(day, name) for day in self.days) for name in ("added", "changed", "seconds")]
        titles = [
            (tr("Data added"), size_words(int(peaks[0]))),
            (tr("Files changed"), f"{int(peaks[1]):,}"),
            (
                tr("Longest run"),
                duration_words(peaks[2]) if peaks[2] >= 1 else "1 s" if peaks[2] else tr("not known"),
            ),
        ]
        high = (self.height() - _FOOT) / 3
        for row, ((title, peak), name, most) in enumerate(
            zip(titles, ("added", "changed", "seconds"), peaks, strict=True)
        ):
            top = row * high
            text(painter, QRectF(0, top, _LEFT - 8, 16), title, look.color("ink"))
            text(
                painter,
                QRectF(0, top + 15, _LEFT - 8, 16),
                tr("up to {peak}").format(peak=peak) if most else peak,
                look.color("quiet_text"),
            )
            self._paint_row(painter, name, most, top, high - _ROW_GAP)
        self._paint_foot(painter)

    def _paint_row(self, painter: QPainter, name: str, most: float, top: float, high: float) -> None:
        look, wide = self._look, self._wide()
        painter.setPen(QPen(look.color("line"), 1))
        painter.drawLine(QPointF(_LEFT, top + high), QPointF(self.width(), top + high))
        gaps = hatch(look, "sand_soft", "sand")
        for number, day in enumerate(self.days):
            value = getattr(day, name)
            bar = max(2.0, high * (value / most) ** 0.5) if value and most else 0.0
            box = QRectF(_LEFT + number * wide + 1, top + high - bar, max(1.0, wide - 2), bar)
            painter.fillRect(box, gaps if day.gaps else look.color("shoal_deep"))
            if day.failed and name == "added":
                painter.setPen(QPen(look.color("coral"), 2))
                middle = box.center().x()
                painter.drawLine(QPointF(middle - 3, top + high - 8), QPointF(middle + 3, top + high - 2))
                painter.drawLine(QPointF(middle - 3, top + high - 2), QPointF(middle + 3, top + high - 8))

    def _paint_foot(self, painter: QPainter) -> None:
        free = 0.0
        for number, day in enumerate(self.days):
            when, left = local(day.start * SECOND), _LEFT + number * self._wide()
            if (when.weekday() == 0 or len(self.days) < 8) and left >= free and left + 44 < self.width():
                text(
                    painter,
                    QRectF(left, self.height() - _FOOT + 2, 60, 18),
                    day_words(when, len(self.days)),
                    self._look.color("quiet_text"),
                    Qt.AlignmentFlag.AlignLeft,
                )
                free = left + 62
