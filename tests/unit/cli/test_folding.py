"""Text and tables on narrow terminals."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from good_tide.cli.folding import fitted, folded, folded_line, with_long_cells_below

_PATH = "/home/ada/Productions/Winter play/Budgets/spring musical budget.csv"
_HEADINGS = ["Path", "Versions", "Last seen"]
_ROWS = [[_PATH, "19", "there now"], ["/home/ada/plan.txt", "2", "yesterday 16:00"]]


class FoldingTest(unittest.TestCase):
    def test_a_path_is_folded_after_its_slashes_and_between_words(self) -> None:
        self.assertEqual(
            folded(_PATH, 30).split("\n"),
            ["/home/ada/Productions/Winter", "play/Budgets/spring musical", "budget.csv"],
        )
        self.assertEqual(folded("", 10), "")

    @given(st.text(st.sampled_from("ab /é東"), max_size=60), st.integers(4, 20))
    def test_a_folded_cell_is_no_wider_and_loses_nothing_but_blanks(self, text: str, width: int) -> None:
        from rich.cells import cell_len

        shown = folded(text, width)
        self.assertTrue(all(cell_len(line) <= width + 1 for line in shown.split("\n")))
        self.assertEqual("".join(shown.split()), "".join(text.split()))

    def test_a_table_that_fits_stays_and_one_that_does_not_is_folded(self) -> None:
        self.assertEqual(fitted(_HEADINGS, _ROWS, (1,), 200), _ROWS)
        rows = fitted(_HEADINGS, _ROWS, (1,), 80)
        assert rows is not None
        self.assertIn("\n", rows[0][0])
        self.assertEqual(rows[1], _ROWS[1])
        self.assertIsNone(fitted(_HEADINGS, _ROWS, (1,), 50), "too little is left for the path")

    def test_long_cells_stand_below_where_nothing_else_helps(self) -> None:
        lines = with_long_cells_below(_HEADINGS, _ROWS, (1,), 50)
        self.assertEqual(lines[0], "Versions  Last seen")
        self.assertEqual(lines[1], "      19  there now")
        self.assertTrue(lines[2].startswith("    /home/ada/"))
        self.assertTrue(all(len(line) <= 50 for line in lines))

    def test_a_sentence_is_folded_between_words_and_a_path_in_it_stays_whole(self) -> None:
        long = f"    good      {_PATH.replace(' ', '_')} holds a store of this machine with 324 snapshots"
        lines = folded_line(long, 60).split("\n")
        self.assertEqual(lines[0], "    good")
        self.assertEqual(lines[1].strip(), _PATH.replace(" ", "_"), "it can be copied")
        self.assertEqual(lines[2], "        holds a store of this machine with 324 snapshots")
        self.assertEqual(folded_line("short", 60), "short")


if __name__ == "__main__":
    unittest.main()
