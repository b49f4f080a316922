"""The one axis of time that tide chart and lifelines share. Plain values, no Qt."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import NamedTuple

from good_tide.core.clock import SECOND
from good_tide.core.words import local

MINUTE, HOUR, DAY = 60 * SECOND, 3600 * SECOND, 86400 * SECOND
_NARROWEST = 5 * MINUTE
_TICK_PIXELS = 96
_DAYS_OF_YEAR = 366
_LONGEST_WEEKS = 2
"""Marks are no more weeks apart than this; farther ones are months."""
_MONTHS = {1: 28, 3: 90, 6: 181, **{12 * years: 365 * years for years in (1, 2, 5, 10, 20, 50, 100)}}
"""Months between marks, and days that lie between them at least."""


class Tick(NamedTuple):
    """A mark on the axis; ``major`` ones begin a new day, week or year."""

    time: int
    label: str
    major: bool


def day_words(moment: datetime, days: float) -> str:
    """A day as it stands below a picture of so many days; with its year instead of its number where that is
    more than a year."""
    return f"{moment:%b %Y}" if days > _DAYS_OF_YEAR else f"{moment.day} {moment:%b}"


class TimeAxis:
    """Maps times (nanoseconds since 1970) to pixels from the left end. ``first`` to ``last`` is all there is
    to see."""

    def __init__(self, first: int, last: int) -> None:
        room = max(HOUR, (last - first) // 60)
        self.first, self.last = first - room, last + room
        self.start, self.end = self.first, self.last
        self.width = 1.0

    def x(self, time: float) -> float:
        """Pixels of a time, from the left end."""
        return (time - self.start) / (self.end - self.start) * self.width

    def time(self, x: float) -> int:
        """The time at a pixel."""
        return round(self.start + x / self.width * (self.end - self.start))

    def zoom(self, factor: float, at: float) -> None:
        """Show ``factor`` times as much time (below 1: nearer), the pixel ``at`` keeping its time."""
        fixed = self.time(at)
        span = (self.end - self.start) * factor
        span = min(max(span, _NARROWEST), self.last - self.first)
        self._show(fixed - span * at / self.width, span)

    def pan(self, pixels: float) -> None:
        """Move the view: content follows the pointer by ``pixels``."""
        span = self.end - self.start
        self._show(self.start - pixels / self.width * span, span)

    def show_all(self) -> None:
        """The whole of history."""
        self.start, self.end = self.first, self.last

    def reveal(self, time: int) -> None:
        """Move as little as needed for ``time`` to be seen, with some room around it."""
        span = self.end - self.start
        margin = span // 12
        if time < self.start + margin:
            self._show(time - margin, span)
        elif time > self.end - margin:
            self._show(time + margin - span, span)

    def extend(self, last: int) -> None:
        """History has become longer; a view of its end moves along."""
        at_end = self.end >= self.last
        whole = at_end and self.start <= self.first
        self.last = max(self.last, last + max(HOUR, (last - self.first) // 60))
        if whole:
            self.show_all()
        elif at_end:
            self._show(self.last - (self.end - self.start), self.end - self.start)

    def _show(self, start: float, span: float) -> None:
        start = min(max(start, self.first), self.last - span)
        self.start, self.end = int(start), int(start + span)

    def ticks(self) -> Iterator[Tick]:
        """Marks at whole minutes, hours, days, weeks, months or years; no nearer than their labels are
        wide."""
        wanted = (self.end - self.start) / max(self.width, 1) * _TICK_PIXELS
        for step in (5, 10, 30):
            if step * MINUTE >= wanted:
                yield from self._clock_ticks(step)
                return
        for hours in (1, 3, 6, 12):
            if hours * HOUR >= wanted:
                yield from self._clock_ticks(hours * 60)
                return
        if wanted <= _LONGEST_WEEKS * 7 * DAY:
            yield from self._day_ticks(wanted)
        else:
            yield from self._month_ticks(wanted)

    def _clock_ticks(self, minutes: int) -> Iterator[Tick]:
        moment = local(self.start).replace(hour=0, minute=0, second=0, microsecond=0, tzinfo=None)
        end = local(self.end).replace(tzinfo=None)
        while moment <= end:
            time = _stamp(moment)
            if time >= self.start:
                midnight = moment.hour == 0 and moment.minute == 0
                yield Tick(
                    time, f"{moment:%a} {moment.day} {moment:%b}" if midnight else f"{moment:%H:%M}", midnight
                )
            moment += timedelta(minutes=minutes)

    def _month_ticks(self, wanted: float) -> Iterator[Tick]:
        """Marks at the first of some months, or of some years, each with its year: in a long history days of
        the week tell nothing."""
        months = next((months for months, days in _MONTHS.items() if days * DAY >= wanted), max(_MONTHS))
        begin, end = local(self.start), local(self.end).replace(tzinfo=None)
        number = (begin.year * 12 + begin.month - 1) // months * months
        while (moment := datetime(number // 12, number % 12 + 1, 1)) <= end:
            time = _stamp(moment)
            if time >= self.start:
                yield Tick(time, f"{moment:%Y}" if months >= 12 else f"{moment:%b %Y}", moment.month == 1)
            number += months

    def _day_ticks(self, wanted: float) -> Iterator[Tick]:
        days = next((days for days in (1, 2) if days * DAY >= wanted), 7)
        while days * DAY < wanted:
            days += 7
        moment = local(self.start).replace(hour=0, minute=0, second=0, microsecond=0, tzinfo=None)
        moment -= timedelta(days=moment.weekday() if days >= 7 else 0)
        end = local(self.end).replace(tzinfo=None)
        while moment <= end:
            time = _stamp(moment)
            if time >= self.start:
                yield Tick(time, f"{moment:%a} {moment.day} {moment:%b}", days >= 7 or moment.weekday() == 0)
            moment += timedelta(days=days)

    def weekends(self) -> Iterator[tuple[float, float]]:
        """Left and right pixel of each weekend, if the view is long enough for them to matter."""
        if self.end - self.start > 400 * DAY:
            return
        day = local(self.start).replace(hour=0, minute=0, second=0, microsecond=0, tzinfo=None)
        day -= timedelta(days=day.weekday() + 2)
        end = local(self.end).replace(tzinfo=None)
        while day <= end:
            yield max(0.0, self.x(_stamp(day))), min(self.width, self.x(_stamp(day + timedelta(days=2))))
            day += timedelta(days=7)


def _stamp(moment: datetime) -> int:
    """Nanoseconds of a local time."""
    return int(moment.astimezone().timestamp()) * SECOND
