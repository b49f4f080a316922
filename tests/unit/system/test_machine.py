"""A job knows its store, a machine knows itself: others in their places are noticed, named and refused."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.records import Machine
from good_tide.core.settings import Job
from good_tide.operations.jobs.making import own_history
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.stores.carrying import carry
from good_tide.operations.workplace import load_jobs, save_job, this_workplace
from good_tide.storage.summaries import last_snapshot
from good_tide.system import machine
from tests.support.base import (
    MACHINE,
    OFFICE,
    OTHER_MACHINE,
    SOUND,
    T0,
    GoodTideTest,
    open_store,
    program,
)


class CloneTest(GoodTideTest):
    """Two machines from one image: each gets a history of its own, and nothing of the other's is released
    meanwhile."""

    def setUp(self) -> None:
        super().setUp()
        self.traits = ["card a", "disk a"]
        for name in ("_INTERFACES", "_DISKS", "_BOARD"):
            patch = mock.patch.object(machine, name, self.folder / "none")
            patch.start()
            self.addCleanup(patch.stop)
        traits = mock.patch.object(machine, "_traits", lambda: self.traits)
        traits.start()
        self.addCleanup(traits.stop)

    def test_the_same_hardware_or_part_of_it_is_the_same_machine(self) -> None:
        first = machine.this_machine(self.state)
        for traits in (["card a", "disk b"], ["card c", "disk b"], [], ["card c"]):
            self.traits = traits
            self.assertEqual(machine.this_machine(self.state), first)
        self.assertIsNone(machine.news_of_machine(self.state))

    def test_an_image_on_other_hardware_becomes_a_machine_of_its_own_and_is_told(self) -> None:
        here = this_workplace()
        before = here.machine
        sound = own_history(
            Job(id=SOUND, name="Sound", folders=(str(self.work),), stores=()),
            [Job(id=OFFICE, name="Office", folders=("/a",), stores=())],
            before,
        )
        save_job(here.settings, Job(id=OFFICE, name="Office", folders=(str(self.work),), stores=()))
        save_job(here.settings, sound)
        self.traits = ["card z", "disk z"]
        copy = this_workplace()
        self.assertNotEqual(copy.machine.id, before.id)
        self.assertEqual(copy.machine.name, f"{before.name} (2)")
        jobs = {job.name: job for job in load_jobs(here.settings)}
        assert jobs["Sound"].machine is not None and sound.machine is not None
        self.assertNotEqual(jobs["Sound"].machine.id, sound.machine.id)
        self.assertEqual(jobs["Sound"].machine.name, f"{before.name} (2) · Sound")
        journal = Journal(here.records, SetClock(Nanoseconds(T0)))
        self.addCleanup(journal.close)
        self.assertIn("made from an image", journal.events(Filter())[0].what)
        self.assertEqual(this_workplace().machine, copy.machine, "and stays what it became")

    def test_a_file_that_is_lost_or_damaged_changes_nothing(self) -> None:
        first = machine.this_machine(self.state)
        (self.state / "runs").mkdir()
        damages: tuple[Callable[[Path], object], ...] = (
            lambda file: file.unlink(),
            lambda file: file.write_bytes(b""),
            lambda file: file.write_bytes(b"{x"),
        )
        for damage in damages:
            damage(self.state / "machine.json")
            self.traits = [*self.traits, "card new"]
            self.assertEqual(machine.this_machine(self.state), first)

    def test_the_id_of_an_earlier_version_stays_and_a_new_one_knows_the_hardware(self) -> None:
        fresh = machine.this_machine(self.folder / "fresh")
        self.traits = ["card b"]
        self.assertNotEqual(
            machine.this_machine(self.folder / "other").id, fresh.id, "one machine id, two machines"
        )
        old = self.folder / "old"
        (old / "runs").mkdir(parents=True)
        known = machine.this_machine(old)
        self.traits = ["card q"]
        (self.folder / "older" / "runs").mkdir(parents=True)
        self.assertEqual(machine.this_machine(self.folder / "older").id, known.id)

    def test_where_hardware_tells_nothing_the_store_does(self) -> None:
        store = self.new_store(passphrase=None)
        copied = self.folder / "state of the copy"
        self.snap(store, 0)
        shutil.copytree(self.state, copied)
        memory, other = StoreMemory(self.state, store.header.store), StoreMemory(copied, store.header.store)
        self.write("plan.txt", "of the original")
        self.snap(store, 1)
        self.assertFalse(memory.notice_others(MACHINE.id, last_snapshot(store, MACHINE.id), T0))
        self.assertTrue(other.notice_others(MACHINE.id, last_snapshot(store, MACHINE.id), T0))
        self.assertFalse(
            other.notice_others(MACHINE.id, last_snapshot(store, MACHINE.id), T0), "it is said once"
        )
        self.assertTrue(other.is_mixed(MACHINE.id))
        self.assertFalse(other.is_mixed(OTHER_MACHINE.id))
        other.accept(MACHINE.id, last_snapshot(store, MACHINE.id))
        self.assertFalse(other.is_mixed(MACHINE.id))

    def test_what_this_machine_put_there_itself_is_never_another_machines(self) -> None:
        store, spare = self.new_store(passphrase=None), self.new_store("spare", passphrase=None)
        for one in (store, spare):
            self.snap(one, 0)
        self.write("plan.txt", "second")
        with (
            mock.patch.object(StoreMemory, "note_taken", side_effect=KeyboardInterrupt),
            self.assertRaises(KeyboardInterrupt),
        ):
            self.snap(store, 1)  # killed when the snapshot is there, and not noted yet
        self.assertFalse(
            StoreMemory(self.state, store.header.store).notice_others(
                MACHINE.id, last_snapshot(store, MACHINE.id), T0
            )
        )
        carry(store, spare, None, self.state, Silent())
        self.assertEqual(len(spare.snapshot_ids()), 3)
        self.assertFalse(
            StoreMemory(self.state, spare.header.store).notice_others(
                MACHINE.id, last_snapshot(spare, MACHINE.id), T0
            )
        )
        self.state, here = self.folder / "state of another", self.state
        self.snap(store, 3)
        self.state = here
        self.assertTrue(
            StoreMemory(self.state, store.header.store).notice_others(
                MACHINE.id, last_snapshot(store, MACHINE.id), T0
            )
        )

    def test_a_home_that_is_full_notices_nothing_rather_than_something_wrong(self) -> None:
        store = self.new_store(passphrase=None)
        self.snap(store, 0)
        self.write("plan.txt", "second")
        with mock.patch.object(StoreMemory, "_write", return_value=False):
            self.snap(store, 1)
        memory = StoreMemory(self.state, store.header.store)
        self.assertFalse(memory.notice_others(MACHINE.id, last_snapshot(store, MACHINE.id), T0))


class CloneCommandTest(GoodTideTest):
    """The same by command."""

    def test_nothing_is_thinned_until_somebody_has_looked(self) -> None:
        root = self.folder / "store"
        self.assertEqual(
            program(
                "job", "add", "Office", "--folder", self.work, "--store", root, "--unencrypted"
            ).returncode,
            0,
        )
        self.write("plan.txt", "1")
        for number in range(4):
            self.write("plan.txt", str(number))
            self.assertEqual(program("snapshot", "Office").returncode, 0)
        known = program("machine", "--json")
        identity = json.loads(known.stdout)["id"]
        store = open_store(root, None)
        self.write("plan.txt", "of the copy")
        self.snap(
            store, 100_000, Machine(identity, "desk")
        )  # into another state folder: another machine with the same identity
        ended = program("snapshot", "Office")
        self.assertEqual(ended.returncode, 0, ended.stderr)
        self.assertIn("Another machine writes snapshots as", program("journal").stdout)
        self.assertEqual(program("status").returncode, 1)
        program("ladder", "Office", "--ready", "usual")
        thinned = program("thin", "Office", "--yes")
        self.assertEqual(thinned.returncode, 3, thinned.stdout)
        self.assertIn("made from an image", thinned.stderr)
        self.assertEqual(program("machine", "--accept").returncode, 0)
        self.assertEqual(program("thin", "Office", "--yes").returncode, 0)
        became = json.loads(program("machine", "--own-history", "--json").stdout)
        self.assertNotEqual(became["id"], identity)
