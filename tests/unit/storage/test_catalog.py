"""This machine's own disk, full or damaged, holds up no snapshot and no restore, and puts nothing wrong into
one: what is kept there for speed is done without, or made anew."""

from __future__ import annotations

import contextlib
from pathlib import Path
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.errors import DamageError, PlaceFullError, of_system
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.name_query import NameQuery, parse_query
from good_tide.core.progress import Silent
from good_tide.core.settings import Job
from good_tide.core.tide import NO_TIDE
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.opening import open_ledger
from good_tide.storage.catalog import _BELOW, Catalog
from good_tide.storage.catalog_glance import glance_tide
from good_tide.storage.store import Store
from good_tide.system import jobs
from tests.support.base import HOUR, MACHINE, OFFICE, OTHER_MACHINE, T0, GoodTideTest, program


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

    def test_a_glance_shows_what_the_catalog_has_since_a_moment_and_the_newest(self) -> None:
        catalog = Catalog(self.file, self.store.keys.fingerprint)
        self.assertEqual(catalog.sync(self.store), [])
        tide = catalog.tide(MACHINE.id)
        for since, seen in ((0, 3), (T0, 3), (T0 + 1, 2), (T0 + 2 * HOUR, 1), (T0 + 90 * HOUR, 1)):
            with self.subTest(since=since):
                self.assertEqual(glance_tide(self.file, MACHINE.id, since), tide[-seen:])
        self.assertEqual(glance_tide(self.file, OTHER_MACHINE.id, 0), NO_TIDE)

    def test_what_was_stored_is_added_up_by_stretches_of_time(self) -> None:
        catalog = Catalog(self.file, self.store.keys.fingerprint)
        self.assertEqual(catalog.sync(self.store), [])
        stored = catalog.tide(MACHINE.id).stored
        begin = T0 - 5 * HOUR
        self.assertEqual(
            catalog.stored_each(MACHINE.id, begin, 2 * HOUR),
            [(T0 - HOUR, stored[0]), (T0 + HOUR, stored[1] + stored[2])],
        )
        self.assertEqual(catalog.stored_each(OTHER_MACHINE.id, begin, HOUR), [])

    def test_what_stands_now_is_found_without_looking_at_all_that_stood(self) -> None:
        """Taking in a snapshot asks this of each folder; without an index of its own it takes the longer the
        more versions there were."""
        for again in range(2):
            catalog = Catalog(self.file, self.store.keys.fingerprint)
            self.assertEqual(catalog.sync(self.store), [])
            query = "EXPLAIN QUERY PLAN SELECT name FROM span WHERE folder = 1 AND last IS NULL"
            plan = catalog._db.execute(query).fetchall()
            self.assertIn(
                "span_open", str(plan), "a catalog of an earlier version has it too" if again else ""
            )
            catalog._db.execute("DROP INDEX span_open")
            below = catalog._db.execute(f"EXPLAIN QUERY PLAN {_BELOW}", (1, 1)).fetchall()
            self.assertIn("(machine=? AND parent=?)", str(below))
            catalog.close()

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
        job = Job(id=OFFICE, name="Office", folders=(str(self.work),), stores=())
        jobs.save_job(self.folder / "settings", job)
        full = mock.patch("pathlib.Path.write_text", side_effect=OSError(28, "No space left on device"))
        with full, self.assertRaises(OSError) as caught:
            jobs.save_job(
                self.folder / "settings", Job(id=OFFICE, name="Office", folders=("/other",), stores=())
            )
        told = of_system(caught.exception)
        self.assertIsInstance(told, PlaceFullError)
        self.assertIn("office.toml", told.what)
        self.assertEqual(jobs.load_jobs(self.folder / "settings"), [job])


class DamagedTest(GoodTideTest):
    """A catalog that is damaged is made anew; one that is wrong is not believed."""

    def damage(self, file: Path) -> None:
        """Overwrite the middle of every page but the first three."""
        data = bytearray(file.read_bytes())
        for at in range(4096 * 3, len(data) - 4096, 4096):
            data[at : at + 600] = b"\xa5" * 600
        file.write_bytes(data)

    def taken(self) -> tuple[Store, Path]:
        store, file = self.new_store(passphrase=None), self.cache / "catalog.sqlite3"
        for number in range(2000):
            self.write(f"{number}.txt", str(number))
        self.snap(store, 0)
        with contextlib.closing(Catalog(file, store.keys.fingerprint)) as catalog:
            catalog.sync(store)
        return store, file

    def test_it_is_begun_anew_when_it_is_noticed(self) -> None:
        store, file = self.taken()
        self.damage(file)
        with contextlib.closing(Catalog(file, store.keys.fingerprint)) as catalog:
            self.assertEqual(catalog.sync(store), [])
            self.assertEqual((len(catalog.tide(MACHINE.id)), catalog.trouble), (1, ""))
            self.assertEqual(len(catalog.standing_files(MACHINE.id)[0][1]), 2000)
        self.damage(file)
        with contextlib.closing(Catalog(file, store.keys.fingerprint)) as catalog:
            with self.assertRaisesRegex(DamageError, "made anew"):
                catalog.find(MACHINE.id, NameQuery(parse_query("17")), 10)
            self.assertEqual(catalog.names(), set())
            catalog.sync(store)
            found = catalog.find(MACHINE.id, NameQuery(parse_query("17.txt")), 10)
            self.assertIn(b"17.txt", [line.name for line in found.folders[0].lines])

    def test_by_command(self) -> None:
        for number in range(2000):
            self.write(f"{number}.txt", str(number))
        root = self.folder / "store"
        program("job", "add", "Office", "--folder", self.work, "--store", root, "--unencrypted")
        self.assertEqual(program("snapshot", "Office").returncode, 0)
        for words in (
            ("snapshot", "Office"),
            ("versions", "--store", root, self.work / "17.txt"),
            ("room", root, "--by", "folder"),
        ):
            self.damage(next(self.folder.rglob("catalog.sqlite3")))
            ended = program(*words)
            self.assertEqual(ended.returncode, 0, ended.stderr)

    def test_a_place_that_is_wrong_puts_no_other_bytes_into_a_snapshot(self) -> None:
        store, file = self.taken()
        with contextlib.closing(Catalog(file, store.keys.fingerprint)) as catalog:
            catalog._db.execute("UPDATE span SET offset = offset + 1 WHERE kind = 'f'")
            self.write("copy.txt", "1234")
            request = CaptureRequest((self.work,), MACHINE)
            taken = capture(
                store, request, SetClock(Nanoseconds(T0 + HOUR)), Silent(), self.state, catalog.stored_small
            )
        self.restore(store, taken, self.work / "copy.txt", self.folder / "into")
        self.assertEqual((self.folder / "into" / "copy.txt").read_text(), "1234")

    def test_a_place_that_is_right_is_used(self) -> None:
        store, file = self.taken()
        with contextlib.closing(Catalog(file, store.keys.fingerprint)) as catalog:
            self.write("copy.txt", "1234")
            request = CaptureRequest((self.work,), MACHINE)
            taken = capture(
                store, request, SetClock(Nanoseconds(T0 + HOUR)), Silent(), self.state, catalog.stored_small
            )
        self.assertEqual((taken.record.tally.changed_files, taken.record.tally.new_bytes), (1, 0))
