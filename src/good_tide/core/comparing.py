"""Text as people read it, and what differs between two texts."""

from __future__ import annotations

import difflib
import enum

import msgspec

_MOST_LINES = 4000
_EQUAL_KEPT = 2
"""Equal lines shown around a difference."""


class Difference(msgspec.Struct, frozen=True):
    """What differs between two texts.

    :param lines: marked lines in order: ``" "`` equal, ``"+"`` only in the chosen version, ``"-"`` only in
        the other, ``"…"`` a number of equal lines left away.
    :param changed: lines of the chosen version that differ, of ``total`` lines.
    """

    lines: tuple[tuple[str, str], ...]
    changed: int
    total: int
    cut: bool = False


class Verdict(enum.StrEnum):
    """How one version compares with another, or with what is on the disk."""

    SAME = "same"
    FIRST = "first"
    """There is nothing before it."""
    OTHER = "other"
    """It differs, or there is nothing like it to compare with."""


class Comparison(msgspec.Struct, frozen=True):
    """How it compares, as a sentence without a full stop, and the difference where there is a text to
    show."""

    verdict: Verdict
    words: str
    difference: Difference | None = None


def compare_lines(chosen: list[str], other: list[str]) -> Difference:
    """What differs, from the chosen version's point of view. Only the first 4,000 lines of each are
    compared."""
    cut = len(chosen) > _MOST_LINES or len(other) > _MOST_LINES
    mine, theirs = chosen[:_MOST_LINES], other[:_MOST_LINES]
    lines: list[tuple[str, str]] = []
    changed = 0
    groups = difflib.SequenceMatcher(None, theirs, mine, autojunk=True).get_opcodes()
    for number, (what, begin, end, mine_begin, mine_end) in enumerate(groups):
        if what == "equal":
            lines += _equal(mine[mine_begin:mine_end], number == 0, number == len(groups) - 1)
        else:
            lines += [("-", line) for line in theirs[begin:end]] + [
                ("+", line) for line in mine[mine_begin:mine_end]
            ]
            changed += max(mine_end - mine_begin, end - begin)
    return Difference(tuple(lines), changed, max(len(mine), len(theirs)), cut)


def _equal(lines: list[str], first: bool, last: bool) -> list[tuple[str, str]]:
    """A run of equal lines, its middle folded when it is long."""
    head = 0 if first else _EQUAL_KEPT
    tail = 0 if last else _EQUAL_KEPT
    if len(lines) <= head + tail + 1:
        return [(" ", line) for line in lines]
    folded = len(lines) - head - tail
    kept_tail = lines[len(lines) - tail :] if tail else []
    return [*((" ", line) for line in lines[:head]), ("…", str(folded)), *((" ", line) for line in kept_tail)]
