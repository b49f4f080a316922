"""Whose histories a store has, and going on with one of them on another machine."""

from __future__ import annotations

import os
from pathlib import Path
from unittest import mock

import msgspec

from good_tide.core.clock import SetClock
from good_tide.core.errors import PersonError
from good_tide.core.homes import home_of
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.jobfile import job_file_text
from good_tide.core.ladder import READY
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.core.rhythm import Rhythm
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.jobs.taking_over import histories, take_over, taken_over
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.snapshot.taking import request_for
from good_tide.operations.stores.opened import id_of
from good_tide.operations.workplace import load_jobs
from tests.support.base import HOUR, MACHINE, OTHER_MACHINE, T0, GoodTideTest


class HomeTest(GoodTideTest):
    def test_the_home_that_folders_were_in(self) -> None:
        for folders, home in (
            ((b"/home/anna/Documents", b"/home/anna/Pictures"), "/home/anna"),
            ((b"/home/anna",), "/home/anna"),
            ((b"/home/anna/a", b"/home/ben/b"), ""),
            ((b"/home/anna/a", b"/srv/shared"), ""),
            ((b"/home",), ""),
            ((), ""),
        ):
            self.assertEqual(home_of(folders), home, folders)


class TakingOverTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.here = self.context()
        self.store = self.new_store()
        self.home = Path(os.environ["HOME"])
        for name in ("Documents", "Pictures"):
            (self.home / name).mkdir(parents=True)
            (self.home / name / "file.txt").write_text(name)
        self.job = Job(
            name="Office",
            folders=(str(self.home / "Documents"), str(self.home / "Pictures")),
            stores=(StoreRef(path="/somewhere"),),
            rules=('exclude path "*.tmp"',),
            ladder=READY["usual"],
            machine=OTHER_MACHINE,
        )

    def snapshot(self, job: Job, hour: int = 0) -> Snapshot:
        return self.captured(request_for(job, self.here.here), hour)

    def captured(self, request: CaptureRequest, hour: int) -> Snapshot:
        clock = SetClock(Nanoseconds(T0 + hour * HOUR))
        return capture(self.store, msgspec.structs.replace(request, own=()), clock, Silent(), self.state)

    def test_folders_rules_rhythm_ladder_store_and_history_are_taken_over(self) -> None:
        taken = self.snapshot(self.job)
        self.assertIn('"~/Documents"', taken.record.job)
        self.assertNotIn("somewhere", taken.record.job, "where the store was is nobody's business")
        (history,) = histories(self.store)
        self.assertEqual((history.job, history.machine, history.snapshots), ("Office", OTHER_MACHINE, 1))
        self.assertEqual((history.complete, history.lacks), (taken.id, 0))
        new_home = self.folder / "another home"
        (new_home / "Documents").mkdir(parents=True)
        with mock.patch.dict(os.environ, {"HOME": str(new_home)}):
            job, _, notes = take_over(self.here, self.store, OTHER_MACHINE)
        self.assertEqual(job.folders, (str(new_home / "Documents"),))
        self.assertIn("Pictures is not here", notes[0])
        self.assertEqual(
            (job.rules, job.ladder, job.agreed), (self.job.rules, READY["usual"], READY["usual"])
        )
        self.assertEqual(job.machine, OTHER_MACHINE)
        self.assertEqual(job.stores[0].store, id_of(self.store))
        self.assertEqual(load_jobs(self.here.here.settings), [job])
        with self.assertRaisesRegex(PersonError, "writes this history already"):
            taken_over(self.here, self.store, OTHER_MACHINE)

    def test_without_a_job_in_the_snapshot_its_folders_and_rules_are(self) -> None:
        self.snap(self.store, 0, OTHER_MACHINE, None, self.home / "Documents")
        job, _ = taken_over(self.here, self.store, OTHER_MACHINE, "Rescue")
        self.assertEqual((job.name, job.folders), ("Rescue", (str(self.home / "Documents"),)))
        self.assertEqual(job.rhythm.words(), Job(name="", folders=(), stores=()).rhythm.words())

    def test_a_job_that_this_version_does_not_understand_is_passed_over(self) -> None:
        request = msgspec.structs.replace(request_for(self.job, self.here.here), job="format = 99")
        self.captured(request, 0)
        job, _ = taken_over(self.here, self.store, OTHER_MACHINE)
        self.assertEqual(len(job.folders), 2)

    def test_the_newest_complete_one_of_each_machine_is_proposed(self) -> None:
        first = self.snap(self.store, 0, MACHINE, None, self.home / "Documents")
        gone = self.home / "Videos"
        request = msgspec.structs.replace(
            request_for(
                msgspec.structs.replace(self.job, machine=MACHINE, folders=(str(gone),)), self.here.here
            ),
            folders=(self.home / "Documents", gone),
        )
        self.captured(request, 1)
        self.snap(self.store, 2, OTHER_MACHINE, None, self.home / "Pictures")
        found = histories(self.store)
        self.assertEqual([one.machine for one in found], [MACHINE, OTHER_MACHINE], "the newest last")
        self.assertEqual((found[0].complete, found[0].snapshots), (first.id, 2))
        self.assertLess(found[0].complete_time, found[0].newest)

    def test_nothing_that_is_here_and_nobody_who_is_there(self) -> None:
        self.snapshot(self.job)
        with (
            mock.patch.dict(os.environ, {"HOME": str(self.folder / "bare")}),
            self.assertRaisesRegex(PersonError, "None of the folders"),
        ):
            taken_over(self.here, self.store, OTHER_MACHINE)
        with self.assertRaisesRegex(PersonError, "no snapshot of"):
            taken_over(self.here, self.store, MACHINE)

    def test_every_setting_goes_through_the_text(self) -> None:
        text = job_file_text(msgspec.structs.replace(self.job, stores=(), rhythm=Rhythm()), {}, "/home/x", {})
        self.assertNotIn("store =", text)
