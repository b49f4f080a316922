"""What always stays, whichever way history is made smaller: the newest, the newest complete one, pinned ones,
and those of others."""

from __future__ import annotations

from good_tide.core.errors import PersonError
from good_tide.core.ladder import Ladder, parse_rung
from good_tide.core.progress import Silent
from good_tide.core.records import Machine, Snapshot
from good_tide.operations.retention.room import plan_room
from good_tide.operations.retention.thinning import always_kept, pin, pinned, plan_release, plan_thinning
from tests.support.base import HOUR, MACHINE, OTHER_MACHINE, T0, GoodTideTest, restless

LATER = T0 + 5000 * HOUR


class StayingTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None)
        self.whole = [self.whole_one(hour) for hour in range(4)]
        self.gapped = [self.gapped_one(hour) for hour in range(4, 7)]

    def whole_one(self, hour: int, machine: Machine = MACHINE) -> Snapshot:
        self.write("plan.txt", f"calm {hour}")
        taken = self.snap(self.store, hour, machine)
        self.assertEqual(taken.gaps, 0)
        return taken

    def gapped_one(self, hour: int) -> Snapshot:
        """A snapshot in which a file would not hold still."""
        log = self.write("restless.log", f"begin {hour}")
        with restless(log):
            taken = self.snap(self.store, hour)
        self.assertEqual(taken.gaps, 1)
        log.unlink()
        return taken

    def thinned(self, rung: str) -> list[str]:
        ladder = Ladder((parse_rung(rung),))
        return [one.id for one in plan_thinning(self.store, ladder, MACHINE.id, "UTC", LATER, Silent()).keeps]

    def test_the_ladder_leaves_the_newest_complete_one_besides_the_newest(self) -> None:
        self.assertEqual(self.thinned("1h every"), [self.whole[-1].id, self.gapped[-1].id])
        newest = self.whole_one(10)
        self.assertEqual(self.thinned("1h every"), [newest.id], "a whole newest is both")

    def test_making_room_leaves_it_too_though_it_is_older_than_the_floor(self) -> None:
        plan = plan_room(self.store, MACHINE.id, 1 << 40, LATER, Silent(), self.cache)
        self.assertEqual([one.id for one in plan.keeps], [self.whole[-1].id, self.gapped[-1].id])

    def test_a_range_leaves_it_and_naming_it_is_refused_with_the_reason(self) -> None:
        names = {one.id for one in (*self.whole, *self.gapped)}
        plan = plan_release(self.store, names, Silent(), None, lenient=True)
        self.assertEqual([one.id for one in plan.keeps], [self.whole[-1].id, self.gapped[-1].id])
        for one, words in (
            (self.whole[-1], "is the newest complete one of its machine"),
            (self.gapped[-1], "is the newest of its machine"),
        ):
            with self.assertRaises(PersonError) as caught:
                plan_release(self.store, {one.id}, Silent(), None)
            self.assertIn(words, str(caught.exception))
        self.assertEqual(len(plan_release(self.store, {self.whole[0].id}, Silent(), None).releases), 1)

    def test_each_machine_has_its_own(self) -> None:
        other = self.whole_one(1, OTHER_MACHINE)
        fast = always_kept(self.store.snapshots()[0], {})
        self.assertEqual(set(fast), {self.whole[-1].id, self.gapped[-1].id, other.id})
        room = plan_room(self.store, MACHINE.id, 1 << 40, LATER, Silent(), self.cache)
        self.assertNotIn(other.id, [one.id for one in room.releases])

    def test_what_the_person_said_is_the_reason_that_is_told(self) -> None:
        pin(self.store, self.whole[-1].id, "before the tour")
        pin(self.store, self.whole[0].id)
        with self.assertRaises(PersonError):
            pin(self.store, self.whole[2].id, "x" * 201)
        fast = always_kept(self.store.snapshots()[0], pinned(self.store), {self.whole[1].id})
        self.assertEqual(fast[self.whole[-1].id].words, "is pinned (before the tour)")
        self.assertEqual(fast[self.whole[0].id].words, "is pinned")
        self.assertEqual(fast[self.whole[1].id].words, "is the last with a version of a precious file")
        room = plan_room(self.store, MACHINE.id, 1 << 40, LATER, Silent(), self.cache, {self.whole[1].id})
        gone = {self.whole[2].id, *(one.id for one in self.gapped[:2])}
        self.assertEqual({one.id for one in room.releases}, gone)
