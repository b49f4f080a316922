"""A home folder that is full holds up no snapshot and no restore: what is kept there for speed is done without."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from unittest import mock

from good_tide.core.errors import PlaceFullError, of_system
from good_tide.core.progress import Silent
from good_tide.core.settings import Job
from good_tide.operations.stores import open_ledger
from good_tide.storage.catalog import Catalog
from good_tide.system import jobs
from tests.base import MACHINE, GoodTideTest


class CatalogTest(GoodTideTest):
    """The catalog goes on in memory where its disk takes nothing."""

    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None)
        for hour in range(3):
            self.write("plan.txt", str(hour))
            self.snap(self.store, hour)
        self.file = self.folder / "cache" / "catalog.sqlite3"

    def assert_usable(self, catalog: Catalog) -> None:
        self.assertTrue(catalog.trouble)
        self.assertEqual(catalog.sync(self.store), [])
        self.assertEqual(len(catalog.tide(MACHINE.id)), 3)

    def test_where_there_can_be_no_folder(self) -> None:
        (self.folder / "cache").write_text("a file in its place")
        catalog = Catalog(self.file, self.store.keys.fingerprint)
        self.addCleanup(catalog.close)
        self.assert_usable(catalog)

    def test_where_the_disk_is_full_from_the_middle_on(self) -> None:
        catalog = Catalog(self.file, self.store.keys.fingerprint)
        self.addCleanup(catalog.close)
        self.assertEqual(catalog.trouble, "")
        catalog._db.execute("PRAGMA max_page_count = 1")  # SQLite answers as on a full disk
        for number in range(300):
            self.write(f"many/{number}.txt", str(number))
        self.snap(self.store, 4)
        self.assertEqual(catalog.sync(self.store), [])
        self.assertIn("full", catalog.trouble)
        self.assertEqual(len(catalog.tide(MACHINE.id)), 4)
        again = Catalog(self.file, self.store.keys.fingerprint)
        self.addCleanup(again.close)
        self.assertEqual(again.sync(self.store), [], "the file is whole, and gone on with when there is room")
        self.assertEqual((again.trouble, len(again.tide(MACHINE.id))), ("", 4))

    def test_a_ledger_that_cannot_be_kept_answers_all_the_same(self) -> None:
        with mock.patch("numpy.savez", side_effect=OSError(28, "No space left on device")):
            ledger = open_ledger(self.store, self.cache, Silent())
        self.assertEqual(len(ledger.alone()), 3)

    def test_settings_that_cannot_be_written_stay_and_are_named(self) -> None:
        job = Job(name="Office", folders=(str(self.work),), stores=())
        jobs.save_job(self.folder / "settings", job)
        full = mock.patch("pathlib.Path.write_text", side_effect=OSError(28, "No space left on device"))
        with full, self.assertRaises(OSError) as caught:
            jobs.save_job(self.folder / "settings", Job(name="Office", folders=("/other",), stores=()))
        told = of_system(caught.exception)
        self.assertIsInstance(told, PlaceFullError)
        self.assertIn("office.toml", told.what)
        self.assertEqual(jobs.load_jobs(self.folder / "settings"), [job])


class FullHomeTest(GoodTideTest):
    """All of it, with a home on a small file system that is full."""

    def test_snapshots_and_restores_go_on(self) -> None:
        if os.geteuid() or shutil.which("unshare") is None:
            self.skipTest("needs root and unshare to mount a small file system")
        home, store = self.folder / "small home", self.folder / "store"
        home.mkdir()
        plan = self.write("plan.txt", "first")
        own = {
            name: str(home / name.lower()) for name in os.environ if name == "HOME" or (name.startswith("XDG") and "RUNTIME" not in name)
        }
        script = f"""set -u; program="{sys.executable} -m good_tide"
            mount -t tmpfs -o size=3m small '{home}'
            $program job add Office --folder {self.work} --store {store} --unencrypted >/dev/null
            $program snapshot Office >/dev/null || exit 9
            dd if=/dev/zero of='{home}/fill' bs=4k 2>/dev/null
            echo second > {plan}
            $program snapshot Office; echo "snapshot: $?"
            $program versions --store {store} {plan} --json; echo "versions: $?"
            $program restore --store {store} --snapshot latest --path {plan} --into {self.folder}/into; echo "restore: $?"
            for words in "thin Office --yes" "sweep {store}" "room {store} --by folder" "verify --store {store}"; do
                $program $words >/dev/null; echo "$words: $?"
            done
            $program job change Office --rename Wardrobe; echo "change: $?"
            $program status; $program job list """
        ran = subprocess.run(
            ["unshare", "-m", "bash", "-c", script], capture_output=True, text=True, check=False, env={**os.environ, **own}
        )
        for words in (
            "snapshot: 0",
            "versions: 0",
            "restore: 0",
            "thin Office --yes: 0",
            f"sweep {store}: 0",
            f"room {store} --by folder: 0",
        ):
            self.assertIn(words, ran.stdout, ran.stderr)
        self.assertIn("Free some room in your home folder", ran.stderr)
        self.assertNotIn("Traceback", ran.stderr)
        self.assertIn("change: 3", ran.stdout)
        self.assertIn("office.toml: No space left on device", ran.stderr)
        self.assertIn("Up to date: last snapshot", ran.stdout)
        self.assertEqual((self.folder / "into" / "plan.txt").read_text(), "second\n")
