"""The sweep: what no snapshot needs goes, what any needs stays, whatever is cut off in between."""

from __future__ import annotations

import contextlib
import os
import random
import subprocess
import unittest

from good_tide.core.errors import PlaceFullError
from good_tide.core.progress import Silent
from good_tide.operations.integrity.verify import verify
from good_tide.storage.store import Store
from good_tide.storage.sweep import Sweep, Watched
from tests.support.base import CHEAP, T0, GoodTideTest, create_store, open_store
from tests.support.survival import content_of, on_disk
from tests.support.sweeping import release, sweep


@unittest.skipUnless(os.geteuid() == 0, "mounting a small file system needs root")
class SmallDiskTest(GoodTideTest):
    """A real file system of a few megabytes, filled to the last block."""

    def setUp(self) -> None:
        super().setUp()
        self.disk = self.folder / "disk"
        self.disk.mkdir()
        made = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", "size=6m", "tmpfs", str(self.disk)],
            check=False,
            capture_output=True,
        )
        if made.returncode:
            self.skipTest("this system does not mount")
        self.addCleanup(lambda: subprocess.run(["umount", "-l", str(self.disk)], check=False))
        create_store(self.disk / "store", None, cost=CHEAP)

    def fresh(self) -> Store:
        return open_store(self.disk / "store", None)

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
        with contextlib.suppress(OSError), (self.disk / "the rest").open("wb") as rest:
            while True:
                rest.write(bytes(4096))
                rest.flush()
        self.assertEqual(os.statvfs(self.disk).f_bavail, 0)
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
