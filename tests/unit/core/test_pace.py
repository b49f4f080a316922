"""The journal, reports, mail, the watch from afar, and the commands that tell."""

from __future__ import annotations

import json

from good_tide.core.pace import Pace
from tests.support.base import (
    REPOSITORY,
    GoodTideTest,
)


class PaceTest(GoodTideTest):
    def test_rate_and_time_left_converge_on_recorded_runs(self) -> None:
        """Runs recorded from this program: seconds and bytes done, a tenth of a second apart at least."""
        recorded = json.loads((REPOSITORY / "tests" / "support" / "recorded_runs.json").read_text())
        self.assertGreaterEqual(len(recorded), 3)
        for name, points in recorded.items():
            with self.subTest(name):
                pace, end, total = Pace(), points[-1][0], points[-1][1]
                for seconds, done in points:
                    pace.add(seconds, done)
                    left = pace.left(total)
                    if left is None or seconds < 0.25 * end:
                        continue
                    allowed = 1.0 if seconds < 0.5 * end else 0.6 if seconds < 0.75 * end else 0.35
                    self.assertLess(
                        abs(left - (end - seconds)), max(1.0, allowed * end), f"at {seconds} s of {end}"
                    )

    def test_nothing_is_said_too_early_and_a_rest_is_taken_in(self) -> None:
        pace = Pace()
        pace.add(0.0, 0)
        pace.add(0.5, 1000)
        self.assertIsNone(pace.left(10_000))
        for second in range(1, 60):
            pace.add(float(second), 1000 * second)
        self.assertAlmostEqual(pace.left(119_000) or 0, 60, delta=1)
        for second in range(60, 120):
            pace.add(float(second), 59_000)
        self.assertGreater(pace.left(119_000) or 0, 200)
