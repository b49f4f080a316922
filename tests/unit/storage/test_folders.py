"""The names that a store gives to its files."""

from __future__ import annotations

import unittest

from good_tide.storage.folders import own_names


class OwnNamesTest(unittest.TestCase):
    def test_nothing_else_counts_whatever_a_place_lists(self) -> None:
        own = [f"{number:032x}" for number in (0, 7 << 60, (1 << 128) - 1)]
        self.assertEqual(own_names([*own]), own)
        self.assertEqual(own_names([]), [])
        for other in (
            "0" * 31 + "A",
            "0" * 31 + "\n",
            "0" * 31 + "\ud800",
            "0" * 31 + "ä",
            "0" * 31,
            "note.txt",
        ):
            self.assertEqual(own_names([own[0], other, *own[1:]]), own, ascii(other))
