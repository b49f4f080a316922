"""What the agent answers to requests that make no sense or come at the wrong moment, asked as commands ask
it."""

from __future__ import annotations

import json
import threading
from typing import Any, TypeVar
from unittest import mock

from good_tide.agent.service import Agent
from good_tide.core.clock import SetClock
from good_tide.core.errors import DamageError, GoodTideError, PersonError, PlaceError
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import JobId, Nanoseconds, SnapshotId, StoreId
from good_tide.core.progress import Steering, WorkKind
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.workplace import Workplace, load_jobs, remove_job, save_job
from good_tide.protocol.agent_calls import HistoryChanged, Overview, ReadOverview, StandingsChanged, WorkEnded
from good_tide.protocol.client import agent_client
from good_tide.protocol.contract import Call, JobCall, Note, Topic
from good_tide.protocol.history_calls import PinSnapshot, ReadGaps
from good_tide.protocol.journal_calls import ExportJournal, ReadJournal, WriteReport
from good_tide.protocol.schedule_calls import LookNow, TakeSnapshot
from good_tide.protocol.setup_calls import OpenToRead
from good_tide.protocol.store_calls import (
    CarryHistory,
    DropStore,
    EjectDisk,
    LookInto,
    PinSnapshots,
    PlanPurge,
    PlanRelease,
    Purge,
    ReadFleet,
    ReadHeldHistory,
    ReadRoom,
    ReleaseSnapshots,
    StoreCall,
)
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.store import Store
from tests.support.agents import connect, serve
from tests.support.base import (
    BY_HAND,
    CHEAP,
    HOUR,
    MACHINE,
    OFFICE,
    OTHER_MACHINE,
    SOUND,
    T0,
    GoodTideTest,
    create_store,
)
from tests.support.stand_ins import quiet

Told = TypeVar("Told", bound=Note)


class HandlersTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "first")
        self.store = self.new_store(passphrase=None)
        self.first = self.snap(self.store)
        self.settings = self.folder / "settings"
        self.place = str(self.folder / "store")
        save_job(self.settings, self.job("Office"))
        here = Workplace(self.cache, self.state, self.folder, self.settings, self.folder / "run", MACHINE)
        clock = SetClock(Nanoseconds(T0 + 5 * HOUR))
        self.agent = serve(self, Agent(here, clock, environment=quiet(self.settings)))
        self.client = connect(self, here, *Topic)
        self.pier = self.store.header.store
        self.overview()

    def job(self, name: str) -> Job:
        identity = OFFICE if name == "Office" else SOUND
        ref = StoreRef(path=self.place, name="Pier")
        return Job(
            id=identity, name=name, folders=(str(self.work),), stores=(ref,), machine=MACHINE, rhythm=BY_HAND
        )

    def overview(self, job: JobId = OFFICE) -> Overview:
        return self.client.ask(ReadOverview(job))

    def refused(self, kind: type[GoodTideError], said: str, call: Call[Any]) -> None:
        with self.assertRaises(kind, msg=str(call)) as caught:
            self.client.ask(call)
        self.assertIn(said, str(caught.exception))
        self.assertTrue(caught.exception.advice, "with what to do")

    def finished(self) -> WorkEnded:
        return self.next(WorkEnded)

    def next(self, kind: type[Told]) -> Told:
        return next(note for note in self.client.notes() if isinstance(note, kind))

    def test_a_snapshot_that_is_known_is_found_without_listing_all_of_them(self) -> None:
        session = self.agent.sessions.of(OFFICE)
        with mock.patch.object(Store, "own_names", side_effect=AssertionError("all were listed")):
            self.assertEqual(session.snapshot(self.first.id, 0).id, self.first.id)
        self.write("plan.txt", "second")
        second = self.snap(self.store, 1)
        self.assertEqual(session.snapshot(second.id, 0).id, second.id, "another program took it")
        self.store.place.remove(f"{SNAPSHOT_FOLDER}/{second.id}")
        with self.assertRaisesRegex(PersonError, "no longer kept"):
            session.snapshot(second.id, second.time)

    def test_stores_that_the_job_does_not_have_are_refused(self) -> None:
        no = StoreId("00" * 16)
        for call in (
            ReadRoom(OFFICE, no),
            ReadHeldHistory(OFFICE, no),
            LookInto(OFFICE, no),
            PlanRelease(OFFICE, (self.first.id,), no),
            ReleaseSnapshots(OFFICE, no, (self.first.id,)),
            PlanPurge(OFFICE, no, "*.txt"),
            Purge(OFFICE, no, "*.txt"),
            CarryHistory(OFFICE, self.pier, no),
            ReadFleet(OFFICE, no),
        ):
            self.refused(PersonError, "The job no longer has this store", call)
        self.refused(PersonError, "only store", DropStore(OFFICE, self.pier))

    def test_a_store_is_known_by_what_stood_for_it_before_it_was_opened(self) -> None:
        before = self.job("Office").stores[0].id
        self.assertNotEqual(before, self.pier)
        self.assertEqual(
            self.client.ask(ReadFleet(OFFICE, before)), self.client.ask(ReadFleet(OFFICE, self.pier))
        )
        self.assertEqual(self.overview().stores[0].id, self.pier)

    def test_no_snapshot_of_such_a_name_or_number(self) -> None:
        no = SnapshotId("00" * 16)
        calls: tuple[Call[Any], ...] = (ReadGaps(OFFICE, no), PinSnapshots(OFFICE, self.pier, (no,)))
        for call in calls:
            with self.subTest(call), self.assertRaises((PersonError, DamageError, PlaceError)):
                self.client.ask(call)
        self.refused(PersonError, "no longer kept", PinSnapshot(OFFICE, SnapshotId("77")))
        self.assertEqual(self.client.ask(ReadGaps(OFFICE, self.first.id)), [])

    def test_a_pattern_that_would_take_everything_is_refused(self) -> None:
        self.refused(PersonError, "Nothing is named", PlanPurge(OFFICE, self.pier, ""))
        self.refused(PersonError, "would leave nothing", PlanPurge(OFFICE, self.pier, "*"))
        self.assertEqual(len(self.store.snapshot_ids()), 1)

    def test_a_store_without_a_snapshot_is_not_opened_to_read(self) -> None:
        create_store(self.folder / "empty", None, cost=CHEAP)
        self.refused(PersonError, "holds no snapshot", OpenToRead(str(self.folder / "empty")))
        self.refused(PlaceError, "", OpenToRead(str(self.folder / "nothing")))

    def test_another_machines_store_is_read_and_never_changed(self) -> None:
        other = self.new_store("other", passphrase=None)
        taken = self.snap(other, 0, OTHER_MACHINE)
        (history,) = self.client.ask(OpenToRead(str(self.folder / "other"))).histories
        job = history.job
        self.assertEqual((history.history.snapshots, history.history.complete), (1, taken.id))
        overview = self.overview(job)
        self.assertEqual((overview.reading, overview.name), (True, "laptop (only to read)"))
        store = overview.stores[0].id
        self.refused(PersonError, "opened only to read", TakeSnapshot(job))
        self.refused(PersonError, "opened only to read", ReleaseSnapshots(job, store, (taken.id,)))
        self.refused(PersonError, "opened only to read", Purge(job, store, "*.txt"))
        self.assertEqual(len(other.snapshot_ids()), 1)
        self.assertFalse(self.overview().reading)
        self.assertEqual([job.name for job in load_jobs(self.settings)], ["Office"])

    def test_jobs_come_change_and_go_while_the_agent_runs(self) -> None:
        save_job(self.settings, self.job("Sound"))
        self.client.ask(LookNow())
        self.next(HistoryChanged)
        self.assertEqual([job.name for job in self.overview().jobs], ["Office", "Sound"])
        self.assertEqual(self.overview(SOUND).name, "Sound")
        remove_job(self.settings, SOUND)
        self.client.ask(LookNow())
        while len(self.overview().jobs) > 1:
            self.next(HistoryChanged)
        self.assertEqual(self.overview(SOUND).name, "Office", "what is shown is a job that there is")
        self.refused(PersonError, "This job is no longer there", TakeSnapshot(SOUND))
        self.refused(PersonError, "No job is named", TakeSnapshot(JobId("")))

    def test_settings_that_cannot_be_read_change_nothing_and_are_said(self) -> None:
        file = next(path for path in self.settings.rglob("*.toml"))
        before = file.read_text()
        file.write_text("name = [broken")
        self.client.ask(LookNow())
        trouble = ReadJournal(Filter(levels=("trouble",)))
        while not (told := self.client.ask(trouble).events):
            self.next(StandingsChanged)
        self.assertEqual(told[0].means, "The jobs go on as they were.")
        self.assertEqual(self.overview().name, "Office")
        file.write_text(before)
        self.client.ask(TakeSnapshot(OFFICE))
        self.assertEqual(self.finished().error, "")

    def test_the_journal_and_a_report_are_written_or_it_is_said_why_not(self) -> None:
        self.client.ask(TakeSnapshot(OFFICE))
        self.assertIn("Snapshot taken", self.finished().words)
        for ending in ("csv", "json", "html"):
            file = self.folder / f"journal.{ending}"
            self.client.ask(ExportJournal(Filter(), str(file)))
            self.assertIn("Office", file.read_text())
        runs = json.loads((self.folder / "journal.json").read_text())["runs"]
        self.assertEqual([run["job"] for run in runs], ["Office"], "people know jobs by their names")
        self.refused(PersonError, "", ExportJournal(Filter(), str(self.folder / "journal.xyz")))
        self.refused(PlaceError, "", ExportJournal(Filter(), str(self.work / "plan.txt" / "journal.csv")))
        report = self.folder / "report.html"
        said = self.client.ask(WriteReport(OFFICE, file=str(report)))
        self.assertEqual(said, f"The report was written to {report}")
        self.refused(PersonError, "Nobody is to have this report", WriteReport(OFFICE, mail=True))

    def test_one_piece_of_long_work_at_a_time(self) -> None:
        begun, go = threading.Event(), threading.Event()

        def work(steering: Steering) -> WorkEnded:
            begun.set()
            go.wait(120)
            return WorkEnded(WorkKind.CARRY, words="done at last")

        self.agent._worker.start(WorkKind.CARRY, work, ())
        self.assertTrue(begun.wait(120))
        self.addCleanup(go.set)
        self.snap(self.store, 1)
        release = ReleaseSnapshots(OFFICE, self.pier, (self.first.id,))
        self.refused(PlaceError, "", release)
        self.refused(PersonError, "The disk is being worked with", EjectDisk(OFFICE, self.pier))
        self.assertEqual(len(self.store.snapshot_ids()), 2)
        go.set()
        self.assertEqual(self.finished().words, "done at last")
        self.client.ask(release)
        self.assertIn("1 snapshot released", self.finished().words)

    def test_an_agent_that_has_gone_is_told(self) -> None:
        self.agent.end()
        with self.assertRaises(PlaceError) as caught:
            for _ in range(5):
                self.overview()
        self.assertIn("has gone", str(caught.exception))
        with agent_client(self.folder / "nobody") as client:
            self.assertIsNone(client)

    def test_every_call_has_one_handler_and_says_what_its_answer_is(self) -> None:
        def declared(kind: type[Any]) -> list[type[Any]]:
            return [one for below in kind.__subclasses__() for one in (below, *declared(below))]

        families = {JobCall, StoreCall}
        calls = {one for one in declared(Call) if one not in families}
        handled = [handler.call for handler in self.agent._server._handlers.values()]
        self.assertEqual(len(handled), len(set(handled)))
        self.assertEqual(set(handled), calls)
        for call in calls:
            self.assertIsNotNone(call.answer_type())
