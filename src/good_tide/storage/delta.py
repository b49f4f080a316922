"""What a newer text shares with an older one, to the byte.

First what stands where it stood, counted from the front or from the end: most changes of databases and disk
images write in place, and most others insert or remove something once. Then, in what is left, by anchors:
places whose 16 preceding bytes have a fingerprint that one place in a few has, so that the same bytes have
the same anchors wherever they stand. An anchor of the newer text whose 32 preceding bytes stand before an
anchor of the older one begins a match, which is extended in both directions as far as the bytes are the same.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Bytes = NDArray[np.uint8]
Positions = NDArray[np.int64]

LEAST = 96
"""Bytes of the shortest stretch that is worth an extent of its own."""

_WINDOW = 32
"""Bytes before an anchor that are compared."""
_PRINT_BYTES = 16
_BLOCK_BYTES = 64
"""What stands in its place is looked for in blocks of so many bytes."""
_STEP_BYTES = 128 * 1024
"""Places looked at together, so that what is computed of them stays in the processor's cache."""
_FEW_BYTES = 256 * 1024
_EACH_OF_FEW, _EACH_OF_MANY = 16, 64
"""An anchor is one place in so many: of texts up to ``_FEW_BYTES``, and of longer ones."""
_MULTIPLIERS = tuple(np.uint8(value) for value in (0x6D, 0x8B, 0xE5, 0x35))
_MIX = np.frombuffer(
    bytes.fromhex("9d3c5f8a61b7e215f10d73c946a8eb3b27c1954fe60ab87de7539b2c84d16fa3"), dtype="<u8"
) | np.uint64(1)
_VAIN = 8
"""After so many anchors in a row that lead to nothing one in two is looked at, then one in three, and so on:
a long stretch has many, and is followed back to where it begins."""
_FIRST_STEP, _LAST_STEP = 256, 1 << 18
"""Bytes compared at once, at first and at most."""


class Shared(NamedTuple):
    """``length`` bytes from ``at`` on in the newer text that stand from ``before`` on in the older one."""

    at: int
    before: int
    length: int


def shared_stretches(old: bytes | memoryview, new: bytes | memoryview) -> list[Shared]:
    """Stretches of at least ``LEAST`` bytes that two texts share, in their order in ``new``, none over
    another. They are found where they can be, not all that there are."""
    older, newer = np.frombuffer(old, dtype=np.uint8), np.frombuffer(new, dtype=np.uint8)
    if min(len(older), len(newer)) < LEAST:
        return []
    found = _in_place(older, newer, 0, _gaps([], len(newer)))
    if len(older) != len(newer):
        gaps = _gaps(found, len(newer))
        found = sorted(found + _in_place(older, newer, len(older) - len(newer), gaps))
    gaps = _gaps(found, len(newer))
    if not gaps:
        return found
    each = _EACH_OF_FEW if max(len(older), len(newer)) <= _FEW_BYTES else _EACH_OF_MANY
    known = _Known(older, each)
    moved = [one for begin, end in gaps for one in _moved(known, newer, begin, end)]
    return sorted(found + moved)


def _gaps(found: list[Shared], length: int) -> list[tuple[int, int]]:
    """Where what is not shared yet, and long enough to be looked at, begins and ends in the newer text."""
    edges = [(0, 0), *((one.at, one.at + one.length) for one in found), (length, length)]
    return [(end, begin) for (_, end), (begin, _) in itertools.pairwise(edges) if begin - end >= LEAST]


def _in_place(older: Bytes, newer: Bytes, drift: int, gaps: list[tuple[int, int]]) -> list[Shared]:
    """What stands ``drift`` bytes further on in the older text, within some gaps of the newer one."""
    found: list[Shared] = []
    for low, high in gaps:
        begin, end = max(low, -drift), min(high, len(older) - drift)
        count = (end - begin) // _BLOCK_BYTES
        if count <= 0:
            continue
        whole = begin + count * _BLOCK_BYTES
        differ = newer[begin:whole] != older[begin + drift : whole + drift]
        same = ~differ.reshape(count, _BLOCK_BYTES).any(axis=1)
        edges = np.flatnonzero(np.diff(same, prepend=False, append=False))
        for first, last in edges.reshape(-1, 2).tolist():
            at, ends = begin + first * _BLOCK_BYTES, begin + last * _BLOCK_BYTES
            at -= _same_before(older[: at + drift], newer[begin if not found else max(low, _end(found)) : at])
            ends += _same_after(older[ends + drift :], newer[ends:high])
            found.append(Shared(at, at + drift, ends - at))
    return found


def _end(found: list[Shared]) -> int:
    return found[-1].at + found[-1].length


class _Known:
    """The anchors of an older text, in order of the marks of what stands before them."""

    def __init__(self, older: Bytes, each: int) -> None:
        self.text, self.each = older, each
        places = _anchors(older, each)
        marks = _marks(older, places)
        order = np.argsort(marks)
        self._marks, self._places = marks[order], places[order]

    def find(self, newer: Bytes, places: Positions) -> tuple[Positions, Positions]:
        """Those of some places of a newer text that look like one in the older one, in order, and that."""
        if not len(self._marks) or not len(places):
            return places[:0], places[:0]
        marks = _marks(newer, places)
        order = np.argsort(marks)
        at = np.minimum(np.searchsorted(self._marks, marks[order]), len(self._marks) - 1)
        alike = self._marks[at] == marks[order]
        mine, theirs = places[order[alike]], self._places[at[alike]]
        again = np.argsort(mine)
        return mine[again], theirs[again]


def _moved(known: _Known, newer: Bytes, begin: int, end: int) -> Iterator[Shared]:
    """What a gap of the newer text shares with anything in the older one."""
    places, befores = known.find(newer, _anchors(newer[begin:end], known.each) + begin)
    number, done, drift, vain = 0, begin, 0, 0
    while number < len(places):
        place, before = int(places[number]), int(befores[number])
        if _is_same(known.text, place + drift, newer, place):
            before = place + drift  # texts that repeat themselves are matched in their order
        forward = _same_after(known.text[before:], newer[place:end])
        back = _same_before(known.text[:before], newer[done:place])
        if forward + back >= LEAST:
            yield Shared(place - back, before - back, forward + back)
            done, drift, vain = place + forward, before - place, -1
        vain += 1
        number = max(number + 1 + vain // _VAIN, int(np.searchsorted(places, place + forward)))


def _anchors(text: Bytes, each: int) -> Positions:
    """The places of a text that are looked at, from ``_WINDOW`` on. Of those that stand side by side, as in
    stretches of one byte, only the first counts."""
    found = [
        _anchors_of(text[begin - _PRINT_BYTES : begin + _STEP_BYTES], each) + begin
        for begin in range(_WINDOW, len(text) + 1, _STEP_BYTES + 1)
    ]
    return np.concatenate(found) if found else np.empty(0, dtype=np.int64)


def _anchors_of(text: Bytes, each: int) -> Positions:
    source, width = text, 1
    for multiplier in _MULTIPLIERS:
        size = len(source) - width
        source = source[:size] * multiplier + source[width:]
        width *= 2
    chosen = (source & np.uint8(each - 1)) == 0
    chosen[1:] &= ~chosen[:-1]
    return np.flatnonzero(chosen)


def _marks(text: Bytes, places: Positions) -> NDArray[np.uint64]:
    """A number for each place that stands for the ``_WINDOW`` bytes before it."""
    words: NDArray[np.uint64] = np.ndarray((len(text) - 7,), dtype="<u8", buffer=text, strides=(1,))
    mixed = np.zeros(len(places), dtype=np.uint64)
    for index, multiplier in enumerate(_MIX):
        mixed ^= words[places - _WINDOW + 8 * index]
        mixed *= multiplier
        mixed ^= mixed >> np.uint64(29)
    return mixed


def _is_same(older: Bytes, before: int, newer: Bytes, place: int) -> bool:
    """Whether the bytes before two places are the same."""
    return (
        _WINDOW <= before <= len(older)
        and older[before - _WINDOW : before].tobytes() == newer[place - _WINDOW : place].tobytes()
    )


def _same_after(one: Bytes, other: Bytes) -> int:
    """How many bytes are the same from the front on."""
    at, most, step = 0, min(len(one), len(other)), _FIRST_STEP
    while at < most:
        end = min(at + step, most)
        differ = one[at:end] != other[at:end]
        first = int(differ.argmax())
        if differ[first]:
            return at + first
        at, step = end, min(step * 4, _LAST_STEP)
    return most


def _same_before(one: Bytes, other: Bytes) -> int:
    """How many bytes are the same from the end on."""
    return _same_after(one[::-1], other[::-1])
