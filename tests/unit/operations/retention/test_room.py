"""Releasing snapshots: the catalog afterwards, pins, thinning by the ladder, and the commands for it."""

from __future__ import annotations

import random

from good_tide.core.clock import SetClock
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.settings import Job, Room, StoreRef
from good_tide.core.tide import NO_TIDE
from good_tide.operations.retention.room import plan_room, room_facts, taking
from good_tide.operations.retention.thinning import (
    pin,
)
from good_tide.operations.schedule.standing import Standings
from good_tide.operations.stores.opening import synced_catalog
from good_tide.storage.needs import held_bytes, needed_keys
from tests.support.base import HOUR, MACHINE, OFFICE, T0, GoodTideTest


class RoomTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None)
        self.chance = random.Random(2)
        for day in range(10):
            self.write("film.mp4", self.chance.randbytes(200_000))
            self.write("letters/one.txt", "x" * day)
            self.write("letters/scan.png", self.chance.randbytes(70_000) if day < 2 else b"small")
            self.snap(self.store, day * 24)

    def test_what_takes_the_room_is_exact(self) -> None:
        by_folder = {one.name: one for one in taking(self.store, "folder", Silent(), self.cache)}
        self.assertGreater(by_folder[str(self.work)].only_here, 1_900_000)
        self.assertIn(by_folder[f"{self.work}/letters"].only_here, range(130_000, 300_000))
        by_kind = {one.name: one for one in taking(self.store, "kind", Silent(), self.cache)}
        self.assertGreater(by_kind["video"].only_here, 1_900_000)
        self.assertIn(by_kind["pictures"].only_here, range(130_000, 160_000))
        by_period = taking(self.store, "period", Silent(), self.cache)
        machine = taking(self.store, "machine", Silent(), self.cache)
        self.assertEqual((len(machine), machine[0].shared), (1, 0))
        self.assertEqual(
            machine[0].only_here,
            held_bytes(self.store, needed_keys(self.store, self.store.snapshots()[0], Silent())),
        )
        self.assertLessEqual(sum(one.only_here for one in by_period), machine[0].only_here)

    def test_the_fewest_oldest_make_room_and_none_below_the_floor(self) -> None:
        pin(self.store, self.store.snapshots()[0][0].id)
        now = T0 + 24 * 10 * HOUR
        plan = plan_room(self.store, MACHINE.id, 450_000, now, Silent(), self.cache)
        self.assertEqual([(one.record.time - T0) // (24 * HOUR) for one in plan.releases], [1, 2])
        assert plan.gives_back is not None
        self.assertGreaterEqual(plan.gives_back, 450_000)
        self.assertEqual(plan_room(self.store, MACHINE.id, 500_000, T0, Silent(), self.cache).releases, ())
        everything = plan_room(self.store, MACHINE.id, 1 << 40, T0 + 24 * 5 * HOUR, Silent(), self.cache)
        self.assertEqual([(one.record.time - T0) // (24 * HOUR) for one in everything.releases], [1, 2, 3, 4])

    def test_the_status_counts_the_days_until_the_limit(self) -> None:
        synced_catalog(self.store, self.cache)[0].close()
        clock = SetClock(Nanoseconds(T0 + 10 * 24 * HOUR))
        standings = Standings(self.context(clock))
        stored = self.store.place.total_bytes()

        def days(room: Room) -> float | None:
            ref = StoreRef(path=str(self.folder / "store"))
            return (
                standings.standing(Job(id=OFFICE, name="Office", folders=(), stores=(ref,), room=room))
                .stores[0]
                .full_in_days
            )

        self.assertAlmostEqual(days(Room(limit_bytes=stored + 2_000_000)) or 0, 10, delta=2)
        self.assertEqual(days(Room(limit_bytes=stored)), 0)
        self.assertGreater(days(Room()) or 0, 1000)
        self.assertEqual(days(Room(reserve_bytes=1 << 60)), 0)

    def test_limit_and_reserve_say_how_much_is_missing(self) -> None:
        stored, size = self.store.place.total_bytes(), self.store.place.room()
        self.assertEqual(room_facts(stored, Room(), NO_TIDE, T0, size).short, 0)
        self.assertEqual(room_facts(stored, Room(limit_bytes=stored - 1000), NO_TIDE, T0, size).short, 1000)
        facts = room_facts(stored, Room(reserve_bytes=1 << 60), NO_TIDE, T0, size)
        self.assertEqual(facts.short, (1 << 60) - facts.free)
        self.assertEqual(room_facts(stored, Room(limit_part=1.0), NO_TIDE, T0, size).limit, facts.total)
