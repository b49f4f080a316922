"""Listings of small folders share chunks: few are written, and everything that reads them knows."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.identifiers import Nanoseconds, part_of
from good_tide.core.progress import Silent
from good_tide.operations.history.browse import entry_at
from good_tide.operations.integrity.verify import verify
from good_tide.operations.records.journal import Journal
from good_tide.operations.retention.purge import plan_purge, purge
from good_tide.operations.stores.carrying import carry
from good_tide.storage.packs import Holds
from good_tide.storage.store import Store
from tests.support.base import CHEAP, T0, GoodTideTest, create_store, open_store, tree
from tests.support.sweeping import release, sweep


def contents(folder: Path) -> dict[bytes, object]:
    """The contents of all files below a folder."""
    return {name: facts[3] for name, facts in tree(folder).items() if facts[0] == "file"}


class JoinedListingsTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "store"
        self.new_store(passphrase=None)
        for number in range(120):
            self.write(f"season/{number % 12}/{number}/cue.txt", f"cue {number}")
        deep = "/".join(f"level {number}" for number in range(40))
        self.write(f"{deep}/bottom.txt", "deep")

    def fresh(self) -> Store:
        return open_store(self.root, None)

    def listing_chunks(self, store: Store | None = None) -> list[bytes]:
        store = store or self.fresh()
        tables = [table for table in store.index.packs() if table.holds == Holds.TREE]
        return [store.read_chunk(one) for table in tables for one in table.chunk_ids()]

    def assert_comes_back(self, store: Store, number: int, expected: object) -> None:
        snapshot = store.snapshots()[0][number]
        into = self.folder / f"back {number} {Path(store.place.title).name} {store.snapshot_ids()[0][:4]}"
        self.restore(store, snapshot, self.work, into)
        self.assertEqual(tree(into / self.work.name), expected)
        self.assertTrue(verify(store, True, Silent()).ok)

    def test_many_small_folders_take_few_chunks_and_a_change_takes_little(self) -> None:
        self.snap(self.fresh(), 0)
        first = tree(self.work)
        self.assertLess(len(self.listing_chunks()), 50)
        before = len(self.listing_chunks())
        self.write("season/11/23/cue.txt", "cue 23, later")
        self.snap(self.fresh(), 1)
        added = self.listing_chunks()[before:]
        self.assertLess(sum(map(len, added)), 6000)
        self.assert_comes_back(self.fresh(), 0, first)
        self.assert_comes_back(self.fresh(), 1, tree(self.work))

    def test_nothing_changed_is_nothing_written_also_beside_what_is_always_left_out(self) -> None:
        self.work.joinpath("season/9/105").mkdir(exist_ok=True)
        subprocess.run(["mkfifo", self.work / "season/9/105/pipe"], check=True)
        self.snap(self.fresh(), 0)
        before = len(self.listing_chunks())
        self.snap(self.fresh(), 1)
        self.assertEqual(len(self.listing_chunks()), before)

    def test_a_long_listing_changes_by_pages(self) -> None:
        for number in range(3000):
            self.write(f"many/{number}", "x")
        self.snap(self.fresh(), 0)
        self.write("many/17", "y")
        self.snap(self.fresh(), 1)
        first, pages = (
            entry_at(self.fresh(), snapshot, str(self.work / "many").encode()).pages
            for snapshot in self.fresh().snapshots()[0]
        )
        self.assertGreater(len(pages), 2)
        self.assertEqual(len(set(pages) - set(first)), 1, "the others are those of before")
        self.assertEqual({part_of(page) for page in pages}, {(0, 0)})
        self.assert_comes_back(self.fresh(), 1, tree(self.work))

    def test_what_is_released_and_swept_takes_no_listing_along_that_is_needed(self) -> None:
        states = []
        for hour in range(5):
            self.write(f"season/{hour}/{hour}/cue.txt", f"in hour {hour}")
            self.write(f"season/new {hour}/cue.txt", "new")
            self.snap(self.fresh(), hour)
            states.append(tree(self.work))
        for snapshot in self.fresh().snapshots()[0][:3]:
            release(self.fresh(), snapshot)
        sweep(self.fresh())
        for number in range(2):
            self.assert_comes_back(self.fresh(), number, states[3 + number])

    def test_carried_to_twins_and_to_stores_with_other_keys(self) -> None:
        self.snap(self.fresh(), 0)
        self.write("season/11/23/cue.txt", "later")
        self.snap(self.fresh(), 1)
        for name, twin in (("twin", self.fresh().keys), ("other", None)):
            with self.subTest(name):
                create_store(self.folder / name, None, cost=CHEAP, twin=twin)
                carry(self.fresh(), open_store(self.folder / name, None), None, self.state, Silent())
                self.assert_comes_back(open_store(self.folder / name, None), 1, tree(self.work))
        twin_store = open_store(self.folder / "twin", None)
        self.assertEqual(sorted(self.listing_chunks(twin_store)), sorted(self.listing_chunks()))

    def test_carried_to_a_store_of_version_1_each_gets_a_chunk(self) -> None:
        self.snap(self.fresh(), 0)
        keys = self.fresh().keys
        with mock.patch("good_tide.storage.header.FORMAT_VERSION", 1):
            create_store(self.folder / "old", None, cost=CHEAP, twin=keys, parity=False)
        old = open_store(self.folder / "old", None)
        self.assertEqual(old.header.format, 1)
        carry(self.fresh(), old, None, self.state, Silent())
        old = open_store(self.folder / "old", None)
        waiting = [page for root in old.roots(old.snapshots()[0][0].record) for page in root.pages]
        pages = []
        while waiting:
            pages.append(waiting.pop())
            waiting += old.page(pages[-1]).folder_pages()
        self.assertGreater(len(pages), 120)
        self.assertEqual({part_of(page) for page in pages}, {(0, 0)})
        self.assert_comes_back(old, 0, tree(self.work))
        self.snap(old, 1)
        self.assertEqual(
            len(self.listing_chunks(old)), len(self.listing_chunks(open_store(self.folder / "old", None)))
        )

    def test_what_is_taken_out_of_history_leaves_no_name_in_a_shared_chunk(self) -> None:
        self.write("season/7/secret wedding/plan.txt", "plan")
        self.snap(self.fresh(), 0)
        self.write("season/11/23/cue.txt", "later")
        self.snap(self.fresh(), 1)
        self.assertTrue(any(b"secret wedding" in one for one in self.listing_chunks()))
        store, clock = self.fresh(), SetClock(Nanoseconds(T0))
        journal = Journal(self.state, clock)
        self.addCleanup(journal.close)
        plan = plan_purge(store, "secret wedding/", str(self.folder), Silent())
        self.assertEqual(purge(store, plan, self.state, clock, journal, Silent()), 2)
        sweep(self.fresh(), thorough=True)
        self.assertFalse(any(b"secret wedding" in one for one in self.listing_chunks()))
        self.assertFalse(any(b"plan.txt" in one for one in self.listing_chunks()))
        subprocess.run(["rm", "-r", self.work / "season/7/secret wedding"], check=True)
        self.restore(self.fresh(), self.fresh().snapshots()[0][1], self.work, self.folder / "back")
        self.assertEqual(contents(self.folder / "back/work"), contents(self.work))

    def test_the_recovery_script_reads_them(self) -> None:
        taken = self.snap(self.fresh(), 0)
        script = [sys.executable, str(self.root / "recover.py")]
        done = subprocess.run(
            [*script, "extract", taken.id, str(self.folder / "out")],
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        found = next((self.folder / "out").rglob("work"))
        self.assertEqual(contents(found), contents(self.work))
