"""Which snapshots a ladder keeps."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from zoneinfo import ZoneInfo

import msgspec
import numpy as np

from good_tide.core.clock import SECOND
from good_tide.core.ladder import Ladder, Step, reach_back

_DAY = 86400
Moments = np.ndarray[tuple[int], np.dtype[np.int64]]
"""Numbers, one for each snapshot."""


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
