"""What is remembered between runs: passphrases in the key ring, notes, how a store is opened; and stores read
without the program."""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Iterator
from unittest import mock

import msgspec

from good_tide.agent.service import Agent
from good_tide.core.clock import SetClock
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.identifiers import Nanoseconds, StoreId
from good_tide.core.job_facts import StoreState
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.stores.passphrases import kept_passphrase
from good_tide.operations.workplace import Workplace, load_jobs, save_job
from good_tide.protocol.agent_calls import ReadOverview
from good_tide.protocol.client import AgentClient, agent_client
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.store_calls import ChangePassphrase, Unlock, Unlocked
from good_tide.system.keyrings import StandInKeyRing
from tests.support.base import MACHINE, OFFICE, PASSPHRASE, T0, GoodTideTest
from tests.support.stand_ins import quiet


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


class CredentialTest(GoodTideTest):
    def test_what_systemd_gives_the_agent_opens_the_store(self) -> None:
        job, folder = Job(name="Office", folders=(), stores=()), self.folder / "credentials"
        folder.mkdir()
        store = StoreId("ab" * 16)
        with mock.patch.dict(os.environ, {"CREDENTIALS_DIRECTORY": str(folder)}):
            self.assertIsNone(kept_passphrase(job, store, StandInKeyRing()))
            (folder / "good-tide").write_text("for all\n")
            self.assertEqual(kept_passphrase(job, store, StandInKeyRing()), "for all")
            (folder / f"good-tide.{store}").write_text("for this one\n")
            self.assertEqual(kept_passphrase(job, store, StandInKeyRing()), "for this one")
        self.assertIsNone(kept_passphrase(job, store, StandInKeyRing()), "only where systemd says so")
