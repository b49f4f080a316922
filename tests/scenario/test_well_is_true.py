"""“Well” is said only while all of a job's stores are well, by status, report and exit code alike."""

from __future__ import annotations

import shutil

import msgspec

from good_tide.core.clock import SetClock
from good_tide.core.health import Drill
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.job_facts import Topic
from good_tide.core.progress import Silent
from good_tide.core.settings import Job, StoreRef
from good_tide.core.standing import JobStanding
from good_tide.core.status import Mood, State
from good_tide.operations.context import Context
from good_tide.operations.integrity.repairing import accept_loss, repair_store, verify_store
from good_tide.operations.reporting.post import Post
from good_tide.operations.reporting.report import ReportPart
from good_tide.operations.schedule.run import run_job
from good_tide.operations.schedule.standing import Standings
from good_tide.operations.snapshot.taking import Steps
from good_tide.operations.stores.job_stores import JobStores, NobodyToAsk
from good_tide.operations.workplace import find_job
from tests.support.base import HOUR, T0, GoodTideTest, open_store

_DAY = 24 * HOUR


class WellIsTrueTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("a.txt", "a" * 50)
        self.write("b.bin", b"b" * 200_000)
        for name in ("one", "two"):
            self.new_store(name, None, parity=False)
        self.settings = self.folder / "settings"
        self.save_office(
            self.settings,
            tuple(StoreRef(path=str(self.folder / name), name=name) for name in ("one", "two")),
        )
        self.run_it(0)

    def at(self, time: int) -> Context:
        return self.context(SetClock(Nanoseconds(T0 + time)))

    def run_it(self, time: int) -> None:
        context = self.at(time)
        stores = JobStores(context, find_job(self.settings, "Office"), NobodyToAsk())
        run_job(context, stores, Steps(control=Silent()))

    def standing(self, time: int) -> JobStanding:
        context = self.at(time)
        job = find_job(self.settings, "Office")
        standing = Standings(context).standing(job)
        report = Post(context).made([ReportPart(job, standing)])
        self.assertEqual("all is well" in report.subject, standing.status.well)
        for one in standing.status.trouble:
            self.assertIn(one.what.rstrip("."), report.text)
        return standing

    def lose_content(self, name: str) -> None:
        for pack in (self.folder / name / "packs").rglob("*"):
            if pack.is_file():
                pack.unlink()

    def test_all_is_well_with_both(self) -> None:
        standing = self.standing(HOUR)
        self.assertEqual((standing.status.mood, standing.status.trouble), (Mood.WELL, ()))
        self.assertEqual([store.last for store in standing.stores], [T0, T0])

    def test_one_of_two_stores_that_fails_is_said_and_forgotten_when_it_works(self) -> None:
        for header in (self.folder / "two").rglob("store.json"):
            header.rename(header.with_suffix(".aside"))
        self.run_it(HOUR)
        standing = self.standing(2 * HOUR)
        self.assertEqual(standing.status.mood, Mood.ATTENTION)
        self.assertIn("two takes no snapshots", standing.status.trouble[0].what)
        self.assertEqual([len(store.trouble) for store in standing.stores], [0, 1])
        for header in (self.folder / "two").rglob("store.aside"):
            header.rename(header.with_suffix(".json"))
        self.run_it(3 * HOUR)
        self.assertTrue(self.standing(3 * HOUR).status.well)

    def test_one_of_two_that_has_been_away_for_long_is_said(self) -> None:
        (self.folder / "two").rename(self.folder / "drawer")
        self.run_it(_DAY)
        self.assertTrue(self.standing(2 * _DAY).status.well)
        self.run_it(8 * _DAY)
        trouble = self.standing(8 * _DAY).status.trouble
        self.assertEqual([one.what.partition(" since")[0] for one in trouble], ["two has had no snapshot"])

    def test_damage_is_harm_until_it_is_mended_or_its_loss_accepted(self) -> None:
        self.lose_content("one")
        self.write("b.bin", b"c" * 200_000)
        self.run_it(HOUR)
        status = self.standing(HOUR).status
        self.assertEqual((status.state, status.mood), (State.DAMAGED, Mood.HARM))
        self.assertEqual([one.topic for one in status.trouble], [Topic.DAMAGE])
        context, store = self.at(2 * HOUR), open_store(self.folder / "one", None)
        self.assertFalse(verify_store(context, store, Silent(), True).ok)
        self.assertIn("content of 1 file in 1 snapshot", self.standing(2 * HOUR).status.sentence)

        def stores_of(job: Job) -> JobStores:
            return JobStores(context, job, NobodyToAsk())

        report = repair_store(context, store, [], stores_of, Silent())
        self.assertEqual([one.affects for one in report.lost], [[str(self.work / "b.bin").encode()]])
        self.assertIn("accept the loss", self.standing(2 * HOUR).status.detail)
        self.run_it(3 * HOUR)
        self.assertEqual(self.standing(3 * HOUR).status.mood, Mood.HARM)
        self.assertTrue(accept_loss(context, store))
        self.run_it(4 * HOUR)
        self.assertTrue(self.standing(4 * HOUR).status.well)
        self.assertFalse(accept_loss(context, store))
        self.assertFalse(
            verify_store(self.at(5 * HOUR), open_store(self.folder / "one", None), Silent(), True).ok
        )
        self.assertTrue(self.standing(5 * HOUR).status.well, "what was accepted stays so")

    def test_what_is_mended_is_no_trouble_any_more(self) -> None:
        self.lose_content("one")
        context, store = self.at(2 * HOUR), open_store(self.folder / "one", None)
        verify_store(context, store, Silent(), True)
        self.assertEqual(self.standing(2 * HOUR).status.mood, Mood.HARM)
        self.run_it(3 * HOUR)
        verify_store(context, open_store(self.folder / "one", None), Silent(), True)
        self.assertTrue(self.standing(3 * HOUR).status.well)

    def test_a_trial_that_failed_is_harm(self) -> None:
        context = self.at(HOUR)
        context.health.change(
            open_store(self.folder / "one", None).header.store,
            lambda known: msgspec.structs.replace(known, drill=Drill(T0 + HOUR, 24, ("/home/a",))),
        )
        standing = self.standing(2 * HOUR)
        self.assertEqual(standing.status.mood, Mood.HARM)
        self.assertIn("24 files restored for a trial", standing.stores[0].proven)

    def test_a_lost_store_of_two_fails_and_the_job_goes_on(self) -> None:
        shutil.rmtree(self.folder / "two")
        (self.folder / "two").mkdir()
        self.run_it(HOUR)
        standing = self.standing(HOUR)
        self.assertEqual([store.last for store in standing.stores], [T0 + HOUR, T0])
        self.assertIn("two takes no snapshots", standing.status.trouble[0].what)
