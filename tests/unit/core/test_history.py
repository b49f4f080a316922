"""Values of history: what stands for one, how much of it somebody knows, and the life of a name."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from good_tide.core.history import (
    NO_HISTORY,
    KnownHistory,
    Lifeline,
    Span,
    history_id,
    known_parts,
    still_holds,
)
from good_tide.core.identifiers import HistoryId, SnapshotId


def names(count: int) -> list[SnapshotId]:
    return [SnapshotId(f"{number:032x}") for number in range(count)]


class KnownTest(unittest.TestCase):
    def test_what_stands_for_a_history_depends_on_each_snapshot_and_their_order(self) -> None:
        first, second, third = names(3)
        known = {
            history_id(some)
            for some in ([], [first], [first, second], [second, first], [first, second, third])
        }
        self.assertEqual(len(known), 5)
        self.assertEqual(len(history_id([first])), 16)
        self.assertNotIn(NO_HISTORY, known)

    def test_beginnings_are_named_that_grow_ever_shorter(self) -> None:
        self.assertEqual([one.count for one in known_parts(names(10))], [10])
        self.assertEqual([one.count for one in known_parts(names(1000))], [1000, 936, 744])
        self.assertEqual(known_parts([]), ())
        self.assertEqual(known_parts(names(1000))[2], KnownHistory(744, history_id(names(744))))

    @given(st.integers(0, 3000), st.data())
    def test_what_holds_is_the_longest_beginning_that_is_named_and_unchanged(
        self, count: int, data: st.DataObject
    ) -> None:
        before = names(count)
        gone = data.draw(st.sets(st.integers(0, max(0, count - 1)), max_size=3))
        now = [name for number, name in enumerate(before) if number not in gone] + [SnapshotId("f" * 32)]
        kept = still_holds(known_parts(before), now)
        self.assertEqual(now[:kept], before[:kept])
        unchanged = min((number for number in gone if number < count), default=count)
        self.assertEqual(
            kept, max((one.count for one in known_parts(before) if one.count <= unchanged), default=0)
        )

    def test_a_history_that_became_shorter_or_is_anothers(self) -> None:
        known = known_parts(names(100))
        self.assertEqual(still_holds(known, names(100)), 100)
        self.assertEqual(still_holds(known, names(99)), 36)
        self.assertEqual(still_holds((KnownHistory(5, HistoryId("nonsense")),), names(10)), 0)


class LifelineTest(unittest.TestCase):
    def setUp(self) -> None:
        self.first = Span("f", 10, 0, b"a", 2, 4)
        self.gap = Span("x", 0, 0, b"", 5, 6)
        self.last = Span("d", 0, 0, b"", 9, None)
        self.line = Lifeline(b"plan", (self.first, self.gap, self.last))

    def test_a_version_stood_from_its_first_to_its_last_snapshot(self) -> None:
        self.assertEqual(
            [self.first.stood_at(seq) for seq in (1, 2, 3, 4, 5)], [False, True, True, True, False]
        )
        self.assertEqual([self.last.stood_at(seq) for seq in (8, 9, 1000)], [False, True, True])

    def test_what_stood_under_a_name_and_its_versions_by_number(self) -> None:
        at = {seq: self.line.at(seq) for seq in (1, 2, 5, 7, 9)}
        self.assertEqual(at, {1: None, 2: self.first, 5: self.gap, 7: None, 9: self.last})
        self.assertEqual([self.line.version_number(span) for span in self.line.spans], [1, 0, 2])
        self.assertEqual((self.line.kind, self.line.gone), ("d", False))
        gone = Lifeline(b"plan", (self.first,))
        self.assertEqual((gone.kind, gone.gone), ("f", True))
