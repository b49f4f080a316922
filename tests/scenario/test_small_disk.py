"""The sweep: what no snapshot needs goes, what any needs stays, whatever is cut off in between."""

from __future__ import annotations

import contextlib
import os
import random
import subprocess
import unittest

from good_tide.core.clock import SetClock
from good_tide.core.errors import PlaceFullError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.operations.integrity.verify import verify
from good_tide.operations.retention import thinning
from good_tide.storage.store import Store
from good_tide.storage.sweep import Sweep, SweepReport, Watched
from tests.support.base import CHEAP, T0, GoodTideTest, create_store, open_store
from tests.support.survival import content_of, on_disk
from tests.support.sweeping import release, sweep


@unittest.skipUnless(os.geteuid() == 0, "mounting a small file system needs root")
class SmallDiskTest(GoodTideTest):
    """A real file system of a few megabytes, filled to the last block."""

    megabytes = 6

    def setUp(self) -> None:
        super().setUp()
        self.disk = self.folder / "disk"
        self.disk.mkdir()
        made = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", f"size={self.megabytes}m", "tmpfs", str(self.disk)],
            check=False,
            capture_output=True,
        )
        if made.returncode:
            self.skipTest("this system does not mount")
        self.addCleanup(lambda: subprocess.run(["umount", "-l", str(self.disk)], check=False))
        create_store(self.disk / "store", None, cost=CHEAP)

    def fresh(self) -> Store:
        return open_store(self.disk / "store", None)

    def fill(self) -> None:
        """Let others take all that is left."""
        with contextlib.suppress(OSError), (self.disk / "the rest").open("ab") as rest:
            while True:
                rest.write(bytes(4096))
                rest.flush()
        self.assertEqual(os.statvfs(self.disk).f_bavail, 0)


class FullDiskTest(SmallDiskTest):
    def test_snapshot_release_sweep_and_restore_on_a_full_disk(self) -> None:
        chance, states = random.Random(8), {}
        full = False
        for hour in range(40):
            self.write("film.bin", chance.randbytes(500_000))
            self.write("letter.txt", f"hour {hour}")
            try:
                taken = self.snap(self.fresh(), hour)
            except PlaceFullError:
                full = True
                break
            states[taken.id] = on_disk(self.work)
        self.assertTrue(full)
        self.fill()
        store = self.fresh()
        for name, files in states.items():
            self.assertEqual(content_of(store, name), files)
        found = store.snapshots()[0]
        for snapshot in found[: len(found) // 2]:
            release(store, snapshot)
        Sweep(self.fresh(), "sweeper-", Watched(), T0, Silent()).plan()
        report = sweep(self.fresh())
        self.assertGreater(report.freed, 1_000_000)
        self.assertTrue(verify(self.fresh(), True, Silent()).ok)
        taken = self.snap(self.fresh(), 50)
        self.assertEqual(content_of(self.fresh(), taken.id), on_disk(self.work))
        for snapshot in found[len(found) // 2 :]:
            self.assertEqual(content_of(self.fresh(), snapshot.id), states[snapshot.id])


class FilledByOthersTest(SmallDiskTest):
    """After something was released others fill the disk, before it is swept."""

    megabytes = 200

    def swept(self) -> SweepReport:
        return thinning.sweep(self.fresh(), self.state, SetClock(Nanoseconds(T0)), Silent())

    def test_the_store_has_a_little_room_of_its_own(self) -> None:
        reserve = self.disk / "store" / "reserve"
        self.write("film.bin", os.urandom(36_000_000))
        first = self.snap(self.fresh(), 0)
        self.assertEqual(reserve.stat().st_size, 512 * 1024)
        self.write("film.bin", os.urandom(36_000_000))
        kept = self.snap(self.fresh(), 1)
        release(self.fresh(), first)
        self.fill()
        with self.assertRaises(PlaceFullError):
            Sweep(self.fresh(), "sweeper-", Watched(), T0, Silent()).run()
        before = reserve.stat().st_ino
        self.assertGreater(self.swept().freed, 35_000_000)
        self.assertNotEqual(reserve.stat().st_ino, before, "it was given up, and made again")
        self.assertEqual(content_of(self.fresh(), kept.id), on_disk(self.work))
        self.assertTrue(verify(self.fresh(), True, Silent()).ok)
        reserve.unlink()
        self.fill()
        with self.assertRaisesRegex(PlaceFullError, "no room left"):
            self.swept()

    def test_a_small_store_has_none(self) -> None:
        self.write("film.bin", os.urandom(1_000_000))
        self.snap(self.fresh(), 0)
        self.assertFalse((self.disk / "store" / "reserve").exists())
