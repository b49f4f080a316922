"""What people and runs ask for does not cost more the longer the history is: the benchmark, with fewer
snapshots. Processor time, with room for a busy machine."""

from __future__ import annotations

import unittest

from benchmarks.growth import compare


class GrowthTest(unittest.TestCase):
    def test_a_long_history_costs_little_more_than_a_short_one(self) -> None:
        found = {what: (few, many, exponent) for what, few, many, exponent in compare(40, 600)}
        for what, most in (
            ("a run, the store opened for it", 0.5),
            ("a run, the store open already", 0.5),
            ("a run after a sweep, the store opened for it", 0.35),
            ("its history, the store opened for it", 0.95),
            ("reading all of it into the catalog, for each snapshot", 0.25),
        ):
            with self.subTest(what):
                few, many, exponent = found[what]
                self.assertLess(exponent, most, f"{few:.4f} s, {many:.4f} s")
        self.assertLess(found["the versions of a file"][1], 0.05)
