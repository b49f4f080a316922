"""Marks on folders: each column with a change has one, and they are kept while nothing else is looked at."""

from __future__ import annotations

import random
import unittest
from itertools import pairwise
from unittest import mock

from good_tide.core.history import Lifeline, Span, TidePoint
from good_tide.core.identifiers import SnapshotId
from good_tide.core.tide import Tide
from good_tide.desktop.timeline.folder_marks import FolderMarks, runs
from good_tide.desktop.timeline.model import Row, TimelineModel
from tests.support.base import HOUR, T0


def folder(inside: tuple[int, ...]) -> Row:
    return Row(b"/work/plans", 0, Lifeline(b"plans", (Span("d", 0, 0, b"", 1, None),), inside), False)


class FolderMarksTest(unittest.TestCase):
    def setUp(self) -> None:
        counts = [0] * 10
        points = [
            TidePoint(number, SnapshotId(str(number)), T0 + number * HOUR, "", *counts)
            for number in range(1, 3001)
        ]
        self.model = TimelineModel(Tide.of(points))
        self.model.axis.width = 800.0
        self.marks = FolderMarks()

    def test_runs_have_every_column_once(self) -> None:
        chance = random.Random(7)
        for density in (0.0, 0.05, 0.5, 0.95, 1.0):
            columns = [column for column in range(500) if chance.random() < density]
            made = runs(columns)
            again = [column for first, last in made for column in range(first, last + 1)]
            self.assertEqual(again, columns)
            gaps = [later[0] - before[1] for before, later in pairwise(made)]
            self.assertTrue(all(gap > 1 for gap in gaps), "as few as can be")

    def test_each_change_lies_in_a_mark(self) -> None:
        row = folder(tuple(range(1, 3001, 37)))
        found = self.marks.of(self.model, row, 15.0)
        for seq in row.line.inside:
            x = int(self.model.axis.x(self.model.time_of(seq)))
            self.assertTrue(any(one.left() < x < one.right() for one in found), seq)

    def test_they_are_made_anew_only_for_another_stretch_of_time_or_other_changes(self) -> None:
        row, made = folder((1, 700, 2900)), mock.Mock(wraps=self.model.columns)
        with mock.patch.object(self.model, "columns", made):
            first = self.marks.of(self.model, row, 15.0)
            self.model.go(1200)
            self.assertIs(self.marks.of(self.model, row, 15.0), first)
            self.assertEqual(made.call_count, 1)
            self.model.axis.zoom(0.5, 400.0)
            self.assertNotEqual(self.marks.of(self.model, row, 15.0), first)
            self.assertEqual(len(self.marks.of(self.model, folder((1300, 1600)), 15.0)), 2)
            self.assertEqual(made.call_count, 3)
