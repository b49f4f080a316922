"""What the agent answers to requests that make no sense or come at the wrong moment, asked as commands ask
it."""

from __future__ import annotations

import contextlib
import json
import threading
from typing import Any

import msgspec

from good_tide.agent.service import Agent
from good_tide.core.clock import SetClock
from good_tide.core.errors import DamageError, GoodTideError, PersonError, PlaceError
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Steering
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.workplace import Workplace, load_jobs, remove_job, save_job
from good_tide.protocol.client import AgentClient, agent_client
from good_tide.protocol.messages import Finished, Overview
from good_tide.protocol.sockets import agent_socket
from good_tide.storage.header import create_store
from tests.base import BY_HAND, CHEAP, HOUR, MACHINE, OTHER_MACHINE, T0, GoodTideTest
from tests.stand_ins import quiet


class DeskTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "first")
        self.store = self.new_store(passphrase=None)
        self.first = self.snap(self.store)
        self.settings = self.folder / "settings"
        self.place = str(self.folder / "store")
        save_job(self.settings, self.job("Office"))
        here = Workplace(self.cache, self.state, self.folder, self.settings, self.folder / "run", MACHINE)
        self.agent = Agent(
            self.settings, here, SetClock(Nanoseconds(T0 + 5 * HOUR)), around=quiet(self.settings)
        )
        thread = threading.Thread(target=self.agent.run)
        thread.start()
        self.addCleanup(lambda: (self.agent.end(), thread.join()))
        context = contextlib.ExitStack()
        self.addCleanup(context.close)
        client = context.enter_context(agent_client(agent_socket(here.runtime, self.settings)))
        assert client is not None
        self.client: AgentClient = client
        self.overview()

    def job(self, name: str) -> Job:
        ref = StoreRef(path=self.place, name="Pier")
        return Job(name=name, folders=(str(self.work),), stores=(ref,), machine=MACHINE, rhythm=BY_HAND)

    def overview(self, job: str = "") -> Overview:
        return self.client.ask("overview", None, Overview, job)

    def refused(
        self, kind: type[GoodTideError], said: str, method: str, job: str = "Office", **params: Any
    ) -> None:
        with self.assertRaises(kind, msg=method) as caught:
            self.client.ask(method, params, job=job)
        self.assertIn(said, str(caught.exception))
        self.assertTrue(caught.exception.advice, "with what to do")

    def finished(self) -> Finished:
        return next(
            json_as(Finished, params) for method, params in self.client.notes() if method == "finished"
        )

    def wait_for(self, method: str) -> None:
        next(None for name, _ in self.client.notes() if name == method)

    def test_stores_that_the_job_does_not_have_are_named(self) -> None:
        for method in ("room", "held"):
            self.refused(PersonError, "The job has no store in /nowhere", method, words="/nowhere")
        self.refused(PersonError, "The job has no store in /nowhere", "look-into", words="/nowhere")
        for method in ("plan-release", "release"):
            self.refused(
                PersonError,
                "The job has no store in /nowhere",
                method,
                folder="/nowhere",
                names=[self.first.name],
            )
        for method in ("plan-purge", "purge"):
            self.refused(
                PersonError, "The job has no store in /nowhere", method, folder="/nowhere", pattern="*.txt"
            )
        self.refused(
            PersonError, "The job does not have both stores", "carry", source=self.place, target="/nowhere"
        )
        self.refused(PersonError, "only store", "drop-store", words=self.place)
        self.assertEqual(self.client.ask("fleet", {"words": "/nowhere"}, list[dict[str, Any]], "Office"), [])

    def test_what_cannot_be_understood_is_said_and_nothing_ends(self) -> None:
        self.refused(PersonError, "The request cannot be understood", "pin", snapshot=1)
        self.refused(
            PersonError, "The request cannot be understood", "keep-room", limit_bytes=1, colour="green"
        )
        self.refused(PlaceError, "does not know", "dance")
        self.assertEqual(self.overview().job, "Office")

    def test_no_snapshot_of_such_a_name_or_number(self) -> None:
        for method, params in (
            ("gaps-of", {"words": "00" * 16}),
            ("pin-some", {"folder": self.place, "names": ["00" * 16], "on": True, "label": ""}),
        ):
            with self.subTest(method), self.assertRaises((PersonError, DamageError, PlaceError)):
                self.client.ask(method, params, job="Office")
        self.refused(PersonError, "no longer kept", "pin", snapshot="77")
        self.assertEqual(self.client.ask("gaps-of", {"words": self.first.name}, list[str], "Office"), [])

    def test_a_pattern_that_would_take_everything_is_refused(self) -> None:
        self.refused(PersonError, "Nothing is named", "plan-purge", folder=self.place, pattern="")
        self.refused(PersonError, "would leave nothing", "plan-purge", folder=self.place, pattern="*")
        self.assertEqual(len(self.store.snapshot_names()), 1)

    def test_a_store_without_a_snapshot_is_not_opened_to_read(self) -> None:
        create_store(self.folder / "empty", None, cost=CHEAP)
        self.refused(PersonError, "holds no snapshot", "open-to-read", folder=str(self.folder / "empty"))
        self.refused(PlaceError, "", "open-to-read", folder=str(self.folder / "nothing"))

    def test_another_machines_store_is_read_and_never_changed(self) -> None:
        other = self.new_store("other", passphrase=None)
        taken = self.snap(other, 0, OTHER_MACHINE)
        folder = str(self.folder / "other")
        name = self.client.ask("open-to-read", {"folder": folder}, str)
        self.assertEqual(
            (self.overview(name).reading, self.overview(name).job), (True, "laptop (only to read)")
        )
        self.refused(PersonError, "opened only to read", "snapshot", name)
        self.refused(PersonError, "opened only to read", "release", name, folder=folder, names=[taken.name])
        self.refused(PersonError, "opened only to read", "purge", name, folder=folder, pattern="*.txt")
        self.assertEqual(len(other.snapshot_names()), 1)
        self.assertFalse(self.overview("Office").reading)
        self.assertEqual([job.name for job in load_jobs(self.settings)], ["Office"])

    def test_jobs_come_change_and_go_while_the_agent_runs(self) -> None:
        save_job(self.settings, self.job("Sound"))
        self.client.ask("look")
        self.wait_for("history")
        self.assertEqual(self.overview().jobs, ("Office", "Sound"))
        self.assertEqual(self.overview("Sound").job, "Sound")
        remove_job(self.settings, "Sound")
        self.client.ask("look")
        while self.overview().jobs != ("Office",):
            self.wait_for("history")
        self.assertEqual(self.overview("Sound").job, "Office", "what is shown is a job that there is")
        self.refused(PersonError, "There is no job Sound", "snapshot", "Sound")
        self.refused(PersonError, "No job is named", "snapshot", "")

    def test_settings_that_cannot_be_read_change_nothing_and_are_said(self) -> None:
        file = next(path for path in self.settings.rglob("*.toml"))
        before = file.read_text()
        file.write_text("name = [broken")
        self.client.ask("look")
        while not (told := self.agent.upkeep.history(Filter(levels=("trouble",))).events):
            self.wait_for("status")
        self.assertEqual(told[0].means, "The jobs go on as they were.")
        self.assertEqual(self.overview().job, "Office")
        file.write_text(before)
        self.client.ask("snapshot", job="Office")
        self.assertEqual(self.finished().error, "")

    def test_the_journal_and_a_report_are_written_or_it_is_said_why_not(self) -> None:
        self.client.ask("snapshot", job="Office")
        self.assertIn("Snapshot taken", self.finished().words)
        for ending in ("csv", "json", "html"):
            file = self.folder / f"journal.{ending}"
            self.client.ask("export-journal", {"filter": {}, "file": str(file)})
            self.assertIn("Office", file.read_text())
        json.loads((self.folder / "journal.json").read_text())
        self.refused(PersonError, "", "export-journal", filter={}, file=str(self.folder / "journal.xyz"))
        self.refused(
            PlaceError, "", "export-journal", filter={}, file=str(self.work / "plan.txt" / "journal.csv")
        )
        said = self.client.ask("report", {"file": str(self.folder / "report.html")}, str)
        self.assertEqual(said, f"The report was written to {self.folder / 'report.html'}")
        self.refused(PersonError, "Nobody is to have this report", "report", mail=True)

    def test_one_piece_of_long_work_at_a_time(self) -> None:
        begun, go = threading.Event(), threading.Event()

        def work(steering: Steering) -> Finished:
            begun.set()
            go.wait(120)
            return Finished("verify", words="done at last")

        self.agent._worker.start("verify", work)
        self.assertTrue(begun.wait(120))
        self.addCleanup(go.set)
        self.snap(self.store, 1)
        self.refused(PlaceError, "", "release", folder=self.place, names=[self.first.name])
        self.refused(PersonError, "The disk is being worked with", "eject", words=self.place)
        self.assertEqual(len(self.store.snapshot_names()), 2)
        go.set()
        self.assertEqual(self.finished().words, "done at last")
        self.client.ask("release", {"folder": self.place, "names": [self.first.name]}, job="Office")
        self.assertIn("1 snapshot released", self.finished().words)

    def test_an_agent_that_has_gone_is_told(self) -> None:
        self.agent.end()
        with self.assertRaises(PlaceError) as caught:
            for _ in range(5):
                self.client.ask("overview", None, Overview)
        self.assertIn("has gone", str(caught.exception))
        with agent_client(self.folder / "nobody") as client:
            self.assertIsNone(client)


def json_as(kind: type[Finished], params: bytes) -> Finished:
    return msgspec.json.decode(params, type=kind)
