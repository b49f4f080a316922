"""What is remembered between runs: passphrases in the key ring, notes, how a store is opened; and stores read
without the program."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path

import msgspec

from good_tide.agent.service import Agent
from good_tide.core.clock import SetClock
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.settings import Job, StoreRef
from good_tide.core.status import StoreState
from good_tide.operations.stores.carrying import carry
from good_tide.operations.stores.passphrases import kept_passphrase
from good_tide.operations.workplace import Workplace, find_job, load_jobs, remove_job, save_job
from good_tide.protocol.agent_calls import ReadOverview
from good_tide.protocol.client import AgentClient, agent_client
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.store_calls import ChangePassphrase, Unlock, Unlocked
from good_tide.storage.header import create_store
from good_tide.storage.store import open_store
from good_tide.system.keyrings import StandInKeyRing
from tests.base import CHEAP, MACHINE, OFFICE, PASSPHRASE, T0, GoodTideTest, tree
from tests.stand_ins import quiet


class KeyRingTest(GoodTideTest):
    """An agent whose job has no passphrase file: the key ring or a person opens the store."""

    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "first")
        self.store = self.new_store()
        self.snap(self.store)
        self.settings = self.folder / "settings"
        save_job(
            self.settings,
            Job(
                id=OFFICE,
                name="Office",
                folders=(str(self.work),),
                stores=(StoreRef(path=str(self.folder / "store"), name="Pier"),),
                machine=MACHINE,
            ),
        )
        self.here = Workplace(
            self.cache, self.state, self.folder, self.settings, self.folder / "run" / "good-tide", MACHINE
        )
        self.ring = StandInKeyRing()

    @contextlib.contextmanager
    def asking(self) -> Iterator[AgentClient]:
        """A connection to an agent that runs for as long."""
        agent = Agent(self.here, SetClock(Nanoseconds(T0)), environment=quiet(self.settings), ring=self.ring)
        thread = threading.Thread(target=agent.run)
        thread.start()
        try:
            with agent_client(agent_socket(self.here.runtime, self.settings)) as client:
                assert client is not None
                yield client
        finally:
            agent.end()
            thread.join()

    def assert_state(self, client: AgentClient, state: StoreState) -> None:
        self.assertIs(client.ask(ReadOverview(OFFICE)).state, state)

    def test_a_remembered_passphrase_opens_the_store_next_time(self) -> None:
        with self.asking() as client:
            self.assert_state(client, StoreState.LOCKED)
            self.assertEqual(client.ask(Unlock(OFFICE, PASSPHRASE, remember=True)), Unlocked())
            self.assert_state(client, StoreState.READY)
        self.assertEqual(self.ring.kept, {self.store.header.store: PASSPHRASE})
        with self.asking() as client:
            self.assert_state(client, StoreState.READY)

    def test_without_the_choice_nothing_is_kept_and_a_locked_ring_is_told(self) -> None:
        with self.asking() as client:
            client.ask(Unlock(OFFICE, PASSPHRASE))
        self.assertEqual(self.ring.kept, {})
        self.ring.locked = True
        with self.asking() as client:
            self.assert_state(client, StoreState.LOCKED)
            answer = client.ask(Unlock(OFFICE, PASSPHRASE, remember=True))
            self.assertIn("key ring is locked", answer.not_remembered)
            self.assert_state(client, StoreState.READY)

    def test_a_changed_passphrase_is_remembered_where_the_old_one_was(self) -> None:
        identity = self.store.header.store
        self.ring.remember(identity, PASSPHRASE)
        with self.asking() as client:
            self.assert_state(client, StoreState.READY)
            made = client.ask(ChangePassphrase(OFFICE, identity, PASSPHRASE, "the new words"))
            self.assertIn("changed", made.notes[0])
            with self.assertRaisesRegex(PlaceError, "does not open"):
                client.ask(ChangePassphrase(OFFICE, identity, "no", "x y z"))
        self.assertEqual(self.ring.kept, {identity: "the new words"})
        with self.asking() as client:
            self.assert_state(client, StoreState.READY)

    def test_where_a_passphrase_comes_from(self) -> None:
        job, identity = load_jobs(self.settings)[0], self.store.header.store
        secret = self.folder / "secret"
        self.assertIsNone(kept_passphrase(job, identity, self.ring))
        self.ring.remember(identity, "kept")
        self.assertEqual(kept_passphrase(job, identity, self.ring), "kept")
        self.ring.locked = True
        self.assertIsNone(kept_passphrase(job, identity, self.ring))
        secret.write_text("in the file\n")
        with_file = msgspec.structs.replace(job, passphrase_file=str(secret))
        self.assertEqual(kept_passphrase(with_file, identity, self.ring), "in the file")
        secret.unlink()
        with self.assertRaisesRegex(PersonError, "cannot be read"):
            kept_passphrase(with_file, identity, self.ring)


class SecretServiceTest(GoodTideTest):
    """A real key ring on a bus of its own."""

    CODE = (
        "from good_tide.system.keyrings import DesktopKeyRing\nring = DesktopKeyRing()\ntry:\n   "
        " ring.remember('aa', 'harbour words'); print(ring.recall('aa')); ring.forget('aa');"
        " print(ring.recall('aa')); ring.forget('bb')\nexcept Exception as error:\n   "
        " print(type(error).__name__, error)\n"
    )

    def talk(self, script: str) -> str:
        run = self.folder / "run"
        environment = {**os.environ, "XDG_RUNTIME_DIR": str(run), "HOME": str(self.folder / "home")}
        environment.pop("DBUS_SESSION_BUS_ADDRESS", None)
        (self.folder / "home").mkdir(exist_ok=True)
        done = subprocess.run(
            ["sh", "-c", script], env=environment, capture_output=True, text=True, timeout=600, check=False
        )
        return done.stdout.strip()

    def test_a_real_key_ring_remembers_forgets_and_says_what_keeps_it_from_it(self) -> None:
        (self.folder / "talk.py").write_text(self.CODE)
        python = f"{sys.executable} {self.folder / 'talk.py'}"
        unlocked = "printf pw | gnome-keyring-daemon --unlock --components=secrets > /dev/null 2>&1"
        self.assertEqual(
            self.talk(f"dbus-run-session -- sh -c '{unlocked}; {python}'"), "harbour words\nNone"
        )
        self.assertIn("no key ring", self.talk(python))
        self.assertIn("PlaceError The key ring is locked", self.talk(f"dbus-run-session -- sh -c '{python}'"))


class KeptThingsTest(GoodTideTest):
    def test_jobs_are_kept_by_name_and_a_broken_one_is_named(self) -> None:
        settings = self.folder / "settings"
        with self.assertRaises(PersonError):
            find_job(settings, None)
        for name in ("Büro / 1", "Studio"):
            save_job(settings, Job(name=name, folders=("/x",), stores=()))
        self.assertEqual([job.name for job in load_jobs(settings)], ["Büro / 1", "Studio"])
        self.assertEqual(find_job(settings, "studio").name, "Studio")
        for wanted, words in ((None, "several jobs"), ("none", "no job none")):
            with self.assertRaises(PersonError) as caught:
                find_job(settings, wanted)
            self.assertIn(words, str(caught.exception))
        remove_job(settings, find_job(settings, "Büro / 1").id)
        self.assertEqual(find_job(settings, None).name, "Studio")
        (settings / "jobs" / "broken.toml").write_text("name = 3\n")
        with self.assertRaises(PersonError) as caught:
            load_jobs(settings)
        self.assertIn("broken.toml", str(caught.exception))


class WithoutTheProgramTest(GoodTideTest):
    def test_the_recovery_script_reads_what_was_carried_and_what_was_taken_under_rules(self) -> None:
        self.write("sub/plan.txt", "plan " * 100)
        self.write("large.bin", bytes(range(256)) * 1200)
        source = self.new_store("one")
        taken = self.snap(source)
        secret = self.folder / "secret"
        secret.write_text(PASSPHRASE)
        for twin in (True, False):
            with self.subTest(twin=twin):
                root = self.folder / f"two {twin}"
                create_store(root, PASSPHRASE, cost=CHEAP, twin=source.keys if twin else None)
                carry(source, open_store(root, PASSPHRASE), None, self.state, Silent())
                out = self.folder / f"out {twin}"
                done = subprocess.run(
                    [sys.executable, str(root / "recover.py"), "extract", taken.id, str(out)],
                    input=f"{PASSPHRASE}\n",
                    capture_output=True,
                    text=True,
                    check=False,
                )
                self.assertEqual(done.returncode, 0, done.stderr)
                found = next(Path(out).rglob("work"))
                self.assertEqual(
                    {name: facts[3] for name, facts in tree(found).items() if facts[0] == "file"},
                    {name: facts[3] for name, facts in tree(self.work).items() if facts[0] == "file"},
                )
