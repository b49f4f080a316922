"""The waves of the tide chart."""

from __future__ import annotations

import random
import subprocess
import sys
import unittest

from good_tide.core.clock import SECOND
from good_tide.core.history import TidePoint
from good_tide.core.identifiers import SnapshotId
from good_tide.core.tide import Tide
from good_tide.desktop.painting.time_axis import TimeAxis
from good_tide.desktop.timeline.waves import _KERNEL, _POWER, _REACH, EVERY, Waves
from tests.support.base import HOUR, T0


def point(number: int, time: int, added: int, removed: int) -> TidePoint:
    sizes = {"added_bytes": added, "changed_bytes": 0, "removed_bytes": removed}
    counts = dict.fromkeys(("files", "bytes", "stored", "gaps", "added", "changed", "removed"), 0)
    return TidePoint(seq=number, name=SnapshotId(""), time=time, label="", **counts, **sizes)


class WavesTest(unittest.TestCase):
    def setUp(self) -> None:
        chance = random.Random(5)
        times = sorted(T0 + chance.randrange(4000) * HOUR // 3 for _ in range(700))
        sizes = [(chance.choice((0, 1, 90, 40_000, 10**9)), chance.choice((0, 0, 7, 10**6))) for _ in times]
        self.tide = [
            point(number, time, *size)
            for number, (time, size) in enumerate(zip(times, sizes, strict=True), 1)
        ]
        self.axis = TimeAxis(times[0], times[-1])
        self.axis.width = 301.5

    def test_heights_are_those_of_the_highest_near_each_column(self) -> None:
        for zoom, at in ((1.0, 0.0), (0.3, 200.0), (0.05, 40.0)):
            self.axis.zoom(zoom, at)
            shown = [one for one in self.tide if self.axis.start <= one.time <= self.axis.end]
            columns = [int(self.axis.x(one.time)) for one in shown]
            highest = max(max(one.added_bytes, one.removed_bytes) for one in shown)
            made = Waves(Tide.of(self.tide)).over(self.axis)
            self.assertEqual(made.columns, sorted(set(columns)))
            self.assertEqual(made.peak, max(shown, key=lambda one: one.added_bytes).seq)
            for heights, sizes in (
                (made.up, [one.added_bytes for one in shown]),
                (made.down, [one.removed_bytes for one in shown]),
            ):
                self.assertEqual(len(heights), -(-302 // EVERY))
                for number, height in enumerate(heights):
                    near = (
                        (size / highest) ** _POWER * _KERNEL[column - number * EVERY + _REACH]
                        for column, size in zip(columns, sizes, strict=True)
                        if abs(column - number * EVERY) <= _REACH
                    )
                    self.assertAlmostEqual(height, max(near, default=0.0))

    def test_nothing_in_sight_and_nothing_brought(self) -> None:
        made = Waves(Tide.of([point(1, T0, 0, 0)])).over(self.axis)
        self.assertEqual((set(made.up), set(made.down), made.peak), ({0.0}, {0.0}, 1))
        self.axis.start, self.axis.end = T0 - 9 * HOUR, T0 - 8 * HOUR
        made = Waves(Tide.of(self.tide)).over(self.axis)
        self.assertEqual((set(made.up), made.columns, made.peak), ({0.0}, [], 0))
        self.assertEqual(Waves().over(TimeAxis(T0, T0 + SECOND)).columns, [])


class ImportsTest(unittest.TestCase):
    def test_the_window_is_built_without_numpy(self) -> None:
        code = "import sys, good_tide.desktop.shell.window; print('numpy' in sys.modules)"
        told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(told.stdout.strip(), "False")
