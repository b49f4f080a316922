"""Reading back in portions, and drills."""

from __future__ import annotations

import random
from pathlib import Path
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.errors import StoppedError
from good_tide.core.happenings import Filter
from good_tide.core.health import proven_words
from good_tide.core.identifiers import Nanoseconds, chunk_of
from good_tide.core.progress import Silent, Steering
from good_tide.core.settings import Job
from good_tide.operations.context import Context
from good_tide.operations.integrity.drill import drill
from good_tide.operations.integrity.health_picture import known_costs
from good_tide.operations.integrity.proving import is_due, prove
from good_tide.operations.integrity.reading_back import packs_read, portion_due, read_portion
from good_tide.operations.integrity.repair import repair
from good_tide.operations.stores.job_stores import JobStores, NobodyToAsk
from good_tide.storage.packed import pack_file
from good_tide.storage.store import Store
from tests.support.base import HOUR, OTHER_MACHINE, PASSPHRASE, GoodTideTest, open_store
from tests.support.base import T0 as BEGIN

DAY = 24 * HOUR
LATER = 100_000
"""Hours after which the snapshots are taken: after the files changed, whatever the clock of this machine
says."""
T0 = BEGIN + LATER * HOUR


class ProvingTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        rng = random.Random(5)
        self.store = self.new_store()
        trusting = mock.patch("good_tide.operations.snapshot.file_taking.UNTRUSTED_NS", -1)
        trusting.start()
        self.addCleanup(trusting.stop)
        for number in range(12):
            self.write(f"folder {number % 3}/{number}.bin", rng.randbytes(150_000))
            self.snap(self.store, LATER + number)
        self.snap(self.store, LATER + 12, OTHER_MACHINE)
        self.root = Path(self.store.place.title)

    def fresh(self) -> Store:
        return open_store(self.root, PASSPHRASE)

    def at(self, time: int) -> Context:
        return self.context(SetClock(Nanoseconds(T0 + time)))

    def nowhere(self, job: Job) -> JobStores:
        return JobStores(self.at(0), job, NobodyToAsk())

    def test_all_is_read_within_the_time_that_is_set_and_the_oldest_first(self) -> None:
        packs = {pack.hex() for pack in self.fresh().index.tables}
        read: list[set[str]] = []
        kept = packs_read(self.at(0).here.records, self.store.header.store)
        for day in range(6):
            portion = read_portion(self.at(day * DAY), self.fresh(), 6, Silent())
            read.append(set(kept.read().packs) - set().union(*read))
            self.assertEqual(portion.whole, day == 5 or set().union(*read) == packs)
            if portion.whole:
                break
        self.assertEqual(set().union(*read), packs)
        self.assertGreater(len([one for one in read if one]), 3)
        health = self.at(0).health.of(self.store.header.store)
        self.assertIn("all", proven_words(health, T0 + 7 * DAY))
        again = read_portion(self.at(9 * DAY), self.fresh(), 6, Silent())
        self.assertGreater(again.packs, 0)
        self.assertLess(again.packs, len(packs))

    def test_it_is_stopped_at_once_and_goes_on_where_it_was(self) -> None:
        steering = Steering(lambda progress: steering.stop() if progress.files_done == 2 else None)
        with self.assertRaises(StoppedError):
            read_portion(self.at(0), self.fresh(), 1, steering, everything=True)
        kept = packs_read(self.at(0).here.records, self.store.header.store).read().packs
        self.assertEqual(len(kept), 2)
        health = self.at(0).health.of(self.store.header.store)
        self.assertTrue(portion_due(health, 1, T0 + HOUR), "the rest of the portion is due the same day")
        portion = read_portion(self.at(DAY), self.fresh(), 1, Silent())
        self.assertTrue(portion.whole)
        self.assertEqual(portion.packs, len(self.fresh().index.tables) - 2)

    def test_what_a_disk_did_to_a_pack_is_put_right_and_counted(self) -> None:
        pack = next(path for path in (self.root / "packs").rglob("*") if path.is_file())
        whole = pack.read_bytes()
        pack.write_bytes(whole[:5000] + bytes(900) + whole[5900:])
        portion = read_portion(self.at(0), self.fresh(), 1, Silent(), everything=True)
        self.assertEqual((portion.mended, portion.damaged), (1, 0))
        self.assertEqual(pack.read_bytes(), whole)
        self.assertEqual(self.at(0).health.of(self.store.header.store).mended, 1)

    def test_a_drill_restores_of_all_machines_and_compares_with_the_live_files(self) -> None:
        report = drill(self.at(0), self.fresh(), Silent(), random.Random(1))
        self.assertEqual((report.files, report.failed), (24, []))
        self.assertGreater(report.live, 5)
        self.assertGreater(report.listed, 0)
        self.assertEqual(list(self.cache.glob("trial-*")), [])
        self.assertIn("none failed", proven_words(self.at(0).health.of(self.store.header.store), T0))

    def test_a_drill_notices_other_bytes_than_the_live_ones(self) -> None:
        with mock.patch("good_tide.operations.integrity.drill._same_as_live", return_value=False):
            report = drill(self.at(0), self.fresh(), Silent(), random.Random(1))
        self.assertEqual(len(report.failed), 24)

    def test_what_fails_is_mended_and_proven_again(self) -> None:
        for pack in (self.root / "packs").rglob("*"):
            if pack.is_file() and pack.stat().st_size > 100_000:
                pack.write_bytes(b"?" * pack.stat().st_size)
        context = self.at(0)
        proof = prove(context, self.fresh(), 30, self.nowhere, Silent(), by_hand=True)
        assert proof.drill is not None and proof.repair is not None
        self.assertTrue(proof.drill.failed)
        self.assertTrue(proof.repair.whole, "the live files have it all")
        proof = prove(self.at(DAY), self.fresh(), 30, self.nowhere, Silent(), by_hand=True, everything=True)
        self.assertTrue(proof.well)
        self.assertTrue(any("did not come back" in event.what for event in context.journal.events(Filter())))

    def test_listings_that_are_in_memory_still_count_as_lost(self) -> None:
        kept, drilled = self.fresh(), self.fresh()
        for store in (kept, drilled):
            snapshots = store.snapshots()[0]
            roots = [root for one in snapshots for root in store.roots(one.record)]
            below = [one for root in roots for one in store.listing(root.pages)]
            self.assertTrue([entry for one in below for entry in store.listing(one.pages)])
            pages = [page for one in (*roots, *below) for page in one.pages]
        for pack in {place.pack for page in pages for place in kept.index.locations(chunk_of(page))}:
            file = self.root / pack_file(pack)
            file.write_bytes(random.Random(3).randbytes(file.stat().st_size))
        self.assertTrue(drill(self.at(0), drilled, Silent(), random.Random(1)).failed)
        read_portion(self.at(0), kept, 1, Silent(), everything=True)
        costs = known_costs(kept, Silent())
        self.assertEqual({name for one in costs for name in one.snapshots}, {one.id for one in snapshots})
        mended = repair(kept, [], self.at(0).here.state, Silent(), read_all=False)
        self.assertEqual(mended.lost, [], "what is in memory still comes back from there")
        self.assertEqual(known_costs(self.fresh(), Silent()), [])

    def test_it_is_due_once_a_day_and_only_where_it_is_wanted(self) -> None:
        context, store = self.at(0), self.store.header.store
        self.assertFalse(is_due(context, store, 30), "nothing was written from here")
        context.health.note_written(self.fresh(), T0)
        self.assertTrue(is_due(context, store, 30))
        self.assertFalse(is_due(context, store, 0))
        prove(context, self.fresh(), 30, self.nowhere, Silent())
        self.assertFalse(is_due(context, store, 30))
        self.assertTrue(is_due(self.at(DAY), store, 30))
