"""A store that has lost something: nothing is built on it, what is alive heals it, and one damaged file
blocks nothing else."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.errors import DamageError, Harm, PlaceError
from good_tide.core.identifiers import Nanoseconds, SnapshotId, chunk_of
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.operations.history.browse import contents, entry_at
from good_tide.operations.integrity.repair import Source, repair
from good_tide.operations.integrity.verify import verify
from good_tide.operations.records.journal import Journal
from good_tide.operations.retention.purge import plan_purge, purge
from good_tide.operations.retention.thinning import sweep
from good_tide.operations.snapshot.holding import prime
from good_tide.operations.stores.carrying import carry
from good_tide.operations.stores.opening import open_ledger, synced_catalog
from good_tide.storage.folder_place import LocalPlace
from good_tide.storage.holding import HoldingArea
from good_tide.storage.packs import Holds
from good_tide.storage.store import Store
from tests.support.base import (
    CHEAP,
    HOUR,
    PASSPHRASE,
    REPOSITORY,
    T0,
    GoodTideTest,
    create_store,
    open_store,
    program,
    tree,
)
from tests.support.faulty_place import FaultyPlace


class DamagedStoreTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        rng = random.Random(3)
        for number in range(60):
            self.write(f"letters/{number % 7}/letter {number}.txt", rng.randbytes(rng.randrange(200, 9000)))
        self.write("plans/stage.bin", rng.randbytes(3_000_000))
        self.write("plans/light.bin", rng.randbytes(700_000))
        apart = mock.patch("good_tide.operations.snapshot.listing_drafts._JOINED_BYTES", 1)
        apart.start()  # each listing in a chunk of its own, so that one alone can be lost
        self.addCleanup(apart.stop)
        self.first = self.snap(self.new_store(parity=False))
        self.root = self.folder / "store"
        self.before = tree(self.work)
        self.count = 0

    def fresh(self) -> Store:
        return open_store(self.root, PASSPHRASE)

    def packs(self, holds: Holds) -> list[Path]:
        return [
            self.root / "packs" / table.pack.hex()[0] / table.pack.hex()
            for table in self.fresh().index.packs()
            if table.holds == holds
        ]

    def without_copies(self) -> None:
        """As far as second copies go, as a store of version 1 is."""
        shutil.rmtree(self.root / "copies")

    def assert_whole(self, snapshot: Snapshot | SnapshotId) -> None:
        store = self.fresh()
        name = snapshot if isinstance(snapshot, str) else snapshot.id
        self.count += 1
        out = self.folder / f"out {self.count}"
        report = self.restore(store, store.read_snapshot(name), self.work, out)
        self.assertEqual(report.problems, [])
        self.assertEqual(tree(out / "work"), self.before)

    def test_after_a_lost_pack_the_next_snapshot_is_whole_and_so_are_the_earlier_ones(self) -> None:
        for holds in Holds:
            with self.subTest(holds):
                for pack in self.packs(holds):
                    pack.unlink()
                second = self.snap(self.fresh(), 1 + holds)
                self.assertGreater(second.record.tally.stored_bytes, 0)
                if holds is Holds.DATA:
                    self.assertEqual(second.record.tally.changed_files, 0)
                self.assert_whole(second)
                self.assert_whole(self.first)

    def test_a_lost_pack_is_remembered_for_all_machines_until_the_sweep_has_no_need_of_it(self) -> None:
        lost = self.packs(Holds.DATA)
        for pack in lost:
            pack.unlink()
        self.snap(self.fresh(), 1)
        known = self.fresh()
        known.refresh()
        names = {f"packs/{pack.name[0]}/{pack.name}" for pack in lost}
        self.assertEqual(
            {file: one.harm for file, one in known.damage.files.items()},
            dict.fromkeys(names, Harm.MISSING),
        )
        sweep(known, self.state, SetClock(Nanoseconds(T0 + 2 * HOUR)), Silent())
        self.assertEqual(self.fresh().damage.files, {})
        self.assertTrue(verify(self.fresh(), True, Silent()).ok)
        self.assert_whole(self.first)

    def test_a_damaged_chunk_that_was_read_is_stored_again(self) -> None:
        store = self.fresh()
        large = entry_at(store, self.first, bytes(self.work / "plans/stage.bin")).extents[0].chunk
        place = store.index.find(large) if large is not None else None
        assert place is not None
        pack = self.root / "packs" / place.pack.hex()[0] / place.pack.hex()
        data = bytearray(pack.read_bytes())
        data[place.offset + place.stored // 2] ^= 1
        pack.write_bytes(data)
        store = self.fresh()
        report = self.restore(store, self.first, self.work, self.folder / "out")
        self.assertEqual(
            [len(report.problems), store.damage.files.keys()], [1, {f"packs/{pack.name[0]}/{pack.name}"}]
        )
        self.snap(store, 1)
        self.assert_whole(self.first)

    def test_a_whole_copy_of_a_chunk_is_used_where_another_is_damaged(self) -> None:
        pack = self.packs(Holds.DATA)[0]
        data = pack.read_bytes()
        pack.unlink()
        self.snap(self.fresh(), 1)
        pack.write_bytes(data[: len(data) // 3])
        self.assert_whole(self.first)

    def test_one_damaged_or_foreign_file_of_any_kind_blocks_nothing(self) -> None:
        self.write("letters/new.txt", "another")
        second = self.snap(self.fresh(), 1)
        self.before = tree(self.work)
        self.without_copies()
        files: dict[str, Callable[[], object]] = {
            "a cut index": lambda: sorted((self.root / "index").iterdir())[0].write_bytes(b"GDTD"),
            "a foreign file": lambda: (self.root / "snapshots" / "notes.txt").write_bytes(b"mine"),
            "no snapshot": lambda: (self.root / "snapshots" / ("ab" * 16)).write_bytes(b"?"),
            "no pack": lambda: (_made(self.root / "packs" / "mine") / "x").write_bytes(b"?"),
            "a bad doomed list": lambda: (_made(self.root / "doomed") / ("cd" * 16)).write_bytes(b"?"),
        }
        for number, (what, harm) in enumerate(files.items(), 2):
            with self.subTest(what):
                harm()
                third = self.snap(self.fresh(), number)
                self.assert_whole(third)
                self.assert_whole(second)
                verify(self.fresh(), True, Silent())
                synced_catalog(self.fresh(), self.cache)[0].close()
                open_ledger(self.fresh(), self.cache, Silent())
                sweep(self.fresh(), self.state, SetClock(Nanoseconds(T0 + 9 * HOUR)), Silent())
                twin = self.new_store(f"twin {number}")
                carried = carry(self.fresh(), twin, None, self.state, Silent())
                self.assertIn(third.id, carried.carried)

    def test_what_the_disk_does_not_give_blocks_nothing_else(self) -> None:
        self.write("letters/new.txt", "another")
        second = self.snap(self.fresh(), 1)
        self.before = tree(self.work)
        self.without_copies()
        for number, kind in enumerate(("snapshots/", "index/", "packs/"), 2):
            with self.subTest(kind):
                header = self.fresh()
                data = self.packs(Holds.DATA)[0]
                own = {"snapshots/": self.first.id, "packs/": f"{data.parent.name}/{data.name}"}
                bad = kind + (own.get(kind) or header.place.names(kind)[0])
                store = Store(FaultyPlace(self.root, bad), header.header, header.keys)
                verified = verify(store, True, Silent())
                self.assertEqual([(one.file, one.harm) for one in verified.damage], [(bad, Harm.UNREADABLE)])
                third = self.snap(store, number)
                for snapshot in (second, third):
                    out = self.folder / f"out {kind[:-1]} {snapshot.id}"
                    report = self.restore(store, snapshot, self.work, out)
                    self.assertEqual(report.problems, [])
                    self.assertEqual(tree(out / "work"), self.before)
                swept = sweep(store, self.state, SetClock(Nanoseconds(T0 + 9 * HOUR)), Silent())
                self.assertEqual(bool(swept.unclear), kind == "snapshots/")
                if kind == "snapshots/":
                    self.assertTrue(store.place.size(bad))

    def test_a_restore_names_what_is_lost_and_brings_back_the_rest_whole(self) -> None:
        pages = self.packs(Holds.TREE)
        for pack in [*self.packs(Holds.DATA)[:1], *pages[:1]]:
            pack.unlink()
        with self.subTest("listings"):
            report = self.restore(self.fresh(), self.first, self.work, self.folder / "no listings")
            self.assertEqual([one.path for one in report.problems], [os.fsencode(self.work)])
        self.snap(self.fresh(), 1)

    def lose_listing_of(self, folder: str) -> bytes:
        """Damage the listing of a folder in the first snapshot, whose files are no longer there."""
        store, path = self.fresh(), os.fsencode(self.work / folder)
        page = entry_at(store, self.first, path).pages[0]
        shutil.rmtree(self.work / folder)
        place = store.index.find(chunk_of(page))
        assert place is not None
        pack = self.root / "packs" / place.pack.hex()[0] / place.pack.hex()
        data = bytearray(pack.read_bytes())
        data[place.offset : place.offset + place.stored] = bytes(place.stored)
        pack.write_bytes(data)
        return path

    def test_a_snapshot_with_a_lost_listing_is_looked_through_as_far_as_it_goes(self) -> None:
        whole = len(contents(self.fresh(), self.first, None, True))
        path = self.lose_listing_of("letters/3")
        unread: list[tuple[bytes, DamageError]] = []
        found = contents(self.fresh(), self.first, None, True, unread)
        self.assertEqual([folder for folder, _ in unread], [path])
        self.assertEqual(len(found), whole - 9)
        with self.assertRaises(DamageError):
            contents(self.fresh(), self.first, None, True)
        words = self.folder / "passphrase"
        words.write_text(PASSPHRASE)
        said = program("contents", "--store", self.root, self.first.id, "--deep", passphrase=words)
        self.assertEqual(said.returncode, 1, said.stderr)
        self.assertRegex(said.stdout, r"Not all of .*letters/3 can be listed")

    def test_what_is_lost_for_good_does_not_hold_up_a_purge(self) -> None:
        self.lose_listing_of("letters/3")
        with self.assertRaises(DamageError):
            plan_purge(self.fresh(), "*.bin", "", Silent())
        self.assertFalse(repair(self.fresh(), [], self.state, Silent()).whole)
        plan = plan_purge(self.fresh(), "stage.bin", "", Silent())
        self.assertEqual(plan.paths, ((os.fsencode(self.work / "plans/stage.bin"), 1),))
        clock = SetClock(Nanoseconds(T0 + HOUR))
        journal = Journal(self.state, clock)
        self.addCleanup(journal.close)
        self.assertEqual(purge(self.fresh(), plan, self.state, clock, journal, Silent()), 1)
        (name,) = self.fresh().snapshot_ids()
        out = self.folder / "out"
        report = self.restore(self.fresh(), self.fresh().read_snapshot(name), self.work, out)
        self.assertEqual([one.path for one in report.problems], [os.fsencode(self.work / "letters/3")])
        self.assertFalse((out / "work/plans/stage.bin").exists())
        self.assertTrue((out / "work/plans/light.bin").exists())

    def test_repair_brings_back_from_the_files_what_a_snapshot_does_not(self) -> None:
        (self.work / "letters" / "0" / "letter 0.txt").rename(self.work / "letters" / "0" / "moved.txt")
        for pack in self.packs(Holds.DATA):
            pack.unlink()
        report = repair(self.fresh(), [], self.state, Silent())
        self.assertEqual([report.whole, list(report.chunks)], [False, ["the files as they are now"]])
        self.assertIn(os.fsencode(self.work / "letters/0/letter 0.txt"), report.lost[0].affects)
        self.assertEqual(report.lost[0].snapshots, [self.first.id])
        again = repair(self.fresh(), [], self.state, Silent())
        self.assertEqual((again.whole, again.mended), (False, 0))
        (self.work / "letters" / "0" / "moved.txt").rename(self.work / "letters" / "0" / "letter 0.txt")
        report = repair(self.fresh(), [], self.state, Silent())
        self.assertEqual((report.whole, report.lost), (True, []))
        self.assert_whole(self.first)

    def test_repair_takes_what_is_nowhere_else_from_a_twin(self) -> None:
        keys = self.fresh().keys
        create_store(self.folder / "twin", PASSPHRASE, cost=CHEAP, twin=keys)
        twin = open_store(self.folder / "twin", PASSPHRASE)
        second = self.snap(self.fresh(), 1)
        carry(self.fresh(), twin, None, self.state, Silent())
        self.without_copies()
        for pack in (*self.packs(Holds.DATA), *self.packs(Holds.TREE)):
            pack.unlink()
        (self.root / "snapshots" / second.id).write_bytes(b"?")
        for index in (self.root / "index").iterdir():
            index.write_bytes(index.read_bytes()[:-1])
        shutil.move(self.work, self.folder / "elsewhere")
        report = repair(self.fresh(), [Source("the twin", twin)], self.state, Silent())
        self.assertEqual((report.lost, list(report.chunks)), ([], ["the twin"]))
        self.assertEqual(report.files[f"snapshots/{second.id}"], "from the twin")
        for snapshot in self.fresh().snapshots()[0]:
            self.assert_whole(snapshot)
        self.assertEqual(len(self.fresh().snapshots()[0]), 2)
        self.assertTrue(verify(self.fresh(), True, Silent()).ok)

    def test_what_is_lost_for_good_does_not_hold_up_the_sweep(self) -> None:
        self.write("letters/1/letter 1.txt", b"new" * 100)
        second = self.snap(self.fresh(), 1)
        self.before = tree(self.work)
        self.without_copies()
        (self.root / "snapshots" / self.first.id).write_bytes(b"?")
        clock = SetClock(Nanoseconds(T0 + 9 * HOUR))
        self.assertIn(self.first.id, sweep(self.fresh(), self.state, clock, Silent()).unclear)
        self.assertFalse(repair(self.fresh(), [], self.state, Silent()).whole)
        self.assertEqual(sweep(self.fresh(), self.state, clock, Silent()).unclear, "")
        self.assert_whole(second)

    def test_a_holding_area_does_not_build_on_what_the_disk_has_lost(self) -> None:
        for pack in self.packs(Holds.DATA):
            pack.unlink()
        store = self.fresh()
        area = HoldingArea(self.folder / "area", store.header, store.keys)
        prime(area, store, self.first, self.state)
        away = HoldingArea(self.folder / "area", store.header, store.keys)
        held = self.snap(away, 1)
        self.assertGreater(held.record.tally.stored_bytes, 3_000_000)


def _made(folder: Path) -> Path:
    folder.mkdir(exist_ok=True)
    return folder


class MendedStoreTest(GoodTideTest):
    """A store with parity and second copies: what a disk does to it is put right when it is met."""

    def setUp(self) -> None:
        super().setUp()
        rng = random.Random(4)
        for number in range(40):
            self.write(f"letters/{number % 5}/letter {number}.txt", rng.randbytes(rng.randrange(200, 9000)))
        self.write("plans/stage.bin", rng.randbytes(3_000_000))
        self.first = self.snap(self.new_store())
        self.root = self.folder / "store"
        self.before = tree(self.work)
        self.whole = {path: path.read_bytes() for path in self.root.rglob("*") if path.is_file()}

    def assert_whole(self, out: str) -> None:
        store = open_store(self.root, PASSPHRASE)
        report = self.restore(store, store.read_snapshot(self.first.id), self.work, self.folder / out)
        self.assertEqual((report.problems, tree(self.folder / out / "work")), ([], self.before))

    def test_each_file_that_goes_wrong_is_right_again_after_verify(self) -> None:
        for number, (path, data) in enumerate(sorted(self.whole.items())):
            file = path.relative_to(self.root)
            if file.parts[0] in ("README.txt", "recover.py"):
                continue
            at = len(data) // 2
            harms = {"flipped": data[:at] + bytes([data[at] ^ 4]) + data[at + 1 :], "cut": data[:-30]}
            if file.parts[0] != "packs":
                harms["missing"] = b""
            for harm, bad in harms.items():
                with self.subTest(file=str(file), harm=harm):
                    path.write_bytes(bad) if bad else path.unlink()
                    if harm == "flipped":
                        self.assert_whole(f"out {number}")
                    for _ in range(2):  # a copy that is missing is made when it is missed for the second time
                        report = verify(open_store(self.root, PASSPHRASE), True, Silent())
                        self.assertEqual(report.damage, [])
                    self.assertEqual(path.read_bytes(), data)
        self.assertEqual(
            {path.relative_to(self.root).parts[0] for path in self.root.rglob("*") if path.is_file()}
            - {path.relative_to(self.root).parts[0] for path in self.whole},
            set(),
        )

    def test_copies_and_records_that_somebody_made_up_change_nothing_that_is_whole(self) -> None:
        rng, folders = random.Random(9), ("copies", "damage")
        (self.root / "damage").mkdir(exist_ok=True)
        (self.root / "damage" / rng.randbytes(16).hex()).write_bytes(rng.randbytes(400))
        mine = {
            path: data
            for path, data in self.whole.items()
            if path.relative_to(self.root).parts[0] not in folders
        }
        copies = [path for path in self.root.rglob("*") if path.is_file() and path not in mine]
        self.assertTrue(copies)
        for path in copies:
            path.write_bytes(rng.randbytes(path.stat().st_size))
        elsewhere = self.root / "copies" / "snapshots" / rng.randbytes(16).hex()
        shutil.copy(self.root / "snapshots" / self.first.id, elsewhere)
        verify(open_store(self.root, PASSPHRASE), True, Silent())
        self.assertEqual({path: path.read_bytes() for path in mine}, mine)
        snapshots, damaged = open_store(self.root, PASSPHRASE).snapshots()
        self.assertEqual([one.id for one in snapshots], [self.first.id])
        self.assertEqual(
            [one.file for one in damaged], [f"snapshots/{elsewhere.name}"], "named, not believed"
        )
        self.assertFalse((self.root / "snapshots" / elsewhere.name).exists())
        self.assert_whole("made up")

    def test_bad_sectors_are_read_around_and_mended(self) -> None:
        header = open_store(self.root, PASSPHRASE)
        for name in header.place.names("packs"):
            place = FaultyPlace(self.root, f"packs/{name}", sector=1)
            store = Store(place, header.header, header.keys)
            out = self.folder / name.replace("/", " ")
            report = self.restore(store, self.first, self.work, out)
            self.assertEqual((report.problems, tree(out / "work")), ([], self.before))

    def test_nothing_is_mended_wrongly_on_a_disk_that_takes_nothing(self) -> None:
        pack = max((path for path in self.whole if path.parent.parent.name == "packs"), key=os.path.getsize)
        data = bytearray(self.whole[pack])
        data[9000:30_000] = bytes(21_000)
        pack.write_bytes(data)
        store = open_store(self.root, PASSPHRASE)
        with mock.patch.object(LocalPlace, "create", side_effect=PlaceError("The disk is read-only")):
            report = self.restore(store, self.first, self.work, self.folder / "out")
        self.assertEqual((report.problems, tree(self.folder / "out" / "work")), ([], self.before))
        self.assertEqual(pack.read_bytes(), data)

    def test_the_recovery_script_reads_what_is_left(self) -> None:
        (self.root / "store.json").write_bytes(b"?")
        (self.root / "snapshots" / self.first.id).unlink()
        for folder in (self.root / "index", self.root / "copies" / "index"):
            for index in folder.iterdir():
                index.write_bytes(b"?")
        for slot in (self.root / "keys").iterdir():
            slot.write_bytes(b"?")
        passphrase = self.folder / "passphrase"
        passphrase.write_text(PASSPHRASE)
        script = [
            sys.executable,
            str(REPOSITORY / "src/good_tide/storage/recover.py"),
            "--store",
            str(self.root),
        ]
        words = [*script, "--passphrase-file", str(passphrase), "extract", "latest", str(self.folder / "out")]
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        found = tree(self.folder / "out" / str(self.work).lstrip("/"))
        self.assertEqual(
            {name: what[3] for name, what in found.items() if what[0] == "file"},
            {name: what[3] for name, what in self.before.items() if what[0] == "file"},
        )
