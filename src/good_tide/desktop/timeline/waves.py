"""The waves of the tide chart: how much the snapshots on each pixel column brought and removed.

In plain Python, for a window shows them before anything else in it needs NumPy, which takes longer to load.
"""

from __future__ import annotations

import math
from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from operator import add, mul
from typing import NamedTuple

from good_tide.core.tide import NO_TIDE, Tide
from good_tide.desktop.painting.time_axis import TimeAxis

EVERY = 2
"""Pixels between the points of the waves: they are smooth over more."""
_POWER = 0.3
"""Heights grow with this power of the size, so that a small edit is seen beside a large recording."""
_REACH = 9
_KERNEL = [math.exp(-0.5 * (away / 2.6) ** 2) for away in range(-_REACH, _REACH + 1)]
"""How a single snapshot's height falls off to both sides, so many pixels."""


class Shape(NamedTuple):
    """The waves over an axis.

    ``up`` and ``down``: heights from 0 to 1, every ``EVERY`` pixels from the left; ``columns``: the pixels
    with any snapshot; ``peak``: the number of the one that brought most, 0 without any.
    """

    up: list[float]
    down: list[float]
    columns: list[int]
    peak: int


class Waves:
    """What the snapshots of a history brought and removed."""

    def __init__(self, tide: Tide = NO_TIDE) -> None:
        self._times, self._gone = tide.time, tide.removed_bytes
        self._grown = list(map(add, tide.added_bytes, tide.changed_bytes))

    def over(self, axis: TimeAxis) -> Shape:
        """The waves over an axis."""
        columns, each = int(axis.width) + 1, (axis.end - axis.start) / axis.width
        edges = [bisect_left(self._times, axis.start + column * each) for column in range(columns)]
        edges.append(bisect_right(self._times, axis.end))
        full = [column for column in range(columns) if edges[column] < edges[column + 1]]
        grown, gone = [0] * columns, [0] * columns
        for column in full:
            here = slice(edges[column], edges[column + 1])
            grown[column], gone[column] = max(self._grown[here]), max(self._gone[here])
        highest = max(*grown, *gone)
        peak = self._grown.index(max(grown), edges[0], edges[-1]) + 1 if full else 0
        return Shape(_smooth(grown, highest), _smooth(gone, highest), full, peak)


def _smooth(sizes: Sequence[int], highest: int) -> list[float]:
    """The highest around each column, weighed by how near it is; that of the highest size is 1."""
    if not highest:
        return [0.0] * len(sizes[::EVERY])
    outside = [0.0] * _REACH
    heights = [*outside, *[(size / highest) ** _POWER for size in sizes], *outside]
    return [
        max(map(mul, heights[left : left + len(_KERNEL)], _KERNEL)) for left in range(0, len(sizes), EVERY)
    ]
