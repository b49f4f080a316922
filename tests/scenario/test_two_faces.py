"""One home for each use case: what the command line and the agent do leaves the same behind."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Protocol

import msgspec

from good_tide.agent.service import Agent
from good_tide.core.clock import SystemClock
from good_tide.core.errors import GoodTideError
from good_tide.core.happenings import Filter
from good_tide.core.ladder import parse_rung
from good_tide.core.settings import Job, MailServer
from good_tide.operations.context import Context, open_context
from good_tide.operations.workplace import load_jobs, save_job, this_workplace
from good_tide.protocol.agent_calls import WorkEnded
from good_tide.protocol.contract import Topic
from good_tide.protocol.journal_calls import KeepMailServer
from good_tide.protocol.schedule_calls import KeepLadder, PauseRhythm, RunDue, TakeSnapshot
from good_tide.protocol.setup_calls import NewStore, SetUpJob
from good_tide.protocol.store_calls import ReleaseSnapshots
from good_tide.system.keyrings import StandInKeyRing
from tests.support.agents import connect, serve
from tests.support.base import BY_HAND, HOUR, OTHER_MACHINE, GoodTideTest, create_store, open_store, program
from tests.support.stand_ins import quiet


class Face(Protocol):
    """What a person can ask of the program, through one of its faces."""

    def set_up(self, folder: Path, store: Path) -> None:
        """Make the job Office, and take its first snapshot."""

    def snapshot(self) -> str:
        """Take a snapshot of Office. What went wrong, in words; empty when nothing did."""

    def pause(self, on: bool) -> None:
        """Pause everything, or go on."""

    def keep_mail(self, sender: str) -> str:
        """Keep a mail server. What is wrong with it, in words."""

    def agree(self, rungs: tuple[str, ...]) -> None:
        """Keep a ladder for Office, see what it releases, and agree to that."""

    def release_first(self) -> None:
        """Release the first snapshot of Office, and give its room back."""

    def run_due(self) -> str:
        """Run what is due. What became of it, in words."""


class Command:
    """The command line."""

    def _ran(self, *words: str | Path) -> str:
        done = program(*words, "--json")
        if done.returncode in (0, 1):
            return ""
        said = json.loads(done.stderr.splitlines()[-1])
        return f"{said['error']}. {said['advice']}."

    def set_up(self, folder: Path, store: Path) -> None:
        self._ran("job", "add", "Office", "--folder", folder, "--store", store, "--unencrypted")
        self._ran("rhythm", "Office", "--by-hand")
        self._ran("snapshot", "Office")

    def snapshot(self) -> str:
        return self._ran("snapshot", "Office")

    def pause(self, on: bool) -> None:
        self._ran(*(("pause", "--for", "2h") if on else ("resume",)))

    def keep_mail(self, sender: str) -> str:
        return self._ran("mail", "--server", "mail.example.org", "--from", sender)

    def agree(self, rungs: tuple[str, ...]) -> None:
        self._ran("ladder", "Office", *(word for rung in rungs for word in ("--rung", rung)))
        self._ran("thin", "Office", "--yes")

    def release_first(self) -> None:
        store = load_jobs(this_workplace().settings)[0].stores[0].path
        first = open_store(Path(store), None).snapshots()[0][0].id
        self._ran("release", store, first)
        self._ran("sweep", store)

    def run_due(self) -> str:
        return str(json.loads(program("run-due", "--json").stdout)["words"])


class ByAgent:
    """The agent, as the window asks it."""

    def __init__(self, test: GoodTideTest) -> None:
        here = this_workplace()
        here.settings.mkdir(parents=True, exist_ok=True)
        serve(test, Agent(here, SystemClock(), environment=quiet(here.settings), ring=StandInKeyRing()))
        self._client, self._settings = connect(test, here, Topic.WORK), here.settings

    def _job(self) -> Job:
        return load_jobs(self._settings)[0]

    def _ended(self) -> WorkEnded:
        return next(note for note in self._client.notes() if isinstance(note, WorkEnded))

    def set_up(self, folder: Path, store: Path) -> None:
        self._client.ask(SetUpJob("Office", (str(folder),), (), NewStore(str(store))))
        self._ended()
        save_job(self._settings, msgspec.structs.replace(self._job(), rhythm=BY_HAND))

    def snapshot(self) -> str:
        try:
            self._client.ask(TakeSnapshot(self._job().id))
        except GoodTideError as error:
            return str(error)
        return self._ended().error

    def pause(self, on: bool) -> None:
        self._client.ask(PauseRhythm(SystemClock().now() + 2 * HOUR if on else 0))

    def keep_mail(self, sender: str) -> str:
        try:
            self._client.ask(KeepMailServer(MailServer(host="mail.example.org", sender=sender)))
        except GoodTideError as error:
            return str(error)
        return ""

    def agree(self, rungs: tuple[str, ...]) -> None:
        ladder = msgspec.structs.replace(self._job().ladder, rungs=tuple(parse_rung(rung) for rung in rungs))
        self._client.ask(KeepLadder(self._job().id, ladder, agreed=True))
        self.snapshot()

    def release_first(self) -> None:
        job = self._job()
        first = open_store(Path(job.stores[0].path), None).snapshots()[0][0].id
        self._client.ask(ReleaseSnapshots(job.id, job.stores[0].id, (first,)))
        self._ended()

    def run_due(self) -> str:
        self._client.ask(RunDue(None))
        return self._ended().words


class SameThroughBothTest(GoodTideTest):
    """Run through both faces, by the classes below."""

    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "first")
        self.store = self.folder / "store"

    def known(self) -> Context:
        made = open_context(this_workplace())
        self.addCleanup(made.journal.close)
        return made

    def told(self) -> list[str]:
        return [event.what for event in self.known().journal.events(Filter())]

    def face(self) -> Face:
        """The face that this class is for."""
        raise NotImplementedError

    def test_a_store_is_made_known_and_noted(self) -> None:
        face = self.face()
        face.set_up(self.work, self.store)
        job = self.known_job()
        self.assertEqual(job.stores[0].store, open_store(self.store, None).header.store)
        self.assertTrue(job.stores[0].keys)
        self.assertIn(f"A store was made in {self.store}", self.told())
        run = self.known().journal.runs(job.id)[0]
        self.assertEqual((run.result, run.occasion, run.files), ("done", "hand", 1))
        self.assertTrue(self.known().records.record(job.id))

    def known_job(self) -> Job:
        return load_jobs(this_workplace().settings)[0]

    def test_another_store_in_its_place_is_not_touched_and_told_in_the_same_words(self) -> None:
        face = self.face()
        face.set_up(self.work, self.store)
        self.store.rename(self.folder / "away")
        create_store(self.store, None)
        face.snapshot()
        self.assertIn(f"The store in {self.store} is another one than that of this job", self.told())
        self.assertEqual(open_store(self.store, None).snapshot_ids(), [])

    def test_pauses_are_kept_and_noted_and_so_is_going_on(self) -> None:
        face = self.face()
        face.pause(True)
        self.assertGreater(self.known().records.paused_until, SystemClock().now())
        face.pause(False)
        self.assertEqual(self.known().records.paused_until, 0)
        self.assertEqual(self.told()[:2], ["The pause was ended by hand", "Everything was paused by hand"])

    def test_who_sends_reports_has_to_be_an_address(self) -> None:
        face = self.face()
        self.assertIn("is no address", face.keep_mail("nobody in particular"))
        self.assertEqual(face.keep_mail("office@example.org"), "")

    def test_a_ladder_that_is_agreed_to_releases_and_is_noted(self) -> None:
        face = self.face()
        face.set_up(self.work, self.store)
        for content in ("second", "third", "fourth"):
            self.write("plan.txt", content)
            self.assertEqual(face.snapshot(), "")
        face.agree(("forever year",))
        job = self.known_job()
        self.assertEqual(job.agreed, job.ladder)
        left = len(open_store(self.store, None).snapshot_ids())
        self.assertLess(left, 4)
        self.assertTrue(any("released by the ladder" in words for words in self.told()), self.told())

    def test_what_is_given_back_is_noted(self) -> None:
        face = self.face()
        face.set_up(self.work, self.store)
        for size in (500_000, 700_000):
            self.write("plan.txt", bytes(range(256)) * (size // 256))
            self.assertEqual(face.snapshot(), "")
        face.release_first()
        self.assertGreater(self.known().records.swept(open_store(self.store, None).header.store), 0)
        self.assertTrue(any(words.startswith("1 snapshot released") for words in self.told()), self.told())

    def test_the_last_runs_of_the_day_are_said_in_the_same_words(self) -> None:
        face = self.face()
        face.set_up(self.work, self.store)
        self.assertEqual(face.run_due(), "Nothing was due")

    def test_another_machine_in_the_same_store_does_no_harm(self) -> None:
        face = self.face()
        face.set_up(self.work, self.store)
        self.snap(open_store(self.store, None), 0, OTHER_MACHINE)
        self.assertEqual(face.snapshot(), "", "another machine's history is its own")


class CommandTest(SameThroughBothTest):
    def face(self) -> Face:
        return Command()

    def test_other_settings_have_a_journal_of_their_own(self) -> None:
        other = self.folder / "other settings"
        program(
            "--settings",
            other,
            "job",
            "add",
            "Demo",
            "--folder",
            self.work,
            "--store",
            self.store,
            "--unencrypted",
        )
        program("--settings", other, "pause")
        self.assertEqual(self.told(), [])
        here = this_workplace(other)
        made = open_context(here)
        self.addCleanup(made.journal.close)
        self.assertEqual(made.journal.events(Filter())[0].what, "Everything was paused by hand")


class AgentTest(SameThroughBothTest):
    def face(self) -> Face:
        return ByAgent(self)


del SameThroughBothTest
