"""What is remembered of runs: nothing is lost where threads and processes change it at once."""

from __future__ import annotations

import json
import os
import threading
from concurrent.futures import ThreadPoolExecutor

from good_tide.core.identifiers import JobId, StoreId
from good_tide.core.planning import JobRecord
from good_tide.operations.records.run_records import RunRecords
from tests.support.base import OFFICE, SOUND, GoodTideTest

_CHANGES = 150


class RunRecordsTest(GoodTideTest):
    def test_changes_of_several_at_once_are_all_kept(self) -> None:
        """Two threads with records of their own, as two processes have."""
        together = threading.Barrier(2)

        def work(job: JobId) -> None:
            records = RunRecords(self.state)
            together.wait(60)
            for _ in range(_CHANGES):
                records.update(job, lambda known: JobRecord(served=(known or JobRecord()).served + 1))
                records.note_away(job, 7)
                records.note_released(StoreId(job))

        with ThreadPoolExecutor(2) as threads:
            list(threads.map(work, (OFFICE, SOUND)))
        records = RunRecords(self.state)
        for job in (OFFICE, SOUND):
            known = records.record(job)
            self.assertEqual((known.served if known else 0, records.away_since(job)), (_CHANGES, 7))
            self.assertTrue(records.has_released(StoreId(job)))

    def test_threads_that_share_them_lose_nothing(self) -> None:
        records = RunRecords(self.state)

        def count(number: int) -> None:
            records.update(OFFICE, lambda known: JobRecord(served=(known or JobRecord()).served + 1))

        with ThreadPoolExecutor(4) as threads:
            list(threads.map(count, range(_CHANGES)))
        known = records.record(OFFICE)
        self.assertEqual(known.served if known else 0, _CHANGES)

    def test_nothing_is_written_where_nothing_changes(self) -> None:
        records = RunRecords(self.state)
        records.keep(OFFICE, JobRecord(served=1))
        file = self.state / "rhythm.json"
        before = file.stat().st_ino, file.read_bytes()
        records.keep(OFFICE, JobRecord(served=1))
        records.forget({OFFICE})
        records.note_away(OFFICE, 0)
        self.assertEqual((file.stat().st_ino, file.read_bytes()), before)
        self.assertEqual(json.loads(before[1])["books"][OFFICE]["served"], 1)

    def test_jobs_that_are_gone_are_forgotten(self) -> None:
        records = RunRecords(self.state)
        for job in (OFFICE, SOUND):
            records.keep(job, JobRecord(served=1))
            records.note_away(job, 5)
        records.forget({SOUND})
        self.assertEqual((records.record(OFFICE), records.away_since(OFFICE)), (None, 0))
        self.assertEqual((records.record(SOUND), records.away_since(SOUND)), (JobRecord(served=1), 5))

    def test_where_nothing_can_be_written_it_is_remembered_for_as_long_as_it_lives(self) -> None:
        self.state.mkdir()
        (self.state / "rhythm.json").mkdir()
        records = RunRecords(self.state)
        records.keep(OFFICE, JobRecord(served=3))
        self.assertEqual(records.record(OFFICE), JobRecord(served=3))
        os.rmdir(self.state / "rhythm.json")
