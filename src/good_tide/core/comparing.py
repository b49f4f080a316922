"""What differs between two versions: line by line with the words that changed, and cell by cell."""

from __future__ import annotations

import difflib
import enum
import re
from collections.abc import Hashable, Iterator, Sequence

import msgspec

from good_tide.core.previews import Preview
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words

_MOST_LINES = 4000
_MOST_ROWS = 2000
_EQUAL_KEPT = 2
"""Equal lines shown around a difference."""
_LONGEST_BY_WORDS = 1500
"""Characters of a line of which the changed words are looked for; a longer one is marked as a whole."""
_ALIKE = 0.4
"""From so many words in common on, of all, the words that differ are marked."""
_WORD = re.compile(r"\w+|\s+|[^\w\s]")

Stretch = tuple[int, int]
"""From a character to another, the last one not with it."""


class Side(msgspec.Struct, frozen=True, array_like=True):
    """A line on one side: its number from 1, its text, and the stretches of it that differ."""

    number: int
    text: str
    marked: tuple[Stretch, ...] = ()


class Pair(msgspec.Struct, frozen=True, array_like=True):
    """A line of each side that belong together; None where one side has none. ``left`` is the chosen version,
    ``right`` what it is compared with; ``equal`` where they are."""

    left: Side | None
    right: Side | None
    equal: bool = False


class Difference(msgspec.Struct, frozen=True):
    """What differs between two texts.

    :param pairs: the lines in order, with a few equal ones around what differs; where some are left away,
        their numbers jump.
    :param added: lines that only the chosen version has, or has otherwise; ``removed`` those of the other.
    :param lines: of the longer of the two.
    :param cut: only the beginnings were compared.
    """

    pairs: tuple[Pair, ...]
    added: int
    removed: int
    lines: int
    cut: bool = False


class RowPair(msgspec.Struct, frozen=True, array_like=True):
    """Rows of two tables that belong together, counted from 0; None where one has none. ``cells`` are the
    columns that differ."""

    left: int | None
    right: int | None
    cells: tuple[int, ...] = ()


class TableDifference(msgspec.Struct, frozen=True):
    """What differs between two tables of the same name: all rows in order, and how many cells and rows
    differ."""

    name: str
    rows: tuple[RowPair, ...]
    cells: int
    added: int
    removed: int
    cut: bool = False


class Verdict(enum.StrEnum):
    """How one version compares with another, or with what is on the disk."""

    SAME = "same"
    FIRST = "first"
    """There is nothing before it."""
    OTHER = "other"
    """It differs, or there is nothing like it to compare with."""


class Compared(msgspec.Struct, frozen=True, tag="compared"):
    """Two versions beside each other, and what differs where they have lines or tables."""

    chosen: Preview
    other: Preview
    text: Difference | None = None
    tables: tuple[TableDifference, ...] = ()

    def words(self) -> str:
        """How much differs, in a few words; empty where that cannot be told."""
        if self.tables:
            cells, added, removed = (
                sum(getattr(table, what) for table in self.tables) for what in ("cells", "added", "removed")
            )
            parts = [tr("{count} otherwise").format(count=count_words(cells, "cell"))] if cells else []
            parts += [tr("{count} only here").format(count=count_words(added, "row"))] if added else []
            parts += [tr("{count} only there").format(count=count_words(removed, "row"))] if removed else []
            return ", ".join(parts)
        if self.text is None:
            return ""
        if not self.text.pairs or all(pair.equal for pair in self.text.pairs):
            return tr("only in line ends, or in how it is kept")
        here, there = self.text.added, self.text.removed
        parts = [tr("{count} only here").format(count=count_words(here, "line"))] if here else []
        if there:
            count = number_words(there) if here else count_words(there, "line")
            parts.append(tr("{count} only there").format(count=count))
        return ", ".join(parts)


class Counted(msgspec.Struct, frozen=True, tag="counted"):
    """Lines that only the chosen version has, and lines that only the other has; ``lines`` is False where
    they have none."""

    added: int = 0
    removed: int = 0
    lines: bool = True


class Comparison(msgspec.Struct, frozen=True):
    """How it compares, as a sentence without a full stop; ``compared`` where there is something to show."""

    verdict: Verdict
    words: str
    compared: Compared | None = None


def compare_lines(chosen: list[str], other: list[str]) -> Difference:
    """What differs, from the chosen version's point of view. Only the first 4,000 lines of each are
    compared."""
    cut = len(chosen) > _MOST_LINES or len(other) > _MOST_LINES
    mine, theirs = chosen[:_MOST_LINES], other[:_MOST_LINES]
    pairs: list[Pair] = []
    added = removed = 0
    groups = _groups(theirs, mine)
    for number, (equal, begin, end, mine_begin, mine_end) in enumerate(groups):
        if equal:
            first, last = number == 0, number == len(groups) - 1
            for at in _kept(mine_end - mine_begin, first, last):
                text = mine[mine_begin + at]
                pairs.append(Pair(Side(mine_begin + at + 1, text), Side(begin + at + 1, text), True))
            continue
        added += mine_end - mine_begin
        removed += end - begin
        for at in range(max(mine_end - mine_begin, end - begin)):
            left = (mine_begin + at + 1, mine[mine_begin + at]) if mine_begin + at < mine_end else None
            right = (begin + at + 1, theirs[begin + at]) if begin + at < end else None
            pairs.append(_marked(left, right))
    return Difference(tuple(pairs), added, removed, max(len(chosen), len(other)), cut)


def count_lines(chosen: list[str], other: list[str]) -> tuple[int, int]:
    """How many lines only the chosen version has, and how many only the other, of the first 4,000."""
    added = removed = 0
    for equal, begin, end, mine_begin, mine_end in _groups(other[:_MOST_LINES], chosen[:_MOST_LINES]):
        if not equal:
            added += mine_end - mine_begin
            removed += end - begin
    return added, removed


def compare_tables(
    name: str, chosen: Sequence[tuple[str, ...]], other: Sequence[tuple[str, ...]]
) -> TableDifference:
    """What differs between two tables, row by row and cell by cell, of the first 2,000 rows of each."""
    cut = len(chosen) > _MOST_ROWS or len(other) > _MOST_ROWS
    mine, theirs = chosen[:_MOST_ROWS], other[:_MOST_ROWS]
    rows: list[RowPair] = []
    cells = added = removed = 0
    for equal, begin, end, mine_begin, mine_end in _groups(theirs, mine):
        if equal:
            rows += [RowPair(mine_begin + at, begin + at) for at in range(end - begin)]
            continue
        for left, right in _rows_together(mine, theirs, (mine_begin, mine_end), (begin, end)):
            if left is None or right is None:
                added += left is not None
                removed += right is not None
                rows.append(RowPair(left, right))
                continue
            differing = _cells(mine[left], theirs[right])
            cells += len(differing)
            rows.append(RowPair(left, right, differing))
    return TableDifference(name, tuple(rows), cells, added, removed, cut)


def _groups(theirs: Sequence[Hashable], mine: Sequence[Hashable]) -> list[tuple[bool, int, int, int, int]]:
    """Runs that are equal or not, in order: where each begins and ends in theirs, and in mine."""
    matcher = difflib.SequenceMatcher(None, theirs, mine, autojunk=True)
    return [(what == "equal", *places) for what, *places in matcher.get_opcodes()]  # type: ignore[misc]


def _kept(count: int, first: bool, last: bool) -> Iterator[int]:
    """Which lines of an equal run are shown: its beginning and its end, where something differs before or
    after."""
    head, tail = (0 if first else _EQUAL_KEPT), (0 if last else _EQUAL_KEPT)
    if count <= head + tail + 1:
        yield from range(count)
        return
    yield from range(head)
    yield from range(count - tail, count)


def _marked(left: tuple[int, str] | None, right: tuple[int, str] | None) -> Pair:
    if left is None or right is None:
        return Pair(Side(*left) if left else None, Side(*right) if right else None)
    mine, theirs = _changed_words(left[1], right[1])
    return Pair(Side(*left, mine), Side(*right, theirs))


def _changed_words(mine: str, theirs: str) -> tuple[tuple[Stretch, ...], tuple[Stretch, ...]]:
    """The stretches of two lines in which they differ, by whole words; none where nearly all does."""
    if max(len(mine), len(theirs)) > _LONGEST_BY_WORDS:
        return (), ()
    left, right = _WORD.findall(mine), _WORD.findall(theirs)
    matcher = difflib.SequenceMatcher(None, right, left, autojunk=False)
    if matcher.ratio() < _ALIKE:
        return (), ()
    found_left: list[Stretch] = []
    found_right: list[Stretch] = []
    for what, begin, end, mine_begin, mine_end in matcher.get_opcodes():
        if what != "equal":
            found_left += _stretch(left, mine_begin, mine_end)
            found_right += _stretch(right, begin, end)
    return tuple(found_left), tuple(found_right)


def _stretch(words: list[str], begin: int, end: int) -> list[Stretch]:
    if begin == end:
        return []
    at = sum(map(len, words[:begin]))
    return [(at, at + sum(map(len, words[begin:end])))]


def _rows_together(
    mine: Sequence[tuple[str, ...]],
    theirs: Sequence[tuple[str, ...]],
    left: Stretch,
    right: Stretch,
) -> Iterator[tuple[int | None, int | None]]:
    """Rows of two stretches that differ, put together: those with the same first cell, where there are such;
    else in order."""
    named = {theirs[at][0]: at for at in range(*right) if theirs[at] and theirs[at][0]}
    partner: dict[int, int] = {}
    used = right[0] - 1
    for at in range(*left):
        other = named.get(mine[at][0]) if mine[at] else None
        if other is not None and other > used:
            partner[at] = used = other
    if not partner:
        beside = zip(range(*left), range(*right), strict=False)
        partner = {at: other for at, other in beside if _alike(mine[at], theirs[other])}
    done = right[0]
    for at in range(*left):
        if at in partner:
            for other in range(done, partner[at]):
                yield None, other
            done = partner[at] + 1
        yield at, partner.get(at)
    for other in range(done, right[1]):
        yield None, other


def _alike(mine: tuple[str, ...], theirs: tuple[str, ...]) -> bool:
    """Whether two rows have at least a third of their cells in common: else nothing says that one became the
    other."""
    common = sum(one == other and one != "" for one, other in zip(mine, theirs, strict=False))
    return 3 * common >= max(len(mine), len(theirs))


def _cells(mine: tuple[str, ...], theirs: tuple[str, ...]) -> tuple[int, ...]:
    width = max(len(mine), len(theirs))
    return tuple(
        column
        for column in range(width)
        if (mine[column] if column < len(mine) else "") != (theirs[column] if column < len(theirs) else "")
    )
