"""Releasing snapshots: the catalog afterwards, pins, thinning by the ladder, and the commands for it."""

from __future__ import annotations

import random

from good_tide.core.clock import SetClock
from good_tide.core.errors import DamageError, PersonError, PlaceError
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.ladder import Ladder, Rung, Step, parse_rung
from good_tide.core.progress import Silent
from good_tide.core.settings import Job
from good_tide.core.words import local
from good_tide.operations.integrity.verify import verify
from good_tide.operations.retention.precious import last_with_precious
from good_tide.operations.retention.thinning import (
    ThinPlan,
    pin,
    pinned,
    plan_release,
    plan_thinning,
    release,
    sweep,
    unpin,
)
from good_tide.operations.stores.opening import synced_catalog
from tests.support.base import HOUR, MACHINE, OFFICE, OTHER_MACHINE, PASSPHRASE, T0, GoodTideTest, open_store


class ReleaseTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store()
        self.ctx = self.context(SetClock(Nanoseconds(T0)))
        chance = random.Random(1)
        self.taken = []
        for hour in range(0, 24 * 8, 6):
            self.write("big.bin", chance.randbytes(80_000))
            self.taken.append(self.snap(self.store, hour))
        self.now = T0 + 24 * 8 * HOUR

    def plan(self, *rungs: str, room: bool = True) -> ThinPlan:
        return plan_thinning(
            self.store,
            Ladder(tuple(map(parse_rung, rungs))),
            MACHINE.id,
            "Europe/Berlin",
            self.now,
            Silent(),
            self.cache if room else None,
        )

    def test_thinned_by_the_ladder_and_the_room_given_back(self) -> None:
        plan = self.plan("2d every", "forever day")
        days = {local(snapshot.record.time).date() for snapshot in self.taken}
        self.assertIn(len(plan.keeps), range(len(days) + 4, len(days) + 9))
        self.assertTrue(plan.needs_yes)
        assert plan.gives_back is not None
        self.assertGreater(plan.gives_back, 80_000 * len(plan.releases))
        before = self.store.place.total_bytes()
        release(self.ctx, self.store, plan, "by the ladder", None, Silent())
        self.assertEqual(self.plan("2d every", "forever day").releases, ())
        report = sweep(
            open_store(self.folder / "store", PASSPHRASE),
            self.state,
            SetClock(Nanoseconds(self.now)),
            Silent(),
        )
        self.assertLess(abs(before - self.store.place.total_bytes() - plan.gives_back), 60_000)
        self.assertGreater(report.freed, 0)
        store = open_store(self.folder / "store", PASSPHRASE)
        self.assertTrue(verify(store, True, Silent()).ok)
        self.assertEqual(len(store.snapshot_ids()), len(plan.keeps))
        self.assertIn(
            f"{len(plan.releases)} snapshots released by the ladder",
            self.ctx.journal.events(Filter())[0].what,
        )

    def test_pinned_ones_and_the_newest_stay(self) -> None:
        pin(self.store, self.taken[3].id, "before the move")
        pin(self.store, self.taken[3].id, "before the great move")
        self.assertEqual(pinned(self.store), {self.taken[3].id: "before the great move"})
        plan = self.plan("1h every", room=False)
        self.assertEqual([snapshot.id for snapshot in plan.keeps], [self.taken[3].id, self.taken[-1].id])
        for name, words in ((self.taken[3].id, "great move"), (self.taken[-1].id, "newest")):
            with self.assertRaises(PersonError) as caught:
                plan_release(self.store, {name}, Silent(), None)
            self.assertIn(words, str(caught.exception))
        self.assertTrue(unpin(self.store, self.taken[3].id))
        self.assertFalse(unpin(self.store, self.taken[3].id))
        self.assertEqual(len(self.plan("1h every", room=False).keeps), 1)

    def test_a_damaged_pin_stops_everything(self) -> None:
        pin(self.store, self.taken[3].id)
        file = next((self.folder / "store" / "pins").iterdir())
        whole = file.read_bytes()
        file.write_bytes(whole[:-2] + b"xx")
        self.plan("1h every")
        self.assertEqual(file.read_bytes(), whole, "its second copy puts it right")
        for one in (file, self.folder / "store" / "copies" / "pins" / file.name):
            one.write_bytes(whole[:-2] + b"xx")
        with self.assertRaises(DamageError):
            self.plan("1h every")

    def test_every_version_of_a_precious_file_is_kept(self) -> None:
        work = self.folder / "work"
        contents = {}
        store = self.new_store("second")
        for hour in range(8):
            self.write("Contracts/lease.txt", f"version {hour // 3}")
            self.write("notes.txt", f"{hour}")
            taken = self.snap(store, 1000 + hour)
            contents[f"version {hour // 3}"] = taken.id
        job = Job(id=OFFICE, name="Office", folders=(str(work),), stores=(), precious=("Contracts/",))
        with self.assertRaises(PlaceError):
            last_with_precious(store, job, MACHINE.id, self.cache)
        for _ in range(2):
            synced_catalog(store, self.cache)[0].close()
            held = last_with_precious(store, job, MACHINE.id, self.cache)
            self.assertEqual(held, {contents["version 0"], contents["version 1"]})
            plan = plan_thinning(
                store,
                Ladder((Rung(Step.YEAR, "1h"),)),
                MACHINE.id,
                "UTC",
                T0 + 2000 * HOUR,
                Silent(),
                None,
                held,
            )
            self.assertEqual({one.id for one in plan.keeps}, set(contents.values()))
            release(self.ctx, store, plan, "by the ladder", None, Silent())
        self.assertEqual(set(store.snapshot_ids()), set(contents.values()))

    def test_other_machines_are_not_touched(self) -> None:
        self.snap(self.store, 300, OTHER_MACHINE)
        self.snap(self.store, 301, OTHER_MACHINE)
        plan = self.plan("1h every", room=False)
        self.assertEqual(
            {snapshot.record.machine.id for snapshot in (*plan.keeps, *plan.releases)}, {MACHINE.id}
        )
