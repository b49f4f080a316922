"""Long histories: summaries say what many snapshots are, and index files are gathered; nothing depends on
either."""

from __future__ import annotations

import threading
from pathlib import Path
from unittest import mock

import msgspec

from good_tide.core.errors import PlaceError
from good_tide.core.identifiers import SnapshotId
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.operations.integrity.verify import verify
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.stores.opened import covered_folders
from good_tide.operations.stores.opening import open_catalog, take_into_catalog
from good_tide.storage import gathering, look, summaries
from good_tide.storage.envelope import FileKind
from good_tide.storage.folder_place import LocalPlace
from good_tide.storage.folders import INDEX_FOLDER, SNAPSHOT_FOLDER
from good_tide.storage.marks import LEASE_FOLDER, Mark
from good_tide.storage.store import Store
from good_tide.storage.summaries import (
    SUMMARY_FOLDER,
    known_snapshots,
    last_snapshot,
    one_look,
    snapshot_names,
    summarise,
)
from good_tide.storage.summary_rows import SummaryRows
from tests.support.base import MACHINE, OTHER_MACHINE, GoodTideTest, open_store
from tests.support.survival import content_of, on_disk
from tests.support.sweeping import release


class LongHistoryTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "store"
        self.new_store(passphrase=None)
        for module, name, value in (
            (summaries, "_EACH", 4),
            (summaries, "_MOST", 12),
            (summaries, "_MOST_SMALL", 3),
            (gathering, "_MANY", 5),
        ):
            patched = mock.patch.object(module, name, value)
            patched.start()
            self.addCleanup(patched.stop)
        self.states: dict[str, dict[str, bytes]] = {}

    def fresh(self) -> Store:
        return open_store(self.root, None)

    def take(self, hours: range) -> None:
        for hour in hours:
            self.write("plan.txt", f"hour {hour}")
            machine = OTHER_MACHINE if hour % 5 == 4 else MACHINE
            self.states[self.snap(self.fresh(), hour, machine).id] = on_disk(self.work)

    def files(self, folder: str) -> list[Path]:
        return sorted((self.root / folder).glob("*"))

    def read_in(self, store: Store) -> tuple[list[Snapshot], int]:
        """What is known of a store's snapshots, and how many were read for it."""
        with mock.patch.object(store, "_read_snapshot", wraps=store._read_snapshot) as read:
            found, damage = known_snapshots(store)
        self.assertEqual(damage, [])
        return found, read.call_count

    def assert_known(self, most_read: int) -> None:
        found, read = self.read_in(self.fresh())
        store = self.fresh()
        for one, whole in zip(found, store.snapshots()[0], strict=True):
            self.assertEqual(msgspec.structs.replace(one.brief, folders=None), whole.brief)
            self.assertEqual(covered_folders(store, one), covered_folders(store, whole))
        self.assertEqual([one.record for one in found], [one.record for one in self.fresh().snapshots()[0]])
        self.assertLessEqual(read, most_read)

    def test_what_many_snapshots_are_is_known_without_reading_them(self) -> None:
        self.take(range(30))
        self.assert_known(4)
        self.assertLessEqual(len(self.files(SUMMARY_FOLDER)), 6)
        for one in self.fresh().snapshots()[0][3:25:2]:
            release(self.fresh(), one)
        self.assert_known(4)
        self.take(range(30, 45))
        self.assert_known(4)
        newest = last_snapshot(self.fresh(), MACHINE.id)
        assert newest is not None
        self.assertEqual(
            newest.time, max(one.time for one in self.fresh().snapshots()[0] if one.machine == MACHINE)
        )

    def test_what_a_thread_works_on_is_listed_once(self) -> None:
        self.take(range(9))
        store = self.fresh()
        seen_by_another: list[SnapshotId] = []
        listing = mock.patch.object(LocalPlace, "names", autospec=True, side_effect=LocalPlace.names)
        with listing as listed, one_look(store):
            before = set(snapshot_names(store))
            last = last_snapshot(store, MACHINE.id)
            known_snapshots(store)
            self.assertEqual(self.lists_of(listed, SNAPSHOT_FOLDER), [SNAPSHOT_FOLDER])
            self.take(range(9, 10))  # by another object, as by another machine
            self.assertEqual(snapshot_names(store), before)
            other = threading.Thread(target=lambda: seen_by_another.extend(snapshot_names(store)))
            other.start()
            other.join()
            self.assertEqual(len(seen_by_another), len(before) + 1)
            with mock.patch.object(look, "_HOLDS_S", -1):
                self.assertEqual(snapshot_names(store), set(seen_by_another))
            listed.reset_mock()
            own = self.snap(store, 12)  # which looks anew, under its lock
            self.assertEqual(snapshot_names(store), {*seen_by_another, own.id})
            self.assertEqual(self.lists_of(listed, SNAPSHOT_FOLDER), [SNAPSHOT_FOLDER])
        self.assertIsNone(store.look.names)
        assert last is not None
        self.assertEqual(last.id, self.newest_of(before).id)

    def newest_of(self, names: set[SnapshotId]) -> Snapshot:
        found = [one for one in self.fresh().snapshots()[0] if one.id in names and one.machine == MACHINE]
        return found[-1]

    def lists_of(self, listed: mock.Mock, folder: str) -> list[str]:
        return [call.args[1] for call in listed.call_args_list if call.args[1].endswith(folder)]

    def test_a_look_finds_what_is_left_as_a_second_copy(self) -> None:
        self.take(range(9))
        names = self.fresh().snapshot_ids()
        summarised = {name for rows in self.summaries_of(self.fresh()) for name in rows.names}
        lost = next(name for name in names if name in summarised)
        (self.root / SNAPSHOT_FOLDER / lost).unlink()
        store = self.fresh()
        with one_look(store):
            self.assertEqual(sorted(snapshot_names(store)), names)
            newest = last_snapshot(store, MACHINE.id)
        assert newest is not None
        release(self.fresh(), newest)
        with one_look(store):
            self.assertEqual(sorted(snapshot_names(store)), [name for name in names if name != newest.id])

    def test_what_is_known_and_seems_gone_is_looked_for_among_second_copies(self) -> None:
        self.take(range(3))  # no summary knows them yet
        catalog = open_catalog(self.fresh(), self.cache)
        self.addCleanup(catalog.close)
        catalog.sync(self.fresh())
        newest = last_snapshot(self.fresh(), MACHINE.id)
        assert newest is not None
        memory = StoreMemory(self.state, self.fresh().header.store)
        memory.note_taken(newest)
        (self.root / SNAPSHOT_FOLDER / newest.id).unlink()
        store = self.fresh()
        with one_look(store):
            self.assertEqual(memory.look(store), [])
            found = last_snapshot(store, MACHINE.id)
            self.assertEqual(found and found.id, newest.id)
            with one_look(store):  # as a run does, once it has its lock
                found = last_snapshot(store, MACHINE.id)
                self.assertEqual(found and found.id, newest.id)
        store = self.fresh()
        with one_look(store), mock.patch.object(catalog, "_forget", wraps=catalog._forget) as forget:
            catalog.sync(store)
            take_into_catalog(store, catalog)
        self.assertEqual(forget.call_args_list, [])
        self.assertIn(newest.id, catalog.names())

    def summaries_of(self, store: Store) -> list[SummaryRows]:
        known_snapshots(store)
        return list(store.summaries.values())

    def test_the_newest_is_found_whichever_summary_knows_it(self) -> None:
        self.take(range(20))
        while (found := last_snapshot(self.fresh(), OTHER_MACHINE.id)) is not None:
            whole = [one for one in self.fresh().snapshots()[0] if one.machine == OTHER_MACHINE]
            self.assertEqual(found.id, whole[-1].id)
            release(self.fresh(), found)
        self.assertEqual([one for one in self.fresh().snapshots()[0] if one.machine == OTHER_MACHINE], [])

    def test_a_summary_that_is_damaged_or_gone_is_done_without(self) -> None:
        self.take(range(10))
        for file in self.files(SUMMARY_FOLDER):
            data = bytearray(file.read_bytes())
            data[len(data) // 2] ^= 4
            file.write_bytes(data)
        self.assert_known(10)
        self.take(range(10, 12))
        self.assert_known(4)
        for file in self.files(SUMMARY_FOLDER):
            file.unlink()
        self.assert_known(12)
        self.assertTrue(verify(self.fresh(), True, Silent()).ok)

    def test_a_summary_whose_rows_point_nowhere_knows_nothing(self) -> None:
        self.take(range(10))
        store = self.fresh()
        (file,) = self.files(SUMMARY_FOLDER)[:1]
        plain = store.read_sealed(FileKind.SUMMARY, f"{SUMMARY_FOLDER}/{file.name}")
        machines, folders, rows = msgspec.msgpack.decode(plain)
        self.assertGreater(len(SummaryRows.read(plain, file.name)), 3)
        for machine, paths in ((9, 0), (-1, 0), (0, 9), (0, -1)):
            rows[1][2], rows[1][5] = machine, paths
            wrong = msgspec.msgpack.encode([machines, folders, rows])
            self.assertEqual(len(SummaryRows.read(wrong, file.name)), 0, (machine, paths))

    def test_a_disk_that_takes_no_summary_takes_the_snapshot(self) -> None:
        with mock.patch.object(summaries, "_write", side_effect=PlaceError("full", "")):
            self.take(range(6))
        self.assertEqual(self.files(SUMMARY_FOLDER), [])
        self.assert_known(6)
        store = self.fresh()
        known_snapshots(store)
        summarise(store, "later-")
        self.assert_known(0)

    def test_a_snapshot_that_cannot_be_read_is_said_and_passed_over(self) -> None:
        self.take(range(4))
        newest, before = [one for one in self.fresh().snapshots()[0] if one.machine == MACHINE][:-3:-1]
        for folder in ("", "copies/"):
            (self.root / folder / SNAPSHOT_FOLDER / newest.id).write_bytes(b"no snapshot")
        found = last_snapshot(self.fresh(), MACHINE.id)
        assert found is not None
        self.assertEqual(found.id, before.id)
        self.take(range(4, 5))  # a run notes the damage in the store
        store = self.fresh()
        store.damage.refresh()
        known, damage = known_snapshots(store)
        self.assertEqual([one.id for one in known if one.id == newest.id], [])
        self.assertEqual([error.file for error in damage], [f"{SNAPSHOT_FOLDER}/{newest.id}"])

    def test_a_snapshot_that_cannot_be_read_does_not_keep_others_from_being_summarised(self) -> None:
        self.take(range(3))
        lost = self.fresh().snapshots()[0][1]
        for folder in ("", "copies/"):
            (self.root / folder / SNAPSHOT_FOLDER / lost.id).write_bytes(b"no snapshot")
        self.take(range(3, 8))
        self.assertTrue(self.files(SUMMARY_FOLDER))
        store = self.fresh()
        with mock.patch.object(store, "_read_snapshot", wraps=store._read_snapshot) as read:
            known, _ = known_snapshots(store)
        self.assertEqual(len(known), 7)
        self.assertLess(read.call_count, 5)

    def test_index_files_are_gathered_and_all_comes_back(self) -> None:
        self.take(range(14))
        self.assertLess(len(self.files(INDEX_FOLDER)), 6)
        self.assertEqual(len(self.files(INDEX_FOLDER)), len(self.files(f"copies/{INDEX_FOLDER}")))
        store = self.fresh()
        for name, state in self.states.items():
            self.assertEqual(
                content_of(store, next(one.id for one in store.snapshots()[0] if one.id == name)), state
            )
        self.assertTrue(verify(self.fresh(), True, Silent()).ok)

    def test_while_somebody_sweeps_nothing_is_gathered(self) -> None:
        with Mark(self.fresh().place, LEASE_FOLDER, "another-"):
            self.take(range(8))
            self.assertEqual(len(self.files(INDEX_FOLDER)), 8)
        self.take(range(8, 9))
        self.assertEqual(len(self.files(INDEX_FOLDER)), 1)
        self.assertEqual(self.files(LEASE_FOLDER), [])
