"""Taking something out of all history: what is touched, that nothing of it is left, and that nothing else
changes."""

from __future__ import annotations

import os
import random

from good_tide.core.clock import SetClock
from good_tide.core.errors import PersonError, StoppedError
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.name_query import NameQuery, parse_query
from good_tide.core.progress import Control, Progress, Silent
from good_tide.operations.integrity.verify import verify
from good_tide.operations.records.journal import Journal
from good_tide.operations.retention.purge import PurgePlan, plan_purge, purge
from good_tide.operations.retention.thinning import pin, pinned, sweep
from good_tide.operations.stores.opening import synced_catalog
from good_tide.storage.store import Store
from tests.support.base import MACHINE, OTHER_MACHINE, T0, GoodTideTest, open_store, restless
from tests.support.survival import content_of


class PurgeTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None)
        self.journal = Journal(self.state, SetClock(Nanoseconds(T0)))
        self.addCleanup(self.journal.close)
        chance = random.Random(5)
        self.secret = b"the private letter " * 40
        self.write("letters/a.txt", "a letter")
        self.write("letters/private.txt", self.secret)
        self.write("letters/z.txt", "another letter")
        self.write("films/deep/trip.mkv", chance.randbytes(500_000))
        self.write("notes.txt", "first")
        self.taken = [self.snap(self.store, 0)]
        self.write("notes.txt", "second")
        self.write("films/deep/trip.mkv", chance.randbytes(400_000))
        self.taken.append(self.snap(self.store, 1))
        (self.work / "films" / "deep" / "trip.mkv").unlink()
        (self.work / "letters" / "private.txt").unlink()
        self.taken.append(self.snap(self.store, 2))
        self.snap(self.store, 3, OTHER_MACHINE)
        pin(self.store, self.taken[0].id, "kept")

    def fresh(self) -> Store:
        return open_store(self.folder / "store", None)

    def purge(self, pattern: str, control: Control | None = None) -> PurgePlan:
        plan = plan_purge(self.fresh(), pattern, "", Silent())
        purge(self.fresh(), plan, self.state, SetClock(Nanoseconds(T0)), self.journal, control or Silent())
        return plan

    def contents(self) -> list[dict[str, bytes]]:
        store = self.fresh()
        return [content_of(store, snapshot.id) for snapshot in store.snapshots()[0]]

    def test_a_film_goes_everywhere_and_its_room_comes_back(self) -> None:
        before, size = self.contents(), self.store.place.total_bytes()
        plan = plan_purge(self.fresh(), "*.mkv", "", Silent())
        self.assertEqual((len(plan.snapshots), [versions for _, versions in plan.paths]), (2, [2]))
        self.assertGreater(plan.gives_back, 890_000)
        self.assertEqual(self.contents(), before)
        self.purge("*.mkv")
        self.assertEqual(
            self.contents(),
            [{name: content for name, content in one.items() if not name.endswith(".mkv")} for one in before],
        )
        names = self.fresh().snapshot_ids()
        self.assertEqual(len(names), 4)
        self.assertFalse({self.taken[0].id, self.taken[1].id} & set(names))
        self.assertIn(self.taken[2].id, names)
        self.assertEqual(list(pinned(self.fresh()).values()), ["kept"])
        self.assertTrue(set(pinned(self.fresh())) <= set(names))
        sweep(self.fresh(), self.state, SetClock(Nanoseconds(T0)), Silent())
        self.assertLess(self.store.place.total_bytes(), size - 850_000)
        self.assertTrue(verify(self.fresh(), True, Silent()).ok)
        self.assertIn("“*.mkv” was taken out of 2 snapshots", self.journal.events(Filter())[0].what)
        self.assertEqual(plan_purge(self.fresh(), "*.mkv", "", Silent()).snapshots, ())

    def test_nothing_of_a_private_file_is_left_though_it_shared_a_block(self) -> None:
        before = self.contents()
        self.assertEqual(len(self.purge("letters/private.txt").paths), 1)
        sweep(self.fresh(), self.state, SetClock(Nanoseconds(T0)), Silent(), thorough=True)
        self.assertEqual(
            self.contents(),
            [{name: content for name, content in one.items() if "private" not in name} for one in before],
        )
        store = self.fresh()
        for table in store.index.packs():
            for identity in table.chunk_ids():
                self.assertNotIn(self.secret[:60], store.read_chunk(identity))
        self.assertTrue(verify(store, True, Silent()).ok)

    def test_the_catalog_and_the_next_snapshot_go_on(self) -> None:
        catalog, _ = synced_catalog(self.fresh(), self.cache)
        self.purge("films/")
        catalog.sync(self.fresh())
        self.assertEqual(
            catalog.find(MACHINE.id, NameQuery(parse_query("trip.mkv"), gone=True), 10).paths, []
        )
        self.assertEqual(len(catalog.tide(MACHINE.id)), 3)
        catalog.close()
        self.write("notes.txt", "third")
        taken = self.snap(self.fresh(), 9)
        self.assertEqual(content_of(self.fresh(), taken.id)["notes.txt"], b"third")

    def test_cut_off_it_goes_on_and_a_whole_folder_is_refused(self) -> None:
        class Cut(Silent):
            def report(self, progress: Progress) -> None:
                if progress.phase == "Writing anew" and progress.files_done == 1:
                    raise StoppedError("cut off")

        with self.assertRaises(StoppedError):
            self.purge("*.mkv", Cut())
        self.assertEqual(len(plan_purge(self.fresh(), "*.mkv", "", Silent()).snapshots), 1)
        self.purge("*.mkv")
        self.assertFalse(any(name.endswith(".mkv") for one in self.contents() for name in one))
        self.assertEqual(len(self.fresh().snapshot_ids()), 4)

    def test_what_would_take_everything_is_refused(self) -> None:
        for pattern in ("", "  ", "!x", "[z-a]", "*", "**", "**/*", "?*", "*.*"):
            with self.subTest(pattern), self.assertRaises(PersonError):
                plan_purge(self.fresh(), pattern, "", Silent())
        for name in ("notes.txt", "letters/", "films/deep/*"):
            self.assertTrue(plan_purge(self.fresh(), name, "", Silent()).snapshots, name)
        self.assertEqual(len(self.fresh().snapshot_ids()), 4)

    def test_unchanged_snapshots_that_share_a_block_are_all_written_anew(self) -> None:
        self.taken += [self.snap(self.store, hour) for hour in (4, 5, 6)]
        plan = self.purge("letters/private.txt")
        mine = {snapshot.id for snapshot in self.taken}
        self.assertTrue(
            mine <= {snapshot.id for snapshot in plan.snapshots},
            "each refers to the block that had the private letter in it",
        )
        sweep(self.fresh(), self.state, SetClock(Nanoseconds(T0)), Silent(), thorough=True)
        store = self.fresh()
        for table in store.index.packs():
            for identity in table.chunk_ids():
                self.assertNotIn(self.secret[:60], store.read_chunk(identity))
        self.assertTrue(verify(store, True, Silent()).ok)
        self.assertEqual(len(store.snapshot_ids()), 7)

    def test_the_counts_and_the_names_are_those_of_what_is_left(self) -> None:
        log = self.write("letters/restless.log", "restless")
        self.write("letters/deep/er.txt", "deeper")
        os.mkfifo(self.work / "letters" / "pipe")
        with restless(log):
            taken = self.snap(self.store, 5)
        self.assertEqual((taken.gaps, len(taken.record.left_out)), (1, 1))
        before = taken.record.tally
        plan = self.purge("letters/")
        self.assertTrue(plan.stands)
        newest = self.fresh().snapshots()[0][-1].record
        self.assertEqual((newest.unsteady, newest.left_out), ((), ()))
        left = content_of(self.fresh(), self.fresh().snapshots()[0][-1].id)
        self.assertEqual(set(left), {"notes.txt"})
        self.assertEqual((newest.tally.files, newest.tally.bytes), (1, len(left["notes.txt"])))
        self.assertEqual(before.folders - newest.tally.folders, 2)
        for snapshot in self.fresh().snapshots()[0]:
            contents = content_of(self.fresh(), snapshot.id)
            self.assertEqual(
                (snapshot.record.tally.files, snapshot.record.tally.bytes),
                (len(contents), sum(map(len, contents.values()))),
            )

    def test_what_has_gone_from_the_disk_does_not_come_again(self) -> None:
        self.assertFalse(plan_purge(self.fresh(), "*.mkv", "", Silent()).stands)
        self.assertTrue(plan_purge(self.fresh(), "letters/a.txt", "", Silent()).stands)
