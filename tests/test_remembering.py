"""What is remembered between runs: passphrases in the key ring, notes, how a store is opened; and stores read
without the program."""

from __future__ import annotations

import json
import os
import shutil
import socket
import subprocess
import sys
import threading
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from good_tide.agent.service import Agent
from good_tide.core.clock import SetClock
from good_tide.core.errors import PersonError, WrongPassphraseError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.jobs.making import open_counted, passphrase_for
from good_tide.operations.stores.carrying import carry
from good_tide.operations.workplace import Workplace, find_job, load_jobs, remove_job, save_job
from good_tide.protocol.messages import Request, encode, raw
from good_tide.protocol.sockets import agent_socket
from good_tide.storage.header import create_store
from good_tide.storage.store import open_store
from good_tide.system.keyrings import StandInKeyRing
from tests.base import CHEAP, MACHINE, PASSPHRASE, T0, GoodTideTest, tree
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

    def with_agent(self, act: Callable[[Callable[..., Any]], None]) -> None:
        """Start an agent, give ``act`` a way to ask it, end it."""
        agent = Agent(
            self.settings, self.here, SetClock(Nanoseconds(T0)), around=quiet(self.settings), ring=self.ring
        )
        thread = threading.Thread(target=agent.run)
        thread.start()
        try:
            with socket.socket(socket.AF_UNIX) as client:
                client.connect(str(agent_socket(self.here.runtime, self.settings)))
                with client.makefile("rb") as lines:

                    def ask(method: str, **params: object) -> Any:
                        client.sendall(encode(Request(method, raw(params), 1, "Office")))
                        while True:
                            reply = json.loads(lines.readline())
                            if "id" in reply:
                                return reply.get("error", reply.get("result"))

                    act(ask)
        finally:
            agent.end()
            thread.join()

    def test_a_remembered_passphrase_opens_the_store_next_time(self) -> None:
        def first(ask: Callable[..., Any]) -> None:
            self.assertEqual(ask("overview")["state"], "locked")
            self.assertIsNone(ask("unlock", words=PASSPHRASE, remember=True))
            self.assertEqual(ask("overview")["state"], "ready")

        self.with_agent(first)
        self.assertEqual(self.ring.kept, {self.store.header.store: PASSPHRASE})
        self.with_agent(lambda ask: self.assertEqual(ask("overview")["state"], "ready"))

    def test_without_the_choice_nothing_is_kept_and_a_locked_ring_is_told(self) -> None:
        self.with_agent(lambda ask: self.assertIsNone(ask("unlock", words=PASSPHRASE)))
        self.assertEqual(self.ring.kept, {})
        self.ring.locked = True

        def again(ask: Callable[..., Any]) -> None:
            self.assertEqual(ask("overview")["state"], "locked")
            self.assertIn("key ring is locked", ask("unlock", words=PASSPHRASE, remember=True)["message"])
            self.assertEqual(ask("overview")["state"], "ready", "the store is open all the same")

        self.with_agent(again)

    def test_a_changed_passphrase_is_remembered_where_the_old_one_was(self) -> None:
        self.ring.remember(self.store.header.store, PASSPHRASE)

        def change(ask: Callable[..., Any]) -> None:
            self.assertEqual(ask("overview")["state"], "ready")
            made = ask(
                "change-slots",
                folder=str(self.folder / "store"),
                act="change",
                old=PASSPHRASE,
                new="the new words",
                hint="",
            )
            self.assertIn("changed", made["notes"][0])
            self.assertIn(
                "does not open",
                ask("change-slots", folder=str(self.folder / "store"), act="change", old="no", new="x y z")[
                    "message"
                ],
            )

        self.with_agent(change)
        self.assertEqual(self.ring.kept, {self.store.header.store: "the new words"})
        self.with_agent(lambda ask: self.assertEqual(ask("overview")["state"], "ready"))

    def test_where_a_passphrase_comes_from(self) -> None:
        job = load_jobs(self.settings)[0]
        folder, secret = self.folder / "store", self.folder / "secret"
        asked: list[str] = []

        def ask(where: str, store: str) -> str:
            asked.append(where)
            return "typed"

        self.assertEqual(passphrase_for(job, folder, self.ring, ask), "typed")
        self.ring.remember(self.store.header.store, "kept")
        self.assertEqual(passphrase_for(job, folder, self.ring, ask), "kept")
        secret.write_text("in the file\n")
        of_file = msgspec.structs.replace(job, passphrase_file=str(secret))
        self.assertEqual(passphrase_for(of_file, folder, self.ring, ask), "in the file")
        secret.unlink()
        with self.assertRaises(PersonError):
            passphrase_for(of_file, folder, self.ring, ask)
        create_store(self.folder / "open", None, cost=CHEAP)
        self.assertIsNone(passphrase_for(job, self.folder / "open", self.ring, ask))
        self.assertEqual(asked, [str(folder)])

    def test_a_right_passphrase_forgets_the_wrong_tries(self) -> None:
        clock = SetClock(Nanoseconds(T0))
        for _ in range(2):
            with self.assertRaises(WrongPassphraseError):
                open_counted(self.folder / "store", "guess", self.state, clock)
        open_counted(self.folder / "store", PASSPHRASE, self.state, clock)
        self.assertEqual(list((self.state / "tries").iterdir()), [])


@unittest.skipUnless(
    shutil.which("gnome-keyring-daemon") and shutil.which("dbus-run-session"),
    "needs gnome-keyring and dbus-daemon",
)
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
        remove_job(settings, "Büro / 1")
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
                    [sys.executable, str(root / "recover.py"), "extract", taken.name, str(out)],
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
