"""The catalog is carried on the store, so that a machine that comes new to it need not read all of history;
and nothing depends on that."""

from __future__ import annotations

import sqlite3
from pathlib import Path
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.errors import PlaceFullError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.operations.records.journal import Journal
from good_tide.operations.retention.purge import plan_purge, purge
from good_tide.operations.stores.opening import Catalog, carry_catalog, open_catalog, take_into_catalog
from good_tide.storage import catalog as catalog_module
from good_tide.storage import catalog_copy
from good_tide.storage.catalog_copy import CATALOG_FOLDER
from good_tide.storage.catalog_intake import Intake
from good_tide.storage.store import Store
from tests.support.base import HOUR, MACHINE, PASSPHRASE, T0, GoodTideTest, open_store
from tests.support.sweeping import release

_COUNT = 14


class CatalogCopyTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "store"
        self.new_store()
        for name, value in (("catalog._WORTH_FETCHING", 5), ("catalog_copy._PIECE_BYTES", 30_000)):
            patched = mock.patch(f"good_tide.storage.{name}", value)
            patched.start()
            self.addCleanup(patched.stop)
        self.take(range(_COUNT))
        self.own = self.synced("own")
        self.count = 0

    def fresh(self) -> Store:
        return open_store(self.root, PASSPHRASE)

    def take(self, hours: range) -> None:
        for hour in hours:
            self.write(f"plans/{hour % 5}.txt", f"hour {hour}")
            self.write(f"letters/{hour}.txt", f"letter {hour}")
            self.snap(self.fresh(), hour)

    def synced(self, cache: str) -> Catalog:
        store = self.fresh()
        catalog = open_catalog(store, self.folder / cache)
        self.addCleanup(catalog.close)
        self.assertEqual(catalog.sync(store), [])
        return catalog

    def carried(self) -> bool:
        return self.own.carry(self.fresh(), "test-")

    def files(self) -> list[Path]:
        return sorted((self.root / CATALOG_FOLDER).glob("*"))

    def test_one_that_an_earlier_version_carried_lacks_nothing(self) -> None:
        for table in ("plain", "lost"):
            self.own._db.execute(f"DROP TABLE {table}")
        self.assertTrue(self.carried())
        new = self.synced("new")
        self.assertEqual((new.trouble, len(new.tide(MACHINE.id))), ("", _COUNT))
        self.assertFalse(new.has_no_lists(MACHINE.id), "nobody has looked at what was before")
        self.take(range(_COUNT, _COUNT + 1))
        self.assertEqual((new.sync(self.fresh()), new.trouble, new.lost()), ([], "", []))

    def assert_known(self, most_read: int) -> None:
        """A machine with an empty cache knows all that one knows which read everything."""
        self.count += 1
        with mock.patch("good_tide.storage.catalog.Intake", wraps=Intake) as read:
            new = self.synced(f"new {self.count}")
        self.assertLessEqual(read.call_count, most_read)
        with mock.patch.object(catalog_module, "_WORTH_FETCHING", 1000):
            by_itself = self.synced(f"by itself {self.count}")
        for catalog in (new, by_itself):
            catalog.history(MACHINE.id)
        self.assertEqual(new.tide(MACHINE.id), by_itself.tide(MACHINE.id))
        for path in ("plans", "letters"):
            lines = [
                catalog.lifelines(catalog.folder(MACHINE.id, bytes(self.work / path)) or 0)
                for catalog in (new, by_itself)
            ]
            self.assertEqual(*lines)
            self.assertTrue(lines[0])

    def test_a_new_machine_reads_what_came_since(self) -> None:
        self.assertTrue(self.carried())
        self.assertGreater(len(self.files()), 1)
        self.assert_known(0)
        self.take(range(_COUNT, _COUNT + 3))
        self.assert_known(3)
        for one in self.fresh().snapshots()[0][2:9:2]:
            release(self.fresh(), one)
        self.assert_known(3)

    def test_a_later_copy_takes_the_place_of_the_one_before(self) -> None:
        self.assertTrue(self.carried())
        before = self.files()
        self.take(range(_COUNT, _COUNT + 2))
        self.own.sync(self.fresh())
        self.assertTrue(self.carried())
        self.assertFalse(set(before) & set(self.files()))
        self.assert_known(0)

    def test_what_is_not_whole_is_done_without(self) -> None:
        self.assertTrue(self.carried())
        piece = max(self.files(), key=lambda file: file.stat().st_size)
        whole = piece.read_bytes()
        middle = len(whole) // 2
        flipped = whole[:middle] + bytes([whole[middle] ^ 8]) + whole[middle + 1 :]
        for data in (whole[:-100], flipped, b""):
            piece.write_bytes(data)
            self.assert_known(_COUNT)
        piece.unlink()
        self.assert_known(_COUNT)

    def test_one_of_another_version_or_store_is_done_without(self) -> None:
        for change in ("PRAGMA user_version = 99", "PRAGMA application_id = 5"):
            image = self.folder / "image"
            self.own.write_image(image)
            with sqlite3.connect(image) as db:
                db.execute(change)
            db.close()
            self.assertTrue(catalog_copy.put_copy(self.fresh(), image, "test-"))
            image.unlink()
            self.assert_known(_COUNT)

    def test_a_full_disk_leaves_the_copy_that_is_there(self) -> None:
        self.assertTrue(self.carried())
        before = self.files()
        store = self.fresh()
        real, written = store.write_sealed, []

        def full(*words: object) -> object:
            written.append(1)
            if len(written) == 2:
                raise PlaceFullError("full", "")
            return real(*words)  # type: ignore[arg-type]

        with mock.patch.object(store, "write_sealed", full):
            self.assertFalse(self.own.carry(store, "test-"))
        self.assertEqual(self.files(), before)
        self.assert_known(0)

    def test_it_is_carried_when_history_became_much_longer(self) -> None:
        store = self.fresh()
        with mock.patch("good_tide.operations.stores.opening._LONG_HISTORY", 6):
            carry_catalog(store, self.own, self.folder / "own", "test-")
            first = self.files()
            self.assertTrue(first)
            self.take(range(_COUNT, _COUNT + 4))
            take_into_catalog(self.fresh(), self.own)
            carry_catalog(store, self.own, self.folder / "own", "test-")
            self.assertEqual(self.files(), first)
            self.take(range(_COUNT + 4, _COUNT + 8))
            take_into_catalog(self.fresh(), self.own)
            carry_catalog(store, self.own, self.folder / "own", "test-")
            self.assertNotEqual(self.files(), first)
        self.assert_known(0)

    def names_in_copy(self) -> bytes:
        """All that a copy says of names, opened."""
        image = self.folder / f"image {len(self.files())} {self.count}"
        self.count += 1
        return image.read_bytes() if catalog_copy.fetch_copy(self.fresh(), image) else b""

    def test_what_is_taken_out_of_history_is_in_no_copy(self) -> None:
        self.assertTrue(self.carried())
        self.assertIn(b"letters", self.names_in_copy())
        clock = SetClock(Nanoseconds(T0 + 99 * HOUR))
        journal = Journal(self.state, clock)
        self.addCleanup(journal.close)
        plan = plan_purge(self.fresh(), "letters/", str(self.folder), Silent())
        self.assertEqual(purge(self.fresh(), plan, self.state, clock, journal, Silent()), _COUNT)
        self.assertEqual(self.files(), [])
        self.own.sync(self.fresh())
        with mock.patch("good_tide.operations.stores.opening._LONG_HISTORY", 6):
            carry_catalog(self.fresh(), self.own, self.folder / "own", "test-")
        self.assertIn(b"plans", self.names_in_copy())
        self.assertNotIn(b"letters", self.names_in_copy())
