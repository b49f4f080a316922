"""Jobs on disk: no job's settings are ever written over by another's, and a renamed job goes on."""

from __future__ import annotations

import json
import os
import shutil
import threading
from datetime import datetime
from pathlib import Path
from typing import Any

from good_tide.core.clock import SECOND, SetClock
from good_tide.core.errors import PersonError
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.planning import JobRecord
from good_tide.core.settings import Job
from good_tide.operations.jobs.changing import rename
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.run_records import RunRecords
from good_tide.operations.reporting.post import _file_name
from good_tide.operations.workplace import add_job, load_jobs, remove_job, save_job
from good_tide.system.jobs import load_jobs as read_jobs
from tests.support.base import REPOSITORY, T0, GoodTideTest, program


def with_moments(journal: str) -> dict[str, Any]:
    """A journal as it is printed, with times that are the same in every zone."""
    read = dict(json.loads(journal))
    for row in (*read["events"], *read["runs"]):
        for time in row.keys() & {"time", "began"}:
            row[time] = datetime.fromisoformat(row[time]).timestamp()
    return read


_FILES = {"Office": "office", "Lights": "sound"}


class JobFileTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.settings = self.folder / "settings"

    def job(self, name: str, *folders: str) -> Job:
        return Job(name=name, folders=folders or (f"/home/{name}",), stores=())

    def test_names_that_look_alike_as_files_are_jobs_of_their_own(self) -> None:
        names = [
            "Office",
            "Office!",
            "office?",
            "Büro",
            "büro (2)",
            "!!!",
            "???",
            "a/b",
            "a b",
            "A-B",
            "x" * 300,
            "x" * 301,
            ".hidden",
            "job",
        ]
        jobs = [add_job(self.settings, self.job(name)) for name in names]
        self.assertEqual(len({job.id for job in jobs}), len(names))
        self.assertEqual({job.name: job for job in load_jobs(self.settings)}, {job.name: job for job in jobs})
        changed = self.job("Office!", "/elsewhere")
        save_job(self.settings, changed)
        self.assertEqual(len(load_jobs(self.settings)), len(names))
        remove_job(self.settings, next(job.id for job in load_jobs(self.settings) if job.name == "Office!"))
        self.assertEqual({job.name for job in load_jobs(self.settings)}, set(names) - {"Office!"})

    def test_one_name_is_taken_once_however_many_ask_for_it_at_once(self) -> None:
        added: list[int] = []

        def add(number: int) -> None:
            try:
                add_job(self.settings, self.job("OFFICE" if number % 2 else "Office", f"/{number}"))
                added.append(number)
            except PersonError:
                pass

        threads = [threading.Thread(target=add, args=(number,)) for number in range(12)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(len(added), 1)
        self.assertEqual([job.folders for job in load_jobs(self.settings)], [(f"/{added[0]}",)])

    def test_by_command(self) -> None:
        for name in ("Office", "Office!"):
            ended = program(
                "job", "add", name, "--folder", self.work, "--store", self.folder / name, "--unencrypted"
            )
            self.assertEqual(ended.returncode, 0, ended.stderr)
        again = program(
            "job", "add", "OFFICE", "--folder", self.work, "--store", self.folder / "third", "--unencrypted"
        )
        self.assertEqual(again.returncode, 2)
        self.assertFalse((self.folder / "third").exists())
        renamed = program(
            "job",
            "change",
            "Office!",
            "--rename",
            "Office",
            "--add-store",
            self.folder / "fourth",
            "--unencrypted",
        )
        self.assertEqual(renamed.returncode, 2)
        self.assertFalse((self.folder / "fourth").exists(), "nothing is made for a name that is taken")
        listed = json.loads(program("job", "list", "--json").stdout)["jobs"]
        self.assertEqual(
            [(job["name"], Path(job["stores"][0]["path"]).name) for job in listed],
            [("Office", "Office"), ("Office!", "Office!")],
        )

    def test_a_renamed_job_goes_on_under_its_name_everywhere(self) -> None:
        store = self.folder / "store"
        for name in ("Office", "Sound"):
            self.assertEqual(
                program(
                    "job", "add", name, "--folder", self.work, "--store", store, "--unencrypted"
                ).returncode,
                0,
            )
            self.assertEqual(program("snapshot", name).returncode, 0)
        self.assertEqual(program("job", "change", "Sound", "--rename", "Studio").returncode, 0)
        self.write("new.txt", "new")
        self.assertEqual(program("snapshot", "Studio").returncode, 0)
        fleet = json.loads(program("fleet", store, "--json").stdout)
        self.assertNotIn("Sound", json.dumps(fleet))
        history = json.loads(program("history", "--store", store, "--json").stdout)["snapshots"]
        self.assertEqual(history[-1]["machine"].rpartition(" · ")[2], "Studio")
        self.assertIn("Studio", program("job", "list").stdout)
        self.assertNotIn(
            "Sound",
            json.dumps(
                json.loads(program("journal", "--job", "Studio", "--runs", "--json").stdout).get("runs", [])
            ),
        )
        self.assertEqual(program("status", "Sound").returncode, 2)

    def test_reports_of_jobs_that_look_alike_are_files_of_their_own(self) -> None:
        names = ["Office", "Office!", "office?", "Sound"]
        files = [_file_name("desk", name, names) for name in names]
        self.assertEqual((len(set(files)), files[0], files[3]), (4, "desk-office", "desk-sound"))

    def test_what_is_kept_of_a_job_stays_with_it_whatever_it_is_called(self) -> None:
        context = self.context()
        before = add_job(self.settings, self.job("Sound"))
        context.records.keep(before.id, JobRecord(served=T0))
        context.journal.add("good", before, "a run")
        renamed = rename(context, before, "Studio")
        self.assertEqual((renamed.id, renamed.former), (before.id, ("Sound",)))
        self.assertEqual(context.records.record(before.id), JobRecord(served=T0))
        self.assertEqual([job.name for job in load_jobs(self.settings)], ["Studio"])
        events = context.journal.events(Filter(job=before.id))
        self.assertEqual({(event.job, event.name) for event in events}, {(before.id, "Studio")})

    def test_settings_of_earlier_versions_are_taken_over(self) -> None:
        frozen = REPOSITORY / "tests" / "frozen" / "settings-0.1"
        jobs = {job.name: job for job in read_jobs(frozen)}
        self.assertEqual(set(jobs), {"Office", "Sound"})
        self.assertEqual(
            (jobs["Office"].stores[0].name, jobs["Sound"].machine.name if jobs["Sound"].machine else ""),
            ("Pier", "desk · Sound"),
        )

    def test_what_an_earlier_version_kept_by_names_is_taken_over(self) -> None:
        """Two jobs, one of them renamed, with their runs, events, gaps and troubles that were told."""
        frozen = REPOSITORY / "tests" / "frozen" / "settings-0.1-records"
        settings = Path(os.environ["XDG_CONFIG_HOME"]) / "good-tide"
        state = Path(os.environ["XDG_STATE_HOME"]) / "good-tide"
        shutil.copytree(frozen / "jobs", settings / "jobs")
        shutil.copytree(frozen / "state", state)
        kept = with_moments((frozen / "journal.json").read_text())
        for _ in range(2):
            shown = program("journal", "--json")
            self.assertEqual(with_moments(shown.stdout), kept, "and the second time as well")
        jobs = {job.name: job for job in read_jobs(settings)}
        for name, job in jobs.items():
            self.assertIn(f'id = "{job.id}"', (settings / "jobs" / f"{_FILES[name]}.toml").read_text())
        office, lights = jobs["Office"].id, jobs["Lights"].id
        records = RunRecords(state)
        self.assertEqual(set(json.loads((state / "rhythm.json").read_text())["books"]), {office, lights})
        self.assertTrue(all(records.record(job) for job in (office, lights)))
        journal = Journal(state, SetClock(Nanoseconds(1_795_722_000 * SECOND)))
        self.addCleanup(journal.close)
        self.assertEqual(
            [(one.path, one.runs) for one in journal.left_out(office)], [(b"/home/ada/Letters", 2)]
        )
        self.assertFalse(journal.is_news(f"{lights}/failing"), "it was told already")
        self.assertFalse(journal.is_news(f"store/{office}/Pier/The disk is full"))
        self.assertFalse(journal.is_news(f"watch/{lights}"))
        self.assertTrue(journal.is_news(f"watch/{office}"), "it never was")
        self.assertEqual([run.name for run in journal.runs(lights)], ["Lights"] * 3)
        self.assertEqual(records.paused_until, 1_795_729_190_239_917_016)
