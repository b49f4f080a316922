"""The ladder: how dense history stays with age, and which snapshots that keeps.

A rung reaches up to an age and keeps, of each calendar period of its step, the last snapshot; the ages of
rungs rise. A snapshot stays if its own rung or any later one keeps it. What a later rung will keep is
therefore still there when its time comes, whatever was released before: thinning often, seldom or once ends
in the same set. ``docs/thinning.md`` has the argument and a worked example.
"""

from __future__ import annotations

import enum
import re
from collections.abc import Collection, Sequence
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import msgspec
import numpy as np
from dateutil.relativedelta import relativedelta

from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError
from good_tide.core.translation import tr
from good_tide.core.words import count_words

_DAY = 86400
Moments = np.ndarray[tuple[int], np.dtype[np.int64]]
"""Numbers, one for each snapshot."""


class Step(enum.StrEnum):
    """Of which period a rung keeps the last snapshot. Weeks begin on Monday (ISO 8601)."""

    EVERY = "every"
    HOUR = "hour"
    DAY = "day"
    WEEK = "week"
    MONTH = "month"
    QUARTER = "quarter"
    YEAR = "year"


_UNITS = {"h": "hours", "d": "days", "w": "weeks", "mo": "months", "y": "years"}
_LONG = {
    "hour": "h",
    "hours": "h",
    "day": "d",
    "days": "d",
    "week": "w",
    "weeks": "w",
    "month": "mo",
    "months": "mo",
    "year": "y",
    "years": "y",
}


class Rung(msgspec.Struct, frozen=True, omit_defaults=True):
    """Up to an age, of each period of ``step`` the last snapshot. ``reach`` such as ``2d``, ``12mo``; empty:
    for ever."""

    step: Step
    reach: str = ""

    def text(self) -> str:
        """As ``parse_rung`` reads it."""
        return f"{self.reach or 'forever'} {self.step.value}"


class Ladder(msgspec.Struct, frozen=True, omit_defaults=True):
    """Rungs from the youngest on. After the last rung's reach nothing is kept. No rung: everything stays for
    ever."""

    rungs: tuple[Rung, ...] = ()

    def check(self) -> None:
        """Whether it makes sense.

        Raises:
            PersonError: it does not.
        """
        before = None
        for number, rung in enumerate(self.rungs):
            if not rung.reach and number + 1 < len(self.rungs):
                raise PersonError(
                    tr("A rung after the one that lasts for ever keeps nothing"),
                    tr("Let the last rung last for ever"),
                )
            if rung.reach:
                ends = reach_back(rung.reach, _SOME_DAY)
                if before is not None and ends >= before:
                    raise PersonError(
                        tr("The rung “{text}” reaches no further back than the one before").format(
                            text=rung.text()
                        ),
                        tr("Put the rungs in order of age"),
                    )
                before = ends


_SOME_DAY = datetime(2026, 7, 15, tzinfo=UTC)

READY = {
    "close": Ladder(
        (Rung(Step.EVERY, "7d"), Rung(Step.HOUR, "30d"), Rung(Step.DAY, "12mo"), Rung(Step.WEEK))
    ),
    "usual": Ladder(
        (Rung(Step.EVERY, "2d"), Rung(Step.DAY, "30d"), Rung(Step.WEEK, "12mo"), Rung(Step.QUARTER))
    ),
    "long": Ladder(
        (Rung(Step.EVERY, "2d"), Rung(Step.DAY, "14d"), Rung(Step.WEEK, "3mo"), Rung(Step.MONTH, "10y"))
    ),
    "everything": Ladder(),
}
"""Ready ladders by their names."""


def parse_rung(text: str) -> Rung:
    """A rung, from ``2d every``, ``30 days day``, ``12mo week``, ``forever quarter``.

    Raises:
        PersonError: it cannot be understood.
    """
    words = text.strip().lower().split()
    step = words[-1] if words else ""
    reach = "".join(words[:-1])
    if step not in list(Step):
        raise PersonError(
            tr("“{text}” is no rung").format(text=text),
            tr("End it with one of {Step}").format(Step=", ".join(Step)),
        )
    if reach in ("forever", "ever"):
        return Rung(Step(step))
    found = re.fullmatch(r"(\d{1,4})([a-z]+)", reach)
    unit = _LONG.get(found[2], found[2]) if found is not None else ""
    if found is None or unit not in _UNITS or not int(found[1]):
        raise PersonError(
            tr("“{text}” is no rung").format(text=text),
            tr("Write such as “2d every”, “30d day”, “12mo week”, “forever quarter”"),
        )
    return Rung(Step(step), f"{int(found[1])}{unit}")


def reach_back(reach: str, now: datetime) -> datetime:
    """The moment to which a reach goes back: months and years by the calendar, the rest as elapsed time."""
    found = re.fullmatch(r"(\d+)([a-z]+)", reach)
    assert found is not None
    back = relativedelta(**{_UNITS[found[2]]: int(found[1])})  # type: ignore[arg-type]
    if found[2] in ("mo", "y"):
        return now - back
    return (now.astimezone(UTC) - back).astimezone(now.tzinfo)


def period(moment: int, step: Step, zone: ZoneInfo) -> int:
    """The number of the calendar period that a moment lies in; equal for equal periods, rising with time.

    :param moment: nanoseconds since 1970 UTC.
    """
    return int(periods(np.array([moment], dtype=np.int64), step, zone)[0])


def periods(moments: Moments, step: Step, zone: ZoneInfo) -> Moments:
    """``period`` of many moments, rising."""
    if step is Step.EVERY:
        return moments
    seconds = moments // SECOND
    offsets = _offsets(seconds, zone)
    if step is Step.HOUR:  # hours of the clock on the wall; the one that comes twice counts twice
        return (seconds + offsets % 3600) // 3600
    days = (seconds + offsets) // 86400
    if step is Step.DAY:
        return days
    if step is Step.WEEK:
        return (days + 3) // 7  # 1970 began on a Thursday
    months = days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
    return months // {Step.MONTH: 1, Step.QUARTER: 3, Step.YEAR: 12}[step]


def _offsets(seconds: Moments, zone: ZoneInfo) -> Moments:
    """The zone's offset from UTC at moments, in seconds. Asked for at both ends of each day; within one in
    which it changes, for each moment."""

    def offset(second: int) -> int:
        found = datetime.fromtimestamp(second, zone).utcoffset()
        return 0 if found is None else int(found.total_seconds())

    days, where = np.unique(seconds // _DAY, return_inverse=True)
    begin = np.array([offset(int(day) * _DAY) for day in days.tolist()], dtype=np.int64)
    end = np.array([offset(int(day) * _DAY + _DAY - 1) for day in days.tolist()], dtype=np.int64)
    found = begin[where]
    for number in np.flatnonzero((begin != end)[where]).tolist():
        found[number] = offset(int(seconds[number]))
    return found


class Kept(msgspec.Struct, frozen=True):
    """What a ladder keeps of some snapshots: True for each that stays, in their order."""

    stays: tuple[bool, ...]

    @property
    def count(self) -> int:
        """How many stay."""
        return sum(self.stays)


def keeps(ladder: Ladder, times: Sequence[int], now: int, zone: str, held: Collection[int] = ()) -> Kept:
    """Which snapshots of one machine's job stay.

    :param times: of the snapshots, rising, nanoseconds since 1970 UTC.
    :param held: positions of those that stay in any case: pinned, the newest complete one, the last with a
        precious version.
    """
    count = len(times)
    if not count or not ladder.rungs:
        return Kept((True,) * count)
    where = ZoneInfo(zone)
    today = datetime.fromtimestamp(now // SECOND, where)
    moments = np.asarray(times, dtype=np.int64)
    stays = np.zeros(count, dtype=bool)
    stays[-1] = True
    stays[list(held)] = True
    wanted = np.zeros(count, dtype=bool)
    youngest_first = list(ladder.rungs)
    ends = [
        int(reach_back(rung.reach, today).timestamp()) * SECOND if rung.reach else np.iinfo(np.int64).min
        for rung in youngest_first
    ]
    for number in reversed(range(len(youngest_first))):
        wanted |= _last_of_period(moments, youngest_first[number].step, where)
        newer_than = ends[number]
        older_than = ends[number - 1] if number else np.iinfo(np.int64).max
        stays |= wanted & (moments > newer_than) & (moments <= older_than)
    return Kept(tuple(stays.tolist()))


def _last_of_period(
    moments: Moments, step: Step, zone: ZoneInfo
) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
    """For each moment whether it is the last in its period."""
    own = periods(moments, step, zone)
    last = np.ones(len(moments), dtype=bool)
    last[:-1] = own[1:] != own[:-1]
    return last


def words(ladder: Ladder) -> str:
    """A ladder as a sentence's part: ``hour by hour for two days, …``."""
    if not ladder.rungs:
        return tr("everything for ever")
    parts = []
    for rung in ladder.rungs:
        dense = tr("every one") if rung.step is Step.EVERY else tr("one {PER}").format(PER=_PER[rung.step])
        parts.append(
            tr("{dense} for {reach_words}").format(dense=dense, reach_words=reach_words(rung.reach))
            if rung.reach
            else tr("{dense} for ever").format(dense=dense)
        )
    return (", " + tr("then") + " ").join(parts)


_PER = {
    Step.HOUR: tr("an hour"),
    Step.DAY: "a day",
    Step.WEEK: "a week",
    Step.MONTH: "a month",
    Step.QUARTER: "a quarter",
    Step.YEAR: "a year",
}


def reach_words(reach: str) -> str:
    """A reach in words: ``2 days``, ``12 months``."""
    found = re.fullmatch(r"(\d+)([a-z]+)", reach)
    assert found is not None
    return count_words(int(found[1]), _UNITS[found[2]].removesuffix("s"))
