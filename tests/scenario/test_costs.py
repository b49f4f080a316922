"""What changed is what it costs: the cases of the benchmark, smaller."""

from __future__ import annotations

import unittest

from benchmarks.changes import CASES, measure, what_stays


class CostsTest(unittest.TestCase):
    def test_a_small_change_takes_little_and_every_version_comes_back(self) -> None:
        for case in CASES:
            with self.subTest(case.name):
                stored, allowed = measure(case, 0.06, 2)
                self.assertLess(stored, allowed)

    def test_what_stays_of_old_chunks_is_bounded(self) -> None:
        found = what_stays(4 << 20, 90, 8, 4096)
        self.assertGreater(found.every, 2 * found.fresh)
        self.assertLess(found.last, 1.7 * found.fresh)
