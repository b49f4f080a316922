"""What history will be at a later moment, if snapshots go on as they did lately."""

from __future__ import annotations

import statistics
from bisect import bisect_right
from collections.abc import Sequence
from itertools import pairwise

from good_tide.core.clock import SECOND
from good_tide.core.tide import Tide

_LATELY = 28 * 86400 * SECOND
_FEWEST = 4
_MOST_COMING = 60_000


def coming(times: Sequence[int], until: int) -> list[int]:
    """Times of snapshots that will be taken up to a moment, at the pace of the last four weeks; none while
    there is no pace.

    :param times: of the snapshots there are, oldest first; nanoseconds since 1970 UTC, as ``until`` and what
        is returned.
    """
    lately = [moment for moment in times if moment > times[-1] - _LATELY] if times else []
    if len(lately) < _FEWEST:
        return []
    gaps = [after - before for before, after in pairwise(lately)]
    step = max(
        int((lately[-1] - lately[0]) / len(gaps)),
        int(statistics.median(gaps)),
        (until - times[-1]) // _MOST_COMING + 1,
    )
    return list(range(times[-1] + step, until, step))


def brought(tide: Tide, later: Sequence[int], count: int) -> int:
    """Bytes that some of the coming snapshots bring, at the pace of the last four weeks.

    :param later: times of the coming snapshots, as of ``coming``.
    :param count: how many of them are asked about.
    """
    lately = tide[bisect_right(tide.time, tide.time[-1] - _LATELY) :] if tide else tide
    if len(lately) < _FEWEST or len(later) < 2:
        return 0
    pace = sum(lately.stored[1:]) / (lately.time[-1] - lately.time[0])
    return round(pace * (later[1] - later[0]) * count)
