"""When a disk will be full, from what was added each day: a range that holds the true day in about four cases
of five.

The past is drawn from anew many times, in whole weeks, so that weekdays and bursts stay what they are: each
time first which weeks the past might have had (B. Efron, *Bootstrap Methods*, Annals of Statistics 7, 1979),
then, from those, the weeks to come. The trend is the median of all slopes between weeks (P. K. Sen,
*Estimates of the Regression Coefficient Based on Kendall's Tau*, JASA 63, 1968), damped, and not carried on
for longer than twice the past.
"""

from __future__ import annotations

import functools
import statistics
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from good_tide.core.filling import Curve, FullIn

FEWEST_DAYS = 14
_FEWEST_FOR_PACE = 3
_FEWEST_FOR_TREND = 6
_WEEKS = 26
"""Weeks of the past that are looked at."""
_DRAWS = 300
_HORIZON_WEEKS = 5 * 52
_DAMPED = 0.7
_LEAST_PART = 0.2
"""A falling trend is not believed below this part of the mean."""
_RANGE = (0.1, 0.5, 0.9)


def full_in(daily: Sequence[int], free: int) -> FullIn | None:
    """When ``free`` bytes will be used up; None while the past is too short, or nothing was added.

    :param daily: bytes added on each of the past days, oldest first, those without any too.
    """
    coming = _coming(daily, _HORIZON_WEEKS)
    if coming is None:
        return None
    full = (coming < free).sum(axis=1)
    days = coming.shape[1]
    found = [int(np.quantile(full, part, method="nearest")) for part in _RANGE]
    return FullIn(*(day + 1 if day < days else None for day in found))


@functools.lru_cache(64)
def days_left(daily: tuple[int, ...], free: int) -> float | None:
    """In about how many days ``free`` bytes will be used up: the middle of the forecast; None where it cannot
    be told, or not within five years.

    Of a past that is too short for a forecast, three days at least: at the mean of its days without the tenth
    that is highest, so that one great day does not speak for all.
    """
    if len(daily) >= FEWEST_DAYS:
        found = full_in(daily, free)
        return None if found is None else found.mid
    if len(daily) < _FEWEST_FOR_PACE:
        return None
    pace = statistics.fmean(sorted(daily)[: len(daily) - len(daily) // 10])
    return free / pace if pace > 0 else None


def curve(daily: Sequence[int], weeks: int) -> Curve | None:
    """How much will have been added by the end of each of the coming weeks; None while the past is too
    short."""
    coming = _coming(daily, weeks)
    if coming is None:
        return None
    ends = np.sort(coming[:, 6::7], axis=0)
    return Curve(*(tuple(int(value) for value in ends[round(part * (len(ends) - 1))]) for part in _RANGE))


def _coming(daily: Sequence[int], weeks: int) -> NDArray[np.float64] | None:
    """Bytes added by the end of each coming day, a row for each draw."""
    whole = len(daily) // 7
    if len(daily) < FEWEST_DAYS or not any(daily):
        return None
    past = np.asarray(daily[-min(whole, _WEEKS) * 7 :], dtype=np.float64).reshape(-1, 7)
    count = len(past)
    chance = np.random.default_rng(0)  # the same past always says the same
    number = np.arange(count)
    rows = np.empty((_DRAWS, weeks * 7))
    for draw in range(_DRAWS):
        drawn = chance.integers(0, count, count)
        weeks_drawn = past[drawn]
        mean = weeks_drawn.sum() / count
        slope = _slope(weeks_drawn.sum(axis=1), number[drawn]) if count >= _FEWEST_FOR_TREND else 0.0
        ahead = np.minimum(np.arange(1, weeks + 1), 2 * count) + (count - 1) / 2
        level = np.maximum(_LEAST_PART * mean, mean + _DAMPED * slope * ahead)
        future = weeks_drawn[chance.integers(0, count, weeks)]
        scale: NDArray[np.float64] = level / mean if mean else np.ones(weeks)
        rows[draw] = (future * scale[:, None]).ravel()
    return np.cumsum(rows, axis=1)


def _slope(values: NDArray[np.float64], at: NDArray[np.int64]) -> float:
    """The median of the slopes between all pairs of points."""
    first, second = np.triu_indices(len(at), 1)
    apart = at[second] - at[first]
    told = apart != 0
    return float(np.median((values[second] - values[first])[told] / apart[told])) if told.any() else 0.0
