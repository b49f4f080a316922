"""What differs between two texts and two tables."""

from __future__ import annotations

import random

from good_tide.core.comparing import Compared, RowPair, compare_lines, compare_tables, count_lines
from good_tide.core.previews import TextPreview
from tests.support.base import GoodTideTest


class ComparingTest(GoodTideTest):
    def test_lines_with_the_words_that_changed(self) -> None:
        found = compare_lines(
            ["act one", "the fee is 120 a night", "end"], ["act one", "the fee is 95 a night", "end"]
        )
        self.assertEqual((found.added, found.removed, found.lines), (1, 1, 3))
        (pair,) = [pair for pair in found.pairs if not pair.equal]
        assert pair.left is not None and pair.right is not None
        self.assertEqual((pair.left.marked, pair.right.marked), (((11, 14),), ((11, 13),)))
        self.assertEqual((pair.left.number, pair.right.number), (2, 2))

    def test_lines_that_have_nothing_in_common_are_marked_as_wholes(self) -> None:
        found = compare_lines(["aaa bbb"], ["xxx yyy"])
        assert found.pairs[0].left is not None
        self.assertEqual(found.pairs[0].left.marked, ())

    def test_long_equal_stretches_are_left_away(self) -> None:
        lines = [str(number) for number in range(50)]
        found = compare_lines([*lines, "new"], lines)
        self.assertEqual([pair.left.number for pair in found.pairs if pair.left], [49, 50, 51])

    def test_what_is_shown_gives_back_what_is_added_and_removed(self) -> None:
        chance = random.Random(3)
        for _ in range(50):
            other = [chance.choice("abcdefg") * chance.randrange(3) for _ in range(chance.randrange(30))]
            mine = [line for line in other if chance.random() > 0.2] + ["z"] * chance.randrange(3)
            found = compare_lines(mine, other)
            self.assertEqual((found.added, found.removed), count_lines(mine, other))
            for side, lines in (("left", mine), ("right", other)):
                for pair in found.pairs:
                    one = getattr(pair, side)
                    if one is not None:
                        self.assertEqual(one.text, lines[one.number - 1])
            differing = [pair for pair in found.pairs if not pair.equal]
            self.assertEqual(sum(pair.left is not None for pair in differing), found.added)
            self.assertEqual(sum(pair.right is not None for pair in differing), found.removed)

    def test_rows_are_put_together_by_their_first_cell(self) -> None:
        mine = [("Item", "Price"), ("Tape", "12"), ("Screws", "3")]
        theirs = [("Item", "Price"), ("Paint", "7"), ("Tape", "10")]
        found = compare_tables("", mine, theirs)
        self.assertEqual(found.rows, (RowPair(0, 0), RowPair(None, 1), RowPair(1, 2, (1,)), RowPair(2, None)))
        self.assertEqual((found.cells, found.added, found.removed), (1, 1, 1))

    def test_rows_with_nothing_in_common_are_two(self) -> None:
        found = compare_tables(
            "", [("new", "0", "0", "")], [("Screws", "80", "776", "Ada"), ("Tape", "1", "2", "")]
        )
        self.assertEqual((found.cells, found.added, found.removed), (0, 1, 2))

    def test_every_row_is_shown_once(self) -> None:
        chance = random.Random(5)
        for _ in range(60):
            theirs = [tuple(chance.choice("abcd") for _ in range(3)) for _ in range(chance.randrange(12))]
            mine = [row if chance.random() > 0.3 else (row[0], "x", row[2]) for row in theirs]
            chance.shuffle(mine)
            found = compare_tables("", mine, theirs)
            self.assertEqual([row.left for row in found.rows if row.left is not None], list(range(len(mine))))
            self.assertEqual(
                [row.right for row in found.rows if row.right is not None], list(range(len(theirs)))
            )

    def test_in_words(self) -> None:
        one, other = TextPreview("a"), TextPreview("b")
        self.assertEqual(Compared(one, other).words(), "")
        self.assertEqual(
            Compared(one, other, compare_lines(["a"], ["b", "c"])).words(), "1 line only here, 2 only there"
        )
        self.assertIn("only in line ends", Compared(one, other, compare_lines(["a"], ["a"])).words())
        table = compare_tables("", [("a", "1")], [("a", "2"), ("b", "3")])
        self.assertEqual(Compared(one, other, tables=(table,)).words(), "1 cell otherwise, 1 row only there")
