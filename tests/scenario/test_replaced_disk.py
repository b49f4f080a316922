"""A disk that was replaced, or emptied, while snapshots wait for it: the job says what happened, goes on, and
what waits comes into the new store."""

from __future__ import annotations

import json
import os
import shutil
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.errors import PlaceFullError, StoreReplacedError, WrongPassphraseError
from good_tide.core.identifiers import Nanoseconds, SnapshotId, StoreId
from good_tide.core.progress import Silent
from good_tide.core.settings import StoreRef
from good_tide.operations.schedule.run import run_job
from good_tide.operations.schedule.standing import Standings
from good_tide.operations.snapshot.replacing import Replaced, replace_store
from good_tide.operations.snapshot.taking import Steps, Taken
from good_tide.operations.stores.job_stores import JobStores, NobodyToAsk
from good_tide.operations.workplace import find_job
from tests.support.base import (
    HOUR,
    PASSPHRASE,
    T0,
    GoodTideTest,
    open_store,
    program,
    tree,
)


class Told(NobodyToAsk):
    def known(self, store: StoreId) -> str | None:
        return PASSPHRASE


class ReplacedDiskTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.root, self.settings = self.folder / "disk" / "store", self.folder / "settings"
        self.root.parent.mkdir()
        self.new_store("disk/store")
        ref = StoreRef(path=str(self.root), name="Pier")
        self.save_office(
            self.settings,
            (ref,),
        )
        self.write("large.bin", os.urandom(400_000))
        self.hour = 0
        self.states: dict[SnapshotId, dict[bytes, tuple[object, ...]]] = {}
        self.run_it()
        (self.root.parent).rename(self.folder / "old disk")
        for _ in range(3):
            self.write("note.txt", f"hour {self.hour}")
            self.assertTrue(self.run_it().held)

    def run_it(self) -> Taken:
        self.hour += 1
        context = self.context(SetClock(Nanoseconds(T0 + self.hour * HOUR)))
        stores = JobStores(context, find_job(self.settings, "Office"), Told())
        (taken,) = [
            one for one in run_job(context, stores, Steps(control=Silent())) if one.snapshot is not None
        ]
        assert taken.snapshot is not None
        self.states[taken.snapshot.id] = tree(self.work)
        return taken

    def replace(self, passphrase: str | None = PASSPHRASE) -> Replaced:
        context = self.context(SetClock(Nanoseconds(T0 + (self.hour + 1) * HOUR)))
        job = find_job(self.settings, "Office")
        return replace_store(
            context,
            job,
            job.stores[0],
            passphrase,
            lambda job: JobStores(context, job, Told()),
            Steps(control=Silent()),
        )

    def assert_all_there(self, names: list[SnapshotId]) -> None:
        store = open_store(self.root, PASSPHRASE)
        for name in names:
            out = self.folder / f"out {name}"
            self.restore(store, store.read_snapshot(name), self.work, out)
            self.assertEqual(tree(out / "work"), self.states[name])

    def test_an_empty_new_disk_gets_a_store_with_everything_that_waited(self) -> None:
        self.root.mkdir(parents=True)
        with self.subTest("snapshots go on meanwhile, and it is said"):
            self.write("note.txt", "later")
            self.assertTrue(self.run_it().held)
            context = self.context(SetClock(Nanoseconds(T0 + self.hour * HOUR)))
            status = Standings(context).standing(find_job(self.settings, "Office")).status
            self.assertIn("was replaced or emptied", status.trouble[0].what)
            self.assertIn("replace-store", status.trouble[0].todo)
        done = self.replace()
        self.assertEqual((done.arrived, done.left), (4, ()))
        self.assertIsNotNone(done.recovery_key)
        self.assert_all_there(list(self.states)[1:])
        self.assertFalse(self.run_it().held)
        self.assertEqual(len(open_store(self.root, PASSPHRASE).snapshot_ids()), 6)
        context = self.context(SetClock(Nanoseconds(T0 + self.hour * HOUR)))
        self.assertTrue(Standings(context).standing(find_job(self.settings, "Office")).status.well)

    def test_what_cannot_be_carried_is_named_and_stays(self) -> None:
        self.root.mkdir(parents=True)
        content = (self.work / "large.bin").read_bytes()
        (self.work / "large.bin").unlink()
        done = self.replace()
        self.assertEqual((done.arrived, len(done.left)), (0, 3))
        self.assertEqual(len(list(self.settings.rglob("*.before"))), 1)
        self.assertFalse(self.run_it().held)
        context = self.context(SetClock(Nanoseconds(T0 + self.hour * HOUR)))
        trouble = Standings(context).standing(find_job(self.settings, "Office")).status.trouble
        self.assertIn("3 snapshots that wait for the disk before Pier", trouble[0].what)
        self.assertEqual(len(self.replace().left), 3, "tried again, and they still cannot be")
        self.write("large.bin", content)
        self.assertFalse(self.run_it().held)
        again = self.replace()
        self.assertEqual((again.arrived, again.left), (3, ()), "what they build on is there now")
        self.assert_all_there(list(self.states)[1:4])
        self.assertEqual(list(self.settings.rglob("*.before")), [])
        self.assertTrue(Standings(context).standing(find_job(self.settings, "Office")).status.well)

    def test_what_cannot_be_carried_is_let_go_by_command(self) -> None:
        root = self.folder / "plain"
        made = program("job", "add", "Desk", "--folder", self.work, "--store", root, "--unencrypted")
        self.assertEqual((made.returncode, program("snapshot", "Desk").returncode), (0, 0))
        shutil.rmtree(root)
        root.mkdir()
        self.assertEqual(program("snapshot", "Desk").returncode, 0)
        (self.work / "large.bin").unlink()
        command = ("job", "replace-store", "Desk", root)
        self.assertEqual(program(*command).returncode, 1)
        self.assertIn("let them go", program("status", "Desk").stdout)
        let_go = program(*command, "--let-go", "--json")
        self.assertEqual(json.loads(let_go.stdout), {"job": "Desk", "let_go": 1})
        self.assertEqual(program(*command, "--let-go").returncode, 2)

    def test_a_wrong_passphrase_or_none_moves_nothing(self) -> None:
        self.root.mkdir(parents=True)
        for passphrase in ("quite another phrase", None):
            with self.subTest(passphrase), self.assertRaises(WrongPassphraseError):
                self.replace(passphrase)
            self.assertEqual(list(self.root.iterdir()), [])
            self.write("note.txt", f"after {passphrase}")
            self.assertTrue(self.run_it().held, "snapshots go on as before")
        self.assertEqual(self.replace().arrived, 5)

    def test_a_full_disk_leaves_the_job_as_it_was_and_it_is_begun_again(self) -> None:
        self.root.mkdir(parents=True)
        full = PlaceFullError("The disk is full", "Make room")
        for step in ("create_at", "take_snapshot", "carry_held"):
            before = find_job(self.settings, "Office")
            with (
                self.subTest(step),
                mock.patch(f"good_tide.operations.snapshot.replacing.{step}", side_effect=full),
                self.assertRaises(PlaceFullError),
            ):
                self.replace()
            self.assertEqual(find_job(self.settings, "Office"), before)
        self.assertEqual(self.replace().arrived, 3)
        self.assert_all_there(list(self.states)[1:])

    def test_a_second_disk_that_is_replaced_while_something_of_the_first_is_left(self) -> None:
        self.root.mkdir(parents=True)
        (self.work / "large.bin").unlink()
        self.assertEqual(len(self.replace().left), 3)
        self.hour += 1
        self.assertFalse(self.run_it().held)
        shutil.rmtree(self.root.parent)
        for number in range(2):
            self.write("note.txt", f"again {number}")
            self.assertTrue(self.run_it().held)
        self.root.mkdir(parents=True)
        self.assertEqual(self.replace().arrived, 2)
        self.hour += 1
        self.assertFalse(self.run_it().held)
        self.assert_all_there(list(self.states)[-3:])
        self.assertEqual(
            len(list(self.settings.rglob("*.before"))), 1, "what the first one left is here still"
        )

    def test_nothing_waits(self) -> None:
        for name in self.settings.rglob("snapshots"):
            shutil.rmtree(name)
        self.root.mkdir(parents=True)
        self.assertEqual((self.replace().arrived, self.run_it().held), (0, False))

    def test_another_store_in_its_place_is_not_written_to_before_that_is_meant(self) -> None:
        self.root.parent.mkdir()
        self.new_store("disk/store")
        self.write("note.txt", "later")
        self.assertTrue(self.run_it().held)
        self.assertEqual(open_store(self.root, PASSPHRASE).snapshot_ids(), [])
        self.assertEqual(len(self.replace().left), 4, "it does not know what the old one had")
        self.assertFalse(self.run_it().held)

    def test_the_old_disk_back_again_takes_what_waits(self) -> None:
        shutil.move(self.folder / "old disk", self.root.parent)
        self.assertFalse(self.run_it().held)
        self.assertEqual(len(open_store(self.root, PASSPHRASE).snapshot_ids()), 5)

    def test_by_command(self) -> None:
        root = self.folder / "plain"
        made = program("job", "add", "Desk", "--folder", self.work, "--store", root, "--unencrypted")
        self.assertEqual(made.returncode, 0)
        self.assertEqual(program("snapshot", "Desk").returncode, 0)
        shutil.rmtree(root)
        root.mkdir()
        ran = program("snapshot", "Desk")
        self.assertIn("replace-store", ran.stderr)
        self.assertIn("holding area", ran.stdout)
        ran = program("job", "replace-store", "Desk", root, "--json")
        self.assertEqual(json.loads(ran.stdout)["carried"], 1)
        self.assertEqual(program("snapshot", "Desk").returncode, 0)
        self.assertIn("nothing to replace", program("job", "replace-store", "Desk", root).stderr)

    def test_it_is_an_error_of_its_own(self) -> None:
        self.root.mkdir(parents=True)
        stores = JobStores(self.context(), find_job(self.settings, "Office"), Told())
        with self.assertRaises(StoreReplacedError):
            stores.store(stores.job.stores[0])
