"""A job knows its store, a machine knows itself: others in their places are noticed, named and refused."""

from __future__ import annotations

import shutil
from pathlib import Path

from good_tide.core.clock import SetClock
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.retention.thinning import plan_release, release, sweep
from good_tide.storage.keyslots import add_passphrase, list_slots, revoke
from good_tide.storage.store import Store
from tests.support.base import (
    CHEAP,
    PASSPHRASE,
    T0,
    GoodTideTest,
    open_store,
    program,
)


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
        for folder in (self.root / "index", self.root / "copies" / "index"):
            sorted(folder.iterdir())[0].unlink()
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
        for folder in (self.root / "index", self.root / "copies" / "index"):
            sorted(folder.iterdir())[0].unlink()
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
