"""Finding names in the catalog: the same answer as looking at every name would give."""

from __future__ import annotations

import os
import random
import time
from unittest import mock

from good_tide.core.findings import Findings
from good_tide.core.identifiers import MachineId
from good_tide.core.name_query import NameQuery, folded_name, parse_query
from good_tide.storage.catalog import Catalog
from good_tide.storage.store import Store
from tests.support.base import HOUR, MACHINE, OTHER_MACHINE, T0, GoodTideTest

WORDS = ("plan", "Übersicht", "cue", "light", "été", "a b", "tour", "draft")


def paths_of(found: Findings) -> set[bytes]:
    """Everything that was found, and not only what is near."""
    return set() if found.near else set(found.paths)


class CatalogNamesTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.rng = random.Random(4)
        self.store: Store = self.new_store(passphrase=None)
        self.catalog = Catalog(self.folder / "catalog.db")
        self.addCleanup(self.catalog.close)
        for number in range(300):
            folder = "/".join(self.rng.choices(WORDS, k=self.rng.randrange(3)))
            self.write(f"{folder}/{self.rng.choice(WORDS)} {number}.{self.rng.choice(['txt', 'csv'])}", "1")
        self.ever = self.all_paths()
        self.snap(self.store, 0)

    def all_paths(self) -> set[bytes]:
        work = os.fsencode(self.work)
        below = {os.path.join(at, name) for at, *names in os.walk(work) for two in names for name in two}
        return {work, *below}

    def find(
        self, typed: str, most: int = 10_000, machine: MachineId = MACHINE.id, **more: object
    ) -> Findings:
        self.catalog.sync(self.store)
        return self.catalog.find(machine, NameQuery(parse_query(typed), **more), most)  # type: ignore[arg-type]

    def expected(self, typed: str) -> set[bytes]:
        """By the definition: every word in the name or in a folder above, one at least in the name."""
        found = set()
        for path in self.ever:
            folder, name = os.path.split(folded_name(path))
            if path == os.fsencode(self.work):
                folder, name = b"", folded_name(path)
            words = parse_query(typed)
            own = [word.in_name(name) or (word.in_path and self.ends(word.text, path)) for word in words]
            if any(own) and all(one or word.in_whole(folder) for one, word in zip(own, words, strict=True)):
                found.add(path)
        return found

    @staticmethod
    def ends(text: bytes, path: bytes) -> bool:
        head, _, tail = text.rpartition(b"/")
        folder, name = os.path.split(folded_name(path))
        return (folder + b"/").endswith(head + b"/") and name.startswith(tail)

    def test_every_query_gives_what_looking_at_every_name_gives(self) -> None:
        typed = [
            "plan",
            "ubersicht",
            "ETE",
            "cue plan",
            "plan cue light",
            "1",
            "*.csv",
            "plan*1*",
            "cue/plan",
        ]
        typed += ["tour/cue/light", "t/plan", "b/", "work draft", "plan *.txt", '"a b 1"', "zzz", "cue cue/a"]
        for one in typed:
            with self.subTest(one):
                self.assertEqual(paths_of(self.find(one)), self.expected(one))
        with mock.patch("good_tide.storage.catalog_names._FEW", 0):
            for one in typed:
                self.assertEqual(paths_of(self.find(one)), self.expected(one), one)

    def test_a_catalog_of_an_earlier_version_is_completed(self) -> None:
        self.catalog.sync(self.store)
        self.catalog._db.execute("DROP TABLE names")
        self.catalog.close()
        self.catalog = Catalog(self.folder / "catalog.db")
        self.addCleanup(self.catalog.close)
        self.assertEqual(paths_of(self.find("plan")), self.expected("plan"))
        self.write("plan of another day.txt", "2")
        self.ever |= self.all_paths()
        self.snap(self.store, 1)
        self.assertEqual(paths_of(self.find("plan")), self.expected("plan"))

    def test_blocks_are_filled_and_closed(self) -> None:
        with mock.patch("good_tide.storage.catalog_names._BLOCK_BYTES", 500):
            self.assertEqual(paths_of(self.find("plan")), self.expected("plan"))
            for hour in range(1, 6):
                self.write(f"plan {hour}/plan.txt", str(hour))
                self.snap(self.store, hour)
            self.ever |= self.all_paths()
            self.assertEqual(paths_of(self.find("plan")), self.expected("plan"))
            self.assertGreater(self.catalog._db.execute("SELECT count(*) FROM names").fetchone()[0], 5)

    def test_narrowed(self) -> None:
        gone = self.write("gone/plan of the gone.txt", "x" * 5000)
        self.write("plan that changes.txt", "x")
        self.snap(self.store, 1)
        gone.unlink()
        self.write("plan that changes.txt", "y")
        self.snap(self.store, 2)
        self.write("plan of today.txt", "x")
        self.snap(self.store, 3)
        work = os.fsencode(self.work)
        self.assertEqual(paths_of(self.find("plan", gone=True)), {os.fsencode(gone)})
        self.assertEqual(paths_of(self.find("plan", larger=4000)), {os.fsencode(gone)})
        changed = paths_of(self.find("plan", changed=(T0 + 2 * HOUR, T0 + 2 * HOUR + HOUR // 2)))
        self.assertEqual(changed, {os.fsencode(gone), work + b"/plan that changes.txt"})
        self.assertEqual(paths_of(self.find("plan", changed=(T0 + 40 * HOUR, T0 + 50 * HOUR))), set())
        self.assertEqual(paths_of(self.find("gone", kind="folders")), {work + b"/gone"})

    def test_the_best_come_first_and_it_says_that_there_is_more(self) -> None:
        self.write("x/tour.txt", "1")
        self.snap(self.store, 1)
        found = self.find("tour")
        self.assertIn(found.folders[0].lines[0].name, (b"tour", b"tour.txt"))
        self.assertFalse(found.more)
        best = [folder.lines[0].name in (b"tour", b"tour.txt") for folder in found.folders]
        self.assertEqual(best, sorted(best, reverse=True))
        few = self.find("tour", 3)
        self.assertEqual((few.count, few.more), (3, True))

    def test_names_that_are_near(self) -> None:
        self.write("winter budget.csv", "1")
        self.snap(self.store, 1)
        for typed in ("winter buget.csv", "bugdet.csv"):
            found = self.find(typed)
            self.assertTrue(found.near)
            self.assertEqual(found.paths[0], os.fsencode(self.work / "winter budget.csv"))
        self.assertFalse(self.find("winter").near)
        self.assertEqual(self.find("bugdet.csv", gone=True), Findings())

    def test_what_was_released_is_not_found_and_other_machines_have_their_own(self) -> None:
        self.write("only here.txt", "1")
        middle = self.snap(self.store, 1)
        (self.work / "only here.txt").unlink()
        self.snap(self.store, 2)
        self.assertEqual(len(paths_of(self.find("only here"))), 1)
        self.store.place.remove(f"snapshots/{middle.id}")
        self.assertEqual(len(paths_of(self.find("only here"))), 0)
        self.write("other.txt", "1")
        self.snap(self.store, 3, OTHER_MACHINE)
        self.assertEqual(len(paths_of(self.find("other.txt"))), 0)
        self.assertEqual(self.find("other.txt", machine=OTHER_MACHINE.id).count, 1)

    def test_a_hundred_thousand_names_are_looked_through_at_once(self) -> None:
        self.catalog.sync(self.store)
        rows = [(1, f"scene {number:06d} cue.txt".encode()) for number in range(100_000)]
        with self.catalog._transaction():
            self.catalog._db.executemany(
                "INSERT INTO span VALUES (?, ?, 'f', 1, 1, x'00', 1, NULL, NULL, NULL)", rows
            )
            self.catalog._db.execute("DELETE FROM names")
        self.catalog._complete_names()
        begun = time.process_time()
        found = self.catalog.find(MACHINE.id, NameQuery(parse_query("cue 099998")), 100)
        self.assertEqual([line.name for line in found.folders[0].lines], [b"scene 099998 cue.txt"])
        self.assertLess(time.process_time() - begun, 0.5)
