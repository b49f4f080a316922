"""A store can be in a place of any kind: what a kind needs is its value, its files, and a line in the list of
kinds."""

from __future__ import annotations

import os
from pathlib import Path
from unittest import mock

from good_tide.core.errors import PersonError
from good_tide.core.places import Wanted
from good_tide.core.progress import Silent
from good_tide.core.settings import Job
from good_tide.operations.schedule.run import run_job
from good_tide.operations.snapshot.taking import Steps
from good_tide.operations.stores.disks import examine, known_store_ids, store_ref
from good_tide.operations.stores.furnishing import WantedStore, furnish
from good_tide.operations.stores.job_stores import JobStores, NobodyToAsk
from good_tide.storage import place_kinds
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.place import StorePlace
from good_tide.storage.place_kinds import store_place
from tests.support.base import MACHINE, OFFICE, GoodTideTest, program
from tests.support.memory_place import InMemory, MemoryPlace


class _MemoryKind:
    """A kind of place that is named ``memory:NAME``."""

    def __init__(self) -> None:
        self._places: dict[str, MemoryPlace] = {}

    def named(self, words: str) -> StorePlace | None:
        if not words.startswith("memory:"):
            return None
        return InMemory(self._places.setdefault(words, MemoryPlace()), words)


class PlaceKindTest(GoodTideTest):
    def test_every_path_names_a_folder(self) -> None:
        self.assertEqual(store_place("x/../y"), FolderPlace(Path.cwd() / "y"))

    def test_an_address_is_no_folder(self) -> None:
        before = os.getcwd()
        os.chdir(self.folder)
        self.addCleanup(os.chdir, before)
        for address in ("ftp://user@host:22/path", "nfs://host/share", "dav://host/x", "HTTP://end/bucket"):
            with self.subTest(address), self.assertRaisesRegex(PersonError, "is an address of a kind"):
                store_place(address)
            for words in (
                ("store", "create", address),
                ("job", "add", "Office", "--folder", self.work, "--store", address),
                ("snapshot", "--store", address, self.work),
                ("restore", "x", "--snapshot", "latest", "--into", address),
            ):
                done = program(*words)
                self.assertEqual((done.returncode, "is an address" in done.stderr), (2, True), done.stderr)
        self.assertEqual([path.name for path in self.folder.iterdir() if ":" in path.name], [])

    def test_a_job_with_a_store_that_is_in_no_folder(self) -> None:
        self.write("plan.txt", "first")
        patch = mock.patch.object(place_kinds, "KINDS", (_MemoryKind(), FolderPlace))
        patch.start()
        self.addCleanup(patch.stop)
        context, where = self.context(), store_place("memory:one")
        ref = store_ref(context.disks, where)
        self.assertEqual((ref.path, context.whereabouts.of(ref)), ("memory:one", where))
        job = Job(id=OFFICE, name="Office", folders=(str(self.work),), stores=(), machine=MACHINE)
        made = furnish(context, job, [WantedStore(ref, where, False)], lambda: None, lambda first: None)
        self.assertTrue(made.made[0].made)
        stores = JobStores(context, made.job, NobodyToAsk())
        [taken] = run_job(context, stores, Steps(control=Silent()))
        assert taken.snapshot is not None
        self.write("plan.txt", "second")
        store = stores.store(made.job.stores[0])
        self.restore(store, taken.snapshot, self.work / "plan.txt", self.folder / "out")
        self.assertEqual((self.folder / "out" / "plan.txt").read_text(), "first")
        self.assertEqual(known_store_ids([made.job], context.whereabouts), {store.header.store})
        found = examine(context.disks, where, Wanted(), frozenset(), False)
        self.assertEqual((found.folder, found.holds), ("memory:one", store.header.store))
