"""Several stores of a job: carrying snapshots between them, turns, disks that are away."""

from __future__ import annotations

import os
import random
from pathlib import Path
from unittest import mock

import msgspec

from good_tide.core.clock import Clock, SetClock
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import Nanoseconds, StoreId
from good_tide.core.progress import Silent
from good_tide.core.settings import Holding, Job, StoreRef
from good_tide.operations.jobs.making import checked_folders
from good_tide.operations.snapshot.taking import Steps, take_snapshot
from good_tide.operations.stores.furnishing import check_store_folder
from good_tide.operations.stores.job_stores import JobStores, NobodyToAsk
from tests.support.base import HOUR, MACHINE, OFFICE, PASSPHRASE, T0, GoodTideTest, open_store


class Told(NobodyToAsk):
    def known(self, store: StoreId) -> str | None:
        return PASSPHRASE


class SeveralStoresTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("a.txt", "a")
        self.stores = {name: self.new_store(name) for name in ("one", "two")}
        self.job = Job(
            id=OFFICE,
            name="Office",
            folders=(str(self.work),),
            stores=tuple(StoreRef(path=str(self.folder / name), name=name) for name in self.stores),
            machine=MACHINE,
        )

    def run_it(self, hour: int, job: Job | None = None) -> list[str]:
        clock: Clock = SetClock(Nanoseconds(T0 + hour * HOUR))
        context = self.context(clock)
        stores = JobStores(context, job or self.job, Told())
        found = take_snapshot(context, stores, Steps(control=Silent()))
        return [f"{one.ref.name}: {'taken' if one.snapshot is not None else one.error}" for one in found]

    def test_a_large_file_that_is_read_whole_for_little_is_told_of_once_a_day(self) -> None:
        content = bytearray(random.Random(1).randbytes(2_000_000))
        self.write("machines/lights.img", bytes(content))
        one = msgspec.structs.replace(self.job, stores=self.job.stores[:1], home=str(self.folder))
        with mock.patch("good_tide.operations.snapshot.run_notes._HEAVY_BYTES", 1_000_000):
            for hour in range(3):
                content[hour * 100] ^= 1
                self.write("machines/lights.img", bytes(content))
                self.assertEqual(self.run_it(hour, one), ["one: taken"])
        told = [event for event in self.context().journal.events(Filter()) if "read whole" in event.what]
        self.assertEqual(len(told), 1, told)
        self.assertIn("lights.img was read whole, 1.9 MiB, for 1 B that changed", told[0].what)
        self.assertIn("“exclude path ~/work/machines/lights.img”", told[0].todo)
        store = open_store(self.folder / "one", PASSPHRASE)
        heavy = [snapshot.record.heavy for snapshot in store.snapshots()[0]]
        self.assertEqual([len(files) for files in heavy], [0, 1, 1])
        self.assertLess(heavy[1][0].new, 1000)

    def test_both_each_time_or_in_turns(self) -> None:
        self.assertEqual(self.run_it(0), ["one: taken", "two: taken"])
        turns = Job(
            id=OFFICE,
            name="Office",
            folders=self.job.folders,
            stores=self.job.stores,
            store_use="turns",
            machine=MACHINE,
        )
        self.assertEqual(
            [self.run_it(hour, turns) for hour in (1, 2, 3)], [["one: taken"], ["two: taken"], ["one: taken"]]
        )

    def test_a_disk_that_is_away_does_not_keep_the_other_from_it(self) -> None:
        (self.folder / "one").rename(self.folder / "away")
        first, second = self.run_it(0)
        self.assertIn("not here", first)
        self.assertEqual(second, "two: taken")
        (self.folder / "two").rename(self.folder / "away too")
        self.assertEqual(self.run_it(1), ["two: taken"])
        with self.assertRaises(PlaceError):
            self.run_it(2, msgspec.structs.replace(self.job, holding=Holding(on=False)))

    def test_folders_inside_each_other_and_inside_the_store(self) -> None:
        self.write("sub/x", "x")
        kept, notes = checked_folders([str(self.work / "sub"), str(self.work)])
        self.assertEqual((kept, len(notes)), ((str(self.work),), 1))
        with self.assertRaises(PersonError):
            check_store_folder(str(self.folder), kept)
        self.assertIn("leaves itself out", check_store_folder(str(self.work / "store"), kept) or "")
        self.assertIsNone(check_store_folder(str(Path("/media/x")), kept))
        for folder, words in (
            (str(self.folder / "never"), "There is no folder"),
            (os.fsdecode(b"/tmp/b\xff"), "no UTF-8 text"),
        ):
            with self.assertRaises(PersonError) as caught:
                checked_folders([folder])
            self.assertIn(words, str(caught.exception))
