"""What belongs to people is not touched, and nobody is led astray: half-made stores, links of others, powers,
sockets, deep folders."""

from __future__ import annotations

import os
import resource
import subprocess
from pathlib import Path

from good_tide.core.progress import Silent
from good_tide.operations.history.browse import contents
from good_tide.operations.integrity.verify import verify
from good_tide.operations.restore.set_aside import undo
from good_tide.operations.stores.opening import synced_catalog
from good_tide.system.limits import set_process_limits
from tests.support.base import MACHINE, GoodTideTest


class DeepTest(GoodTideTest):
    """Folders two thousand deep, in and out again."""

    def setUp(self) -> None:
        super().setUp()
        before = resource.getrlimit(resource.RLIMIT_NOFILE)
        self.addCleanup(resource.setrlimit, resource.RLIMIT_NOFILE, before)
        resource.setrlimit(resource.RLIMIT_NOFILE, (1024, before[1]))
        set_process_limits()

    def deepen(self, top: Path, depth: int) -> None:
        top.mkdir(parents=True)
        handle = os.open(top, os.O_RDONLY)
        for _ in range(depth):
            os.mkdir("d", dir_fd=handle)
            outer, handle = handle, os.open("d", os.O_RDONLY, dir_fd=handle)
            os.close(outer)
        file = os.open("leaf.txt", os.O_WRONLY | os.O_CREAT, 0o644, dir_fd=handle)
        os.write(file, b"at the bottom")
        os.close(file)
        os.close(handle)

    def test_everything_goes_that_deep(self) -> None:
        self.deepen(self.work / "deep", 1990)
        store = self.new_store(passphrase=None)
        taken = self.snap(store)
        self.assertEqual((taken.gaps, taken.record.tally.files, taken.record.tally.folders), (0, 1, 1992))
        self.assertEqual(len(contents(store, taken, None, True)), 1993)
        self.assertTrue(verify(store, True, Silent()).ok)
        into = self.folder / "into"
        report = self.restore(store, taken, self.work, into)
        self.assertEqual((report.created, report.problems), (1993, []))
        identical = self.restore(store, taken, self.work, None)
        self.assertEqual((identical.created, identical.identical), (0, 1993))
        catalog, damage = synced_catalog(store, self.cache)
        self.addCleanup(catalog.close)
        self.assertEqual((damage, catalog.tide(MACHINE.id)[0].files), ([], 1))
        subprocess.run(["rm", "-rf", str(self.work / "deep")], check=True)
        (self.work / "deep").write_text("a file now")
        gone = self.snap(store, 1)
        self.assertEqual(synced_catalog(store, self.cache)[0].tide(MACHINE.id)[1].removed, 1)
        self.assertEqual(gone.record.tally.files, 1)
        back = self.restore(store, taken, self.work, None)
        self.assertEqual((back.replaced, back.problems), (1, []))
        self.assertEqual(undo(back.set_aside[0]).put_back, 1)
        self.assertEqual((self.work / "deep").read_text(), "a file now")

    def test_what_is_deeper_is_named(self) -> None:
        self.deepen(self.work / "deep", 2005)
        taken = self.snap(self.new_store(passphrase=None))
        self.assertEqual([item.reason for item in taken.record.left_out], ["too-deep"])
