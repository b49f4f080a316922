"""Several stores of a job: carrying snapshots between them, turns, disks that are away."""

from __future__ import annotations

import os

from good_tide.core.errors import PersonError, StoppedError
from good_tide.core.progress import Progress, Silent, Steering
from good_tide.operations.integrity.verify import verify
from good_tide.operations.stores.carrying import carry
from good_tide.storage.store import Store
from tests.support.base import CHEAP, PASSPHRASE, GoodTideTest, create_store, open_store, tree


class CarryTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.new_store("from")
        for number in range(12):
            self.write(f"sub {number % 3}/file {number}.txt", f"{number}" * 50)
        self.write("large.bin", os.urandom(900_000))
        with open(self.work / "sparse", "wb") as file:
            file.truncate(300_000)
            file.seek(200_000)
            file.write(b"island")
        (self.work / "link").symlink_to("large.bin")
        self.taken = [self.snap(self.source, 0)]
        for hour in (1, 2):
            self.write("sub 1/file 1.txt", f"changed {hour}")
            self.write(f"new {hour}", os.urandom(70_000))
            self.taken.append(self.snap(self.source, hour))

    def target(self, twin: bool, name: str = "to") -> Store:
        create_store(self.folder / name, PASSPHRASE, cost=CHEAP, twin=self.source.keys if twin else None)
        return open_store(self.folder / name, PASSPHRASE)

    def test_carried_snapshots_are_whole_in_twins_and_strangers(self) -> None:
        for twin in (True, False):
            with self.subTest(twin=twin):
                target = self.target(twin, f"to {twin}")
                report = carry(self.source, target, None, self.state, Silent())
                self.assertEqual(
                    (report.carried, report.already, report.damaged),
                    (tuple(one.id for one in self.taken), 0, ()),
                )
                self.assertEqual(target.snapshot_ids(), self.source.snapshot_ids())
                fresh = open_store(self.folder / f"to {twin}", PASSPHRASE)
                self.assertTrue(verify(fresh, True, Silent()).ok)
                self.restore(
                    fresh, fresh.read_snapshot(self.taken[-1].id), self.work, self.folder / f"back {twin}"
                )
                self.assertEqual(tree(self.folder / f"back {twin}" / "work"), tree(self.work))
                again = carry(self.source, fresh, None, self.state, Silent())
                self.assertEqual((again.carried, again.already, again.stored_bytes), ((), 3, 0))
                further = self.snap(fresh, 5)
                known = 0 if twin else 900_000
                self.assertLessEqual(
                    further.record.tally.new_bytes,
                    known,
                    "only a stranger cuts a file anew, where its change time is not trusted",
                )

    def test_only_what_is_new_travels_between_twins(self) -> None:
        target = self.target(True)
        carry(self.source, target, self.taken[:1], self.state, Silent())
        report = carry(self.source, target, self.taken[1:2], self.state, Silent())
        self.assertLess(report.new_bytes, 72_000)

    def test_a_carry_that_is_stopped_goes_on(self) -> None:
        target = self.target(False)
        steering = Steering()

        def stop_at_second(progress: Progress) -> None:
            if progress.phase == "Carrying" and progress.files_done == 1:
                steering.stop()

        steering._listener = stop_at_second
        with self.assertRaises(StoppedError):
            carry(self.source, target, None, self.state, steering)
        self.assertEqual(target.snapshot_ids(), [self.taken[0].id])
        report = carry(self.source, open_store(self.folder / "to", PASSPHRASE), None, self.state, Silent())
        self.assertEqual((len(report.carried), report.already), (2, 1))

    def test_a_damaged_snapshot_is_named_and_does_not_keep_the_others(self) -> None:
        name = max(self.source.place.names("packs"), key=lambda one: self.source.place.size(f"packs/{one}"))
        path = self.folder / "from" / "packs" / name
        data = bytearray(path.read_bytes())
        for at in range(1000, len(data) - 5000, 5000):
            data[at] ^= 1
        path.write_bytes(bytes(data))
        self.write("after.txt", "after the damage")
        (self.work / "large.bin").unlink()
        source = open_store(self.folder / "from", PASSPHRASE)
        report = carry(source, self.target(True), None, self.state, Silent())
        self.assertTrue(report.damaged)
        self.assertEqual(len(report.carried) + len(report.damaged), 3)

    def test_a_store_is_not_carried_to_itself(self) -> None:
        with self.assertRaises(PersonError):
            carry(self.source, open_store(self.folder / "from", PASSPHRASE), None, self.state, Silent())
