"""Which snapshots need which chunks, as rows of numbers; and from them, what would come back if some
snapshots or folders went.

The snapshots of a machine stand one behind the other in a *chain*, at positions from 0. A row says that a
chunk is needed from one position to another without a break, for one *label*: the part of the contents, such
as a folder, that needs it. A chunk has as many rows as it takes. Most have one, which is why a million chunks
and thousands of snapshots are a matter of milliseconds.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

OPEN = 0xFFFFFFFF
"""``last`` of a row that reaches to the end of its chain."""
ROW = np.dtype(
    [("key", "<u8"), ("label", "<u4"), ("chain", "<u4"), ("first", "<u4"), ("last", "<u4"), ("count", "<u4")]
)
"""``key``: the first eight bytes of a chunk's identity. ``count``: references at the end of the chain, in
open rows."""
EVENT = np.dtype([("key", "<u8"), ("label", "<u4"), ("chain", "<u4"), ("at", "<u4"), ("delta", "<i4")])
"""From position ``at`` of a chain on there are ``delta`` more references, or fewer."""
Rows = NDArray[np.void]
Numbers = NDArray[np.int64]
_SERIES = ("key", "label", "chain")


def netted(events: Rows) -> Rows:
    """Events in order of key, label, chain and position; those of one position added up, and left out where
    nothing remains."""
    if not len(events):
        return events
    events = events[np.lexsort((events["at"], events["chain"], events["label"], events["key"]))]
    starts = np.flatnonzero(_begins(events, (*_SERIES, "at")))
    result = events[starts]
    result["delta"] = np.add.reduceat(events["delta"], starts)
    stays: Rows = result[result["delta"] != 0]
    return stays


def applied(rows: Rows, events: Rows) -> Rows:
    """Rows after further events, in order of their keys. Events are later than all that the rows were made
    from.

    Raises:
        ValueError: more references go than there were: the rows do not belong to these events.
    """
    if not len(events):
        return rows
    touched = (rows["last"] == OPEN) & np.isin(rows["key"], np.unique(events["key"]))
    again = np.zeros(int(touched.sum()), dtype=EVENT)
    for name, source in (*((name, name) for name in _SERIES), ("at", "first"), ("delta", "count")):
        again[name] = rows[touched][source]
    fresh = _runs(netted(np.concatenate((again, events))))
    result = np.concatenate((rows[~touched], fresh))
    return result[np.argsort(result["key"], kind="stable")]


def _runs(events: Rows) -> Rows:
    """Rows of events that are netted and begin at nothing."""
    begins = _begins(events, _SERIES)
    series = np.cumsum(begins) - 1
    total = np.cumsum(events["delta"], dtype=np.int64)
    after = total - (total - events["delta"])[begins][series]
    before = after - events["delta"]
    if (after < 0).any():
        raise ValueError("more references go than there were")
    borders = np.flatnonzero(
        (before == 0) | (after == 0)
    )  # in each series, in turn: from here on needed, from here on not
    opening = np.flatnonzero(before[borders] == 0)
    rows = np.zeros(len(opening), dtype=ROW)
    opens = borders[opening]
    for name in _SERIES:
        rows[name] = events[name][opens]
    rows["first"] = events["at"][opens]
    rows["last"] = OPEN
    closes = borders[np.minimum(opening + 1, len(borders) - 1)]
    closed = (closes > opens) & (series[closes] == series[opens])
    rows["last"][closed] = events["at"][closes[closed]] - 1
    ends = np.append(np.flatnonzero(begins)[1:], len(events)) - 1
    rows["count"] = np.where(closed, 0, after[ends][series[opens]])
    return rows


def _begins(values: Rows, names: Sequence[str]) -> NDArray[np.bool_]:
    """Where sorted values differ from the one before in any of some columns."""
    found = np.ones(len(values), dtype=bool)
    if len(values):
        found[1:] = np.logical_or.reduce([values[name][1:] != values[name][:-1] for name in names])
    return found


def without(rows: Rows, stays: Sequence[NDArray[np.bool_]]) -> Rows:
    """Rows after positions were taken out of the chains.

    :param stays: for each chain, which of its positions stay; the last one of a chain with open rows does.
    """
    kept = []
    for chain, stay in enumerate(stays):
        own = rows[rows["chain"] == chain]
        if not stay.all():
            counted = np.concatenate(([0], np.cumsum(stay)))
            open_ = own["last"] == OPEN
            first, last = counted[own["first"]], counted[np.where(open_, len(stay) - 1, own["last"]) + 1] - 1
            own["first"], own["last"] = first, np.where(open_, OPEN, last)
            own = own[first <= last]
        kept.append(own)
    result = np.concatenate(kept) if kept else rows[:0]
    return result[np.argsort(result["key"], kind="stable")]


class Reckoning:
    """What would come back if parts of history went. Snapshots are told by *places*: their positions, chain
    behind chain.

    :param rows: in order of their keys.
    :param lengths: how many snapshots each chain has.
    :param keys: of the chunks that are stored, in any order.
    :param stored: the bytes that each takes; copies of one chunk add up.
    """

    def __init__(
        self, rows: Rows, lengths: Sequence[int], keys: NDArray[np.uint64], stored: NDArray[np.int64]
    ) -> None:
        offsets = np.concatenate(([0], np.cumsum(np.array(lengths, dtype=np.int64))))
        self._places = int(offsets[-1])
        first = rows["first"] + offsets[rows["chain"]]
        last = np.where(
            rows["last"] == OPEN, offsets[rows["chain"] + 1] - 1, rows["last"] + offsets[rows["chain"]]
        )
        starts = np.flatnonzero(_begins(rows, ("key",)))
        weights = _weights(rows["key"][starts], keys, stored)
        self._first, self._last, self._label, self._starts, self._weights = _folded(
            first.astype(np.int64), last.astype(np.int64), rows["label"].astype(np.int64), starts, weights
        )

    @property
    def total(self) -> int:
        """Bytes of everything that is needed."""
        return int(self._weights.sum())

    def gain(self, gone: NDArray[np.bool_]) -> int:
        """Bytes that only the snapshots at some places need."""
        return int(self._weights[self._needed_only_by(gone)].sum())

    def _needed_only_by(self, gone: NDArray[np.bool_]) -> NDArray[np.bool_]:
        inside = self._inside(gone) == self._last - self._first + 1
        return np.logical_and.reduceat(inside, self._starts) if len(self._starts) else np.zeros(0, dtype=bool)

    def _inside(self, places: NDArray[np.bool_]) -> Numbers:
        """For each row how many of some places it covers."""
        counted = np.concatenate(([0], np.cumsum(places, dtype=np.int64)))
        found: Numbers = counted[self._last + 1] - counted[self._first]
        return found

    def each(self) -> Numbers:
        """For each place the bytes that only this one snapshot needs."""
        if not len(self._starts):
            return np.zeros(self._places, dtype=np.int64)
        begin, end = (
            np.minimum.reduceat(self._first, self._starts),
            np.maximum.reduceat(self._last, self._starts),
        )
        one = begin == end
        return np.bincount(begin[one], self._weights[one], minlength=self._places).astype(np.int64)

    def by_place(self, groups: NDArray[np.intp], count: int) -> tuple[Numbers, Numbers]:
        """For each group of snapshots the bytes that only it needs, and the bytes that others need too.

        :param groups: the group of each place, from 0; ``count``: of groups.
        """
        alone, shared = np.zeros(count, dtype=np.int64), np.zeros(count, dtype=np.int64)
        for number in range(count if len(self._starts) else 0):
            mine = groups == number
            covered = self._inside(mine)
            needed = np.add.reduceat(covered, self._starts) > 0
            only = np.logical_and.reduceat(covered == self._last - self._first + 1, self._starts)
            alone[number] = self._weights[only].sum()
            shared[number] = self._weights[needed].sum() - alone[number]
        return alone, shared

    def by_label(self, groups: NDArray[np.intp], count: int) -> tuple[Numbers, Numbers]:
        """The same for groups of labels; ``groups``: the group of each label."""
        chunk = np.repeat(np.arange(len(self._starts)), np.diff(np.append(self._starts, len(self._first))))
        pairs = np.unique(chunk * count + groups[self._label])
        chunk, group = pairs // count, pairs % count
        only = np.bincount(chunk, minlength=len(self._starts))[chunk] == 1
        sums = [
            np.bincount(group[which], self._weights[chunk[which]], minlength=count).astype(np.int64)
            for which in (only, ~only)
        ]
        return sums[0], sums[1]


def _weights(wanted: NDArray[np.uint64], keys: NDArray[np.uint64], stored: Numbers) -> Numbers:
    """Stored bytes of each wanted key, which rise."""
    if not len(wanted):
        return np.zeros(0, dtype=np.int64)
    at = np.minimum(np.searchsorted(wanted, keys), len(wanted) - 1)
    known = wanted[at] == keys
    return np.bincount(at[known], stored[known], minlength=len(wanted)).astype(np.int64)


def _folded(
    first: Numbers, last: Numbers, label: Numbers, starts: Numbers, weights: Numbers
) -> tuple[Numbers, ...]:
    """The same with chunks of one and the same single row added up into one, which stands for all of them."""
    if not len(starts):
        return first, last, label, starts, weights
    sizes = np.diff(np.append(starts, len(first)))
    single = starts[sizes == 1]
    span, labels = int(last.max()) + 1, int(label.max()) + 1
    if span * span * labels >= 1 << 62:
        return first, last, label, starts, weights
    codes, which = np.unique(
        (first[single] * span + last[single]) * labels + label[single], return_inverse=True
    )
    sums = np.bincount(which, weights[sizes == 1], minlength=len(codes)).astype(np.int64)
    rest = np.repeat(sizes > 1, sizes)
    more = np.cumsum(sizes[sizes > 1])
    return (
        np.concatenate((codes // labels // span, first[rest])),
        np.concatenate((codes // labels % span, last[rest])),
        np.concatenate((codes % labels, label[rest])),
        np.concatenate((np.arange(len(codes)), len(codes) + more - sizes[sizes > 1])),
        np.concatenate((sums, weights[sizes > 1])),
    )
