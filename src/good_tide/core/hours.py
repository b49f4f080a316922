"""Hours of the week: in words, as parts of the week, and whether a moment lies in them."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from typing import Self
from zoneinfo import ZoneInfo

from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError
from good_tide.core.translation import noted, tr
from good_tide.core.words import listed

_NAMES = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_SHORT = (noted("Mon"), noted("Tue"), noted("Wed"), noted("Thu"), noted("Fri"), noted("Sat"), noted("Sun"))
_GROUPS = {"daily": range(7), "weekdays": range(5), "weekends": range(5, 7)}
_DAY = 1440
_WEEK = 7 * _DAY


def days_of(text: str) -> tuple[int, ...]:
    """Days of the week from Monday, 0: from ``daily``, ``weekdays``, ``weekends``, ``mon,wed-fri``.

    Raises:
        PersonError: it cannot be understood.
    """
    found: set[int] = set()
    for part in text.strip().lower().split(","):
        first, dash, last = part.strip().partition("-")
        if part.strip() in _GROUPS:
            found.update(_GROUPS[part.strip()])
        elif first.strip()[:3] in _NAMES and (not dash or last.strip()[:3] in _NAMES):
            start = _NAMES.index(first.strip()[:3])
            end = _NAMES.index(last.strip()[:3]) if dash else start
            found.update((start + step) % 7 for step in range((end - start) % 7 + 1))
        else:
            raise PersonError(
                tr("“{part}” is no day").format(part=part),
                tr("Write daily, weekdays, weekends, or days such as mon,wed-fri"),
            )
    return tuple(sorted(found))


def days_text(days: Sequence[int]) -> str:
    """Days as ``days_of`` reads them."""
    known = {tuple(range(7)): "daily", tuple(range(5)): "weekdays", (5, 6): "weekends"}
    return known.get(tuple(days)) or _run_text(days)


def _run_text(days: Sequence[int]) -> str:
    return ",".join(
        _NAMES[run[0]] if run[0] == run[-1] else f"{_NAMES[run[0]]}-{_NAMES[run[-1]]}" for run in _runs(days)
    )


def day_words(days: Sequence[int]) -> str:
    """Days as people say them."""
    known = {tuple(range(7)): tr("daily"), tuple(range(5)): tr("on weekdays"), (5, 6): tr("on weekends")}
    return known.get(tuple(days)) or tr("on {days}").format(days=_day_names(days))


def _day_names(days: Sequence[int]) -> str:
    names = []
    for run in _runs(days):
        names.append(
            tr(_SHORT[run[0]]) if run[0] == run[-1] else f"{tr(_SHORT[run[0]])}–{tr(_SHORT[run[-1]])}"
        )
    return ", ".join(names)


def _runs(numbers: Sequence[int]) -> list[list[int]]:
    runs: list[list[int]] = []
    for number in numbers:
        if runs and number == runs[-1][-1] + 1:
            runs[-1].append(number)
        else:
            runs.append([number])
    return runs


class Hours:
    """A set of minutes of the week. The empty set means no limit: every minute is open.

    :param parts: minutes of the week from Monday 00:00, as half-open spans in order that do not touch.
    """

    def __init__(self, parts: Iterable[tuple[int, int]] = ()) -> None:
        merged: list[tuple[int, int]] = []
        for start, end in sorted(parts):
            if merged and start <= merged[-1][1]:
                merged[-1] = (merged[-1][0], max(end, merged[-1][1]))
            elif start < end:
                merged.append((start, end))
        self.parts = tuple(merged)

    @classmethod
    def of(cls, texts: Sequence[str]) -> Self:
        """Hours from lines such as ``mon-fri 08:00-20:00`` or ``sat 22:00-06:00``, which ends on Sunday.

        Raises:
            PersonError: a line cannot be understood.
        """
        return cls(_parsed(tuple(texts)))

    @classmethod
    def of_cells(cls, cells: Iterable[tuple[int, int]]) -> Self:
        """Hours from whole ones: pairs of day and hour. All of them are no limit."""
        parts = [(day * _DAY + hour * 60, day * _DAY + hour * 60 + 60) for day, hour in cells]
        made = cls(parts)
        return cls() if made.parts == ((0, _WEEK),) else made

    def part_of_cell(self, day: int, hour: int) -> float:
        """How much of an hour of the week is open, 0 to 1."""
        if not self.parts:
            return 1.0
        start = day * _DAY + hour * 60
        return sum(max(0, min(end, start + 60) - max(begin, start)) for begin, end in self.parts) / 60

    def is_open(self, moment: int, zone: str) -> bool:
        """Whether a moment lies in them. ``moment`` in nanoseconds since 1970 UTC, ``zone`` an IANA name."""
        if not self.parts:
            return True
        wall = datetime.fromtimestamp(moment // SECOND, ZoneInfo(zone))
        minute = wall.weekday() * _DAY + wall.hour * 60 + wall.minute
        return any(start <= minute < end for start, end in self.parts)

    def next_open(self, moment: int, zone: str) -> int | None:
        """The first moment from this one on that lies in them."""
        if self.is_open(moment, zone):
            return moment
        where = ZoneInfo(zone)
        wall = datetime.fromtimestamp(moment // SECOND, where)
        monday = wall.replace(tzinfo=None, fold=0, hour=0, minute=0, second=0, microsecond=0) - timedelta(
            days=wall.weekday()
        )
        found = []
        for week in range(3):
            for start, _ in self.parts:
                local = (monday + timedelta(days=7 * week, minutes=start)).replace(tzinfo=where)
                time = int(local.timestamp()) * SECOND
                if time > moment and self.is_open(time, zone):
                    found.append(time)
        return min(found, default=None)

    def texts(self) -> tuple[str, ...]:
        """Lines that ``of`` reads back, days with the same hours together."""
        by_hours: dict[str, list[int]] = {}
        for day in range(7):
            spans = [(max(start, day * _DAY), min(end, day * _DAY + _DAY)) for start, end in self.parts]
            for start, end in spans:
                if start < end:
                    by_hours.setdefault(
                        f"{_clock(start - day * _DAY)}-{_clock(end - day * _DAY)}", []
                    ).append(day)
        return tuple(f"{_run_text(days)} {hours}" for hours, days in by_hours.items())

    def words(self) -> str:
        """The hours as people say them."""
        if not self.parts:
            return tr("at all hours")
        by_days: dict[str, list[str]] = {}
        for text in self.texts():
            days, _, hours = text.rpartition(" ")
            start, _, end = hours.partition("-")
            by_days.setdefault(_day_names(days_of(days)), []).append(
                tr("{start} to {end}").format(start=start, end=end)
            )
        hours = "{days} {hours}"
        told = [hours.format(days=days, hours=listed(spans)) for days, spans in by_days.items()]
        return tr("only {hours}").format(hours=", ".join(told))


def _clock(minute: int) -> str:
    return f"{minute // 60:02}:{minute % 60:02}"


@functools.lru_cache(maxsize=64)
def _parsed(texts: tuple[str, ...]) -> tuple[tuple[int, int], ...]:
    parts = []
    for text in texts:
        days, _, hours = text.strip().rpartition(" ")
        found = re.fullmatch(r"([01]?\d|2[0-3]):([0-5]\d)\s*[-–]\s*([01]?\d|2[0-4]):([0-5]\d)", hours)
        if found is None or not days:
            raise PersonError(
                tr("“{text}” are no hours").format(text=text), tr("Write such as “mon-fri 08:00-20:00”")
            )
        start, end = int(found[1]) * 60 + int(found[2]), int(found[3]) * 60 + int(found[4])
        if start == end or end > _DAY:
            raise PersonError(
                tr("“{text}” is empty").format(text=text), tr("Let the hours end after they begin")
            )
        for day in days_of(days):
            length = (end - start) % _DAY or _DAY
            begin = day * _DAY + start
            parts += [(begin, min(begin + length, _WEEK))] + (
                [(0, begin + length - _WEEK)] if begin + length > _WEEK else []
            )
    return tuple(parts)
