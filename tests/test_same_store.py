"""A job knows its store, a machine knows itself: others in their places are noticed, named and refused."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import msgspec

from good_tide.core.clock import SetClock
from good_tide.core.errors import PlaceError
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import Nanoseconds, local_name
from good_tide.core.progress import Silent
from good_tide.core.records import Machine
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.jobs.making import own_history
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.retention.thinning import plan_release, release, sweep
from good_tide.operations.snapshot.capture import last_snapshot
from good_tide.operations.stores.carrying import carry
from good_tide.operations.stores.opening import Catalog, open_catalog
from good_tide.operations.workplace import load_jobs, save_job, this_workplace
from good_tide.protocol.schedule_calls import TakeSnapshot
from good_tide.storage.header import create_store
from good_tide.storage.keyslots import add_passphrase, list_slots, revoke
from good_tide.storage.store import Store, open_store
from good_tide.system import machine
from good_tide.system.jobs import own_settings_folder
from tests.base import CHEAP, MACHINE, OFFICE, OTHER_MACHINE, PASSPHRASE, SOUND, T0, GoodTideTest, program
from tests.places import WindowTest


class PinnedStoreTest(GoodTideTest):
    """Another store under the same path is refused before anything is written to it, or typed into it."""

    def setUp(self) -> None:
        super().setUp()
        self.root, self.words = self.folder / "store", self.folder / "words"
        self.words.write_text(PASSPHRASE)
        self.write("plan.txt", "first")
        added = program(
            "job", "add", "Office", "--folder", self.work, "--store", self.root, passphrase=self.words
        )
        self.assertEqual(added.returncode, 0, added.stderr)
        self.assertEqual(program("snapshot", "Office", passphrase=self.words).returncode, 0)

    def commands(self) -> list[tuple[str | Path, ...]]:
        store = ("--store", self.root)
        return [
            ("snapshot", "Office"),
            ("snapshot", *store, "--folder", self.work),
            ("history", *store),
            ("contents", *store, "latest"),
            ("versions", *store, self.work),
            ("verify", *store),
            ("thin", "Office"),
            ("sweep", self.root),
            ("room", self.root),
            ("restore", *store, "--snapshot", "latest", "--path", self.work, "--into", self.folder / "into"),
        ]

    def assert_refused(self, what: str) -> None:
        before = sorted(self.root.rglob("*"))
        for words in self.commands():
            with self.subTest(what, words=words[0]):
                ended = program(*words, passphrase=self.words)
                self.assertEqual(ended.returncode, 3, ended.stderr + ended.stdout)
                self.assertIn(what, ended.stderr)
        self.assertEqual(sorted(self.root.rglob("*")), before, "nothing was written")

    def test_an_open_store_in_place_of_an_encrypted_one(self) -> None:
        self.root.rename(self.folder / "true")
        create_store(self.root, None)
        self.assert_refused("is not encrypted, and the one of this job is")

    def test_an_open_store_that_says_it_is_the_same(self) -> None:
        identity = json.loads((self.root / "store.json").read_text())["store"]
        self.root.rename(self.folder / "true")
        with mock.patch(
            "secrets.token_hex",
            side_effect=lambda length: identity if length == 16 else os.urandom(length).hex(),
        ):
            create_store(self.root, None)
        self.assert_refused("is not encrypted, and the one of this job is")

    def test_another_encrypted_store(self) -> None:
        self.root.rename(self.folder / "true")
        create_store(self.root, PASSPHRASE, cost=CHEAP)
        self.assert_refused("is another one than that of this job")

    def test_one_that_says_it_is_the_same_and_opens_with_the_passphrase(self) -> None:
        identity = json.loads((self.root / "store.json").read_text())["store"]
        self.root.rename(self.folder / "true")
        with mock.patch(
            "secrets.token_hex",
            side_effect=lambda length: identity if length == 16 else os.urandom(length).hex(),
        ):
            create_store(self.root, PASSPHRASE, cost=CHEAP)
        self.assert_refused("only says that it is that of this job")

    def test_the_true_one_moved_back_and_one_that_is_meant(self) -> None:
        self.root.rename(self.folder / "true")
        create_store(self.root, None)
        meant = program("job", "change", "Office", "--drop-store", self.root, "--add-store", self.root)
        self.assertEqual(meant.returncode, 0, meant.stderr)
        self.assertEqual(program("snapshot", "Office").returncode, 0)
        shutil.rmtree(self.root)
        (self.folder / "true").rename(self.root)
        self.assertEqual(
            program("snapshot", "Office", passphrase=self.words).returncode, 3, "now the other one is meant"
        )

    def test_a_job_of_an_earlier_version_learns_its_store_and_changes_do_not_forget_it(self) -> None:
        settings = own_settings_folder()
        job = load_jobs(settings)[0]
        bare = StoreRef(path=job.stores[0].path, name=job.stores[0].name)
        next((settings / "jobs").glob("*.toml")).unlink()
        save_job(settings, msgspec.structs.replace(job, stores=(bare,)))
        self.assertEqual(load_jobs(settings)[0].stores[0].store, "")
        self.assertEqual(program("snapshot", "Office", passphrase=self.words).returncode, 0)
        known = load_jobs(settings)[0].stores[0]
        self.assertEqual((known.encrypted, len(known.store), len(known.keys)), (True, 32, 32))
        save_job(settings, msgspec.structs.replace(job, rules=("exclude kind sound",), stores=(bare,)))
        self.assertEqual(load_jobs(settings)[0].stores[0], known)


class PinnedInAgentTest(WindowTest):
    """The agent refuses another store as well, and says so."""

    def test_no_snapshot_goes_into_another_store(self) -> None:
        self.window.link.ask(TakeSnapshot(self.window.link.job))
        self.until(lambda: bool(load_jobs(self.settings)[0].stores[0].keys))
        self.until(lambda: self.window.overview.work is None and len(self.window.overview.tide) == 7)
        (self.folder / "store").rename(self.folder / "true")
        create_store(self.folder / "store", None)
        self.window.link.ask(TakeSnapshot(self.window.link.job))
        self.until(lambda: "another one than that of this job" in self.window.notice.text)
        self.assertEqual(open_store(self.folder / "store", None).snapshot_ids(), [])


class RolledBackTest(GoodTideTest):
    """A store that is older than it was is noticed, and said once."""

    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store()
        self.root = Path(self.store.place.title)
        for hour in range(3):
            self.write("plan.txt", str(hour))
            self.snap(self.store, hour)
        self.memory = StoreMemory(self.state, self.store.header.store)
        self.assertEqual(self.memory.look(self.fresh()), [])

    def fresh(self) -> Store:
        return open_store(self.root, PASSPHRASE)

    def noticed(self) -> str:
        return " ".join(one.what for one in self.memory.look(self.fresh()))

    def release_first_and_sweep(self) -> None:
        plan = plan_release(self.store, {self.store.snapshots()[0][0].id}, Silent(), None)
        release(self.context(), self.store, plan, "by hand", None, Silent())
        sweep(self.fresh(), self.state, SetClock(Nanoseconds(T0)), Silent(), False)

    def test_an_old_copy_of_all_of_it(self) -> None:
        shutil.copytree(self.root, self.folder / "old")
        self.write("plan.txt", "later")
        self.snap(self.store, 9)
        self.assertEqual(self.noticed(), "")
        shutil.rmtree(self.root)
        (self.folder / "old").rename(self.root)
        self.assertIn("is older than when this machine last saw it", self.noticed())
        self.assertEqual(self.noticed(), "", "it is said once")

    def test_an_old_index_put_back(self) -> None:
        shutil.copytree(self.root / "index", self.folder / "index")
        self.release_first_and_sweep()
        self.assertEqual(self.noticed(), "")
        shutil.rmtree(self.root / "index")
        shutil.copytree(self.folder / "index", self.root / "index")
        self.assertIn("old index was put back", self.noticed())
        self.assertEqual(self.noticed(), "")

    def test_index_files_that_are_gone(self) -> None:
        sorted((self.root / "index").iterdir())[0].unlink()
        self.assertIn("index files are missing", self.noticed())

    def test_a_look_in_the_middle_of_a_sweep_of_another_machine(self) -> None:
        index = self.root / "index"
        before = {path.name: path.read_bytes() for path in index.iterdir()}
        self.release_first_and_sweep()
        for name, data in before.items():
            (index / name).write_bytes(data)
        memory = StoreMemory(self.folder / "state of another", self.store.header.store)
        memory.look(open_store(self.root, PASSPHRASE))
        for name in before:
            (index / name).unlink()
        self.assertEqual(memory.look(open_store(self.root, PASSPHRASE)), [])

    def test_a_revoked_key_slot_put_back(self) -> None:
        before = set(self.store.place.names("keys"))
        add_passphrase(self.store.place, self.store.keys, "another passphrase", cost=CHEAP)
        self.assertEqual(self.noticed(), "")
        copies = {path.name: path.read_bytes() for path in (self.root / "keys").iterdir()}
        fresh = (set(copies) - before).pop().removesuffix(".json")
        revoke(
            self.store.place, next(slot.number for slot in list_slots(self.store.place) if slot.name == fresh)
        )
        self.assertEqual(self.noticed(), "")
        for name, data in copies.items():
            (self.root / "keys" / name).write_bytes(data)
        self.assertIn("had been revoked opens the store", self.noticed())

    def test_by_command_it_is_said_and_noted(self) -> None:
        words = self.folder / "words"
        words.write_text(PASSPHRASE)
        self.assertEqual(program("history", "--store", self.root, passphrase=words).stderr, "")
        sorted((self.root / "index").iterdir())[0].unlink()
        ended = program("history", "--store", self.root, passphrase=words)
        self.assertIn("index files are missing", ended.stderr)
        self.assertIn("index files are missing", program("journal").stdout)

    def test_a_run_says_it_too(self) -> None:
        root = self.folder / "plain"
        program("job", "add", "Office", "--folder", self.work, "--store", root, "--unencrypted")
        program("snapshot", "Office")
        shutil.copytree(root, self.folder / "old")
        self.write("plan.txt", "later")
        program("snapshot", "Office")
        shutil.rmtree(root)
        (self.folder / "old").rename(root)
        ended = program("snapshot", "Office")
        self.assertEqual(ended.returncode, 0, ended.stderr)
        self.assertIn("is older than when this machine last saw it", ended.stderr)


class LocalNameTest(GoodTideTest):
    """Nothing that a store says becomes a path."""

    def test_caches_of_earlier_versions_go_on_and_those_of_strangers_do_not(self) -> None:
        store = self.new_store(passphrase=None)
        self.snap(store)
        with open_catalog_closing(store, self.cache) as catalog:
            catalog.sync(store)
        named = self.cache / local_name(store.header.store)
        self.assertTrue(named.is_dir())
        named.rename(self.cache / store.header.store)
        with open_catalog_closing(store, self.cache) as catalog:
            self.assertEqual(len(catalog.names()), 1)
        self.assertTrue(named.is_dir() and not (self.cache / store.header.store).exists())
        stranger = self.new_store("stranger", None)
        stranger.header = store.header  # it says that it is the same one
        with open_catalog_closing(stranger, self.cache) as catalog:
            self.assertEqual(catalog.names(), set())


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


def open_catalog_closing(store: Store, cache: Path) -> contextlib.AbstractContextManager[Catalog]:
    return contextlib.closing(open_catalog(store, cache))


class PlaceTest(GoodTideTest):
    def test_a_reference_without_knowledge_is_as_before(self) -> None:
        from good_tide.operations.stores.pinning import check_header, check_keys

        store = self.new_store()
        check_header(StoreRef(path="x"), self.folder / "store")
        check_keys(StoreRef(path="x"), store)
        with self.assertRaises(PlaceError):
            check_keys(StoreRef(path="x", store=store.header.store, encrypted=True, keys="00" * 16), store)
