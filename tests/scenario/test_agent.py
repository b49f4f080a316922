"""The agent over its socket, and the timeline's model."""

from __future__ import annotations

import os
import random
import socket
import threading
from pathlib import Path
from typing import Any
from unittest import mock

import msgspec

from good_tide.agent.service import Agent
from good_tide.core.clock import SetClock
from good_tide.core.comparing import Counted
from good_tide.core.coverage import Coverage, Covered
from good_tide.core.errors import GoodTideError, PersonError, PlaceError
from good_tide.core.happenings import Filter
from good_tide.core.history import KnownHistory, TidePoint, known_parts
from good_tide.core.identifiers import HistoryId, JobId, Nanoseconds, SnapshotId
from good_tide.core.job_facts import StoreState
from good_tide.core.name_query import NameQuery, parse_query
from good_tide.core.previews import TextPreview
from good_tide.core.restoring import Action
from good_tide.core.rules import parse_rule
from good_tide.core.settings import Job, StoreRef
from good_tide.core.tide import NO_TIDE
from good_tide.operations.workplace import Workplace, load_jobs, save_job
from good_tide.protocol.agent_calls import (
    HistoryChanged,
    JobName,
    Overview,
    PauseWork,
    ReadOverview,
    StopWork,
    WorkEnded,
)
from good_tide.protocol.client import agent_client
from good_tide.protocol.contract import Answer, Call, Topic
from good_tide.protocol.coverage_calls import (
    AskWhy,
    KeepCoverage,
    ReadSurveyedFolder,
    SurveyFolders,
    SurveyView,
)
from good_tide.protocol.history_calls import FindNames, ReadFolder
from good_tide.protocol.journal_calls import ReadJournal
from good_tide.protocol.restore_calls import PickedItem, PlanRestore, Restore, UndoRestore
from good_tide.protocol.schedule_calls import LookNow, TakeSnapshot
from good_tide.protocol.setup_calls import LookAtDisks
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.store_calls import Unlock
from good_tide.protocol.version_calls import (
    Beside,
    MakeCopy,
    OpenWith,
    ReadChanges,
    ReadComparison,
    ReadDetail,
    ReadGlimpse,
)
from good_tide.protocol.wire import Request, call_line
from good_tide.storage.keyslots import change_passphrase
from good_tide.system.disk_choice import STAND_IN_FILE
from good_tide.system.stand_in_disks import StandIn, StandInDisks
from tests.support.agents import connect, serve
from tests.support.base import (
    BY_HAND,
    CHEAP,
    HOUR,
    MACHINE,
    OFFICE,
    OTHER_MACHINE,
    PASSPHRASE,
    STUDIO,
    T0,
    GoodTideTest,
    open_store,
)
from tests.support.stand_ins import quiet


class AgentTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "first\n")
        self.write("sub/list.txt", "list\n")
        store = self.new_store()
        self.snap(store, 0)
        self.write("plan.txt", "second\n")
        self.snap(store, 1)
        self.settings = self.folder / "settings"
        self.secret = self.folder / "secret"
        self.secret.write_text(PASSPHRASE)
        self.secret.chmod(0o600)
        job = Job(
            id=OFFICE,
            name="Office",
            folders=(str(self.work),),
            stores=(StoreRef(path=store.place.title, name="Pier"),),
            machine=MACHINE,
            passphrase_file=str(self.secret),
            rhythm=BY_HAND,
        )
        save_job(self.settings, job)
        self.assertEqual(load_jobs(self.settings), [job])
        self.here = Workplace(
            self.cache, self.state, self.folder, self.settings, self.folder / "run", MACHINE
        )
        self.agent = self.start()

    def start(self) -> Agent:
        clock = SetClock(Nanoseconds(T0 + 5 * HOUR))
        self.opened: list[Path] = []
        surroundings = quiet(self.settings, open_with=self.opened.append)
        agent = serve(self, Agent(self.here, clock, environment=surroundings))
        self.client = connect(self, self.here, *Topic)
        return agent

    def ask(self, call: Call[Answer]) -> Answer:
        return self.client.ask(call)

    def refused(self, said: str, call: Call[Any], kind: type[GoodTideError] = PersonError) -> None:
        with self.assertRaises(kind) as caught:
            self.client.ask(call)
        self.assertIn(said, str(caught.exception))

    def overview(self, job: JobId = OFFICE) -> Overview:
        return self.ask(ReadOverview(job))

    def wait(self) -> WorkEnded:
        return next(note for note in self.client.notes() if isinstance(note, WorkEnded))

    def picked(self, name: str, point: TidePoint) -> ReadDetail:
        return ReadDetail(OFFICE, os.fsencode(self.work / name), point.name, point.time)

    def test_looking_back(self) -> None:
        overview = self.overview()
        self.assertEqual((overview.state, len(overview.tide)), (StoreState.READY, 2))
        self.assertEqual(overview.tide[1].changed, 1)
        view = self.ask(ReadFolder(OFFICE, os.fsencode(self.work)))
        self.assertEqual([line.name for line in view.lifelines], [b"sub", b"plan.txt"])
        detail = self.ask(self.picked("plan.txt", overview.tide[0]))
        assert isinstance(detail.preview, TextPreview) and detail.with_disk is not None
        self.assertEqual(detail.preview.text, "first\n")
        self.assertEqual(detail.with_disk.words, "Differs from what is on the disk now")
        asked = self.picked("plan.txt", overview.tide[1])
        compared = self.ask(ReadComparison(OFFICE, asked.path, asked.snapshot, asked.time, Beside.BEFORE))
        self.assertIn("1 line only here, 1 only there", compared.comparison.words)
        glimpse = self.ask(ReadGlimpse(OFFICE, asked.path, asked.snapshot, asked.time))
        assert isinstance(glimpse, TextPreview)
        names = tuple((asked.path, point.name) for point in overview.tide)
        self.assertEqual(self.ask(ReadChanges(OFFICE, names)).changes[1], Counted(1, 1))
        copy = Path(self.ask(MakeCopy(OFFICE, asked.path, overview.tide[0].name)))
        self.assertEqual((copy.read_text(), copy.stat().st_mode & 0o777), ("first\n", 0o400))
        self.ask(OpenWith(OFFICE, asked.path, overview.tide[0].name))
        self.assertEqual([file.read_text() for file in self.opened], ["first\n"])
        (found,) = self.ask(FindNames(OFFICE, NameQuery(parse_query("LIST")), 10)).findings.folders
        self.assertEqual((found.path, found.lines[0].name), (os.fsencode(self.work / "sub"), b"list.txt"))
        journal = self.ask(ReadJournal(Filter(job=OFFICE)))
        self.assertEqual([run.result for run in journal.runs], ["done", "done"])

    def test_of_history_only_what_is_new_is_sent(self) -> None:
        first = self.overview()
        self.assertEqual((first.kept, len(first.tide)), (0, 2))
        known = known_parts(first.tide.name)
        again = self.ask(ReadOverview(OFFICE, known))
        self.assertEqual((again.history, again.kept, again.tide), (first.history, 2, NO_TIDE))
        taken = self.snap(open_store(self.folder / "store", PASSPHRASE), 3)
        newer = self.ask(ReadOverview(OFFICE, known))
        self.assertEqual((newer.kept, [point.name for point in newer.tide]), (2, [taken.id]))
        other = self.ask(ReadOverview(OFFICE, (KnownHistory(2, HistoryId("another")),)))
        self.assertEqual((other.kept, len(other.tide)), (0, 3))

    def test_snapshot_restore_and_undo(self) -> None:
        self.write("plan.txt", "third\n")
        self.ask(TakeSnapshot(OFFICE))
        self.assertEqual(self.wait().error, "")
        first = self.overview().tide[0]
        item = PickedItem(os.fsencode(self.work / "plan.txt"), first.name, first.time)
        plan = self.ask(PlanRestore(OFFICE, (item,)))
        self.assertEqual(plan.counts, {Action.REPLACE: 1})
        self.ask(Restore(OFFICE, plan.plan))
        result = self.wait().restore
        assert result is not None
        self.assertEqual((self.work / "plan.txt").read_text(), "first\n")
        self.refused("no longer current", Restore(OFFICE, plan.plan))
        self.ask(UndoRestore(result.undo))
        self.wait()
        self.assertEqual((self.work / "plan.txt").read_text(), "third\n")

    def test_pause_and_stop(self) -> None:
        for number in range(8):
            self.write(f"{number}.bin", random.Random(number).randbytes(20_000_000))
        self.ask(TakeSnapshot(OFFICE))
        self.ask(PauseWork())
        work = self.overview().work
        assert work is not None
        self.assertTrue(work.paused)
        self.refused("being done already", TakeSnapshot(OFFICE), PlaceError)
        self.ask(StopWork())
        self.assertIn("Stopped", self.wait().words)
        self.assertEqual(len(self.overview().tide), 2)

    def test_an_agent_to_which_nobody_ever_comes_ends(self) -> None:
        self.agent.end()
        with mock.patch("good_tide.agent.service._LINGER_SECONDS", 0.1):
            other = Agent(self.here, SetClock(Nanoseconds(T0)), True, environment=quiet(self.settings))
            thread = threading.Thread(target=other.run, daemon=True)
            thread.start()
            thread.join(20)
        self.assertFalse(thread.is_alive())

    def test_a_second_agent_is_refused_and_nonsense_does_no_harm(self) -> None:
        with self.assertRaisesRegex(PlaceError, "already running"):
            Agent(self.here, SetClock(Nanoseconds(T0)), environment=quiet(self.settings))
        with socket.socket(socket.AF_UNIX) as plain, plain.makefile("rb") as lines:
            plain.connect(str(agent_socket(self.here.runtime, self.settings)))
            plain.sendall(b"nonsense\n")
            for method, params, code in (
                ("no-such-thing", b"{}", -32601),
                ("read-detail", b'{"job": "0ff1ce", "path": "!!", "snapshot": 5}', 2),
                ("read-folder", b"[]", 2),
            ):
                plain.sendall(msgspec.json.encode(Request(method, msgspec.Raw(params), 1)) + b"\n")
                self.assertEqual(msgspec.json.decode(lines.readline())["error"]["code"], code, method)
        self.refused("no longer kept", ReadDetail(OFFICE, os.fsencode(self.work), SnapshotId("99")))
        self.assertEqual(Path(agent_socket(self.here.runtime, self.settings)).stat().st_mode & 0o777, 0o600)

    def test_snapshots_taken_by_others_are_noticed(self) -> None:
        self.snap(open_store(self.folder / "store", PASSPHRASE), 3)
        self.assertEqual(len(self.overview().tide), 3)

    def test_looking_again_with_an_outdated_passphrase_is_no_further_try(self) -> None:
        store = open_store(self.folder / "store", PASSPHRASE)
        change_passphrase(store.place, store.keys, PASSPHRASE, "the one that holds now", cost=CHEAP)
        self.agent.end()
        self.agent = self.start()
        for _ in range(8):
            self.assertIs(self.overview().state, StoreState.LOCKED)
        self.ask(Unlock(OFFICE, "the one that holds now"))
        self.assertIs(self.overview().state, StoreState.READY)

    def test_wrong_passphrases_slow_down(self) -> None:
        self.secret.unlink()
        self.agent.end()
        self.agent = self.start()
        for _ in range(3):
            self.refused("does not open", Unlock(OFFICE, "guess"), PlaceError)
        self.refused("Too many", Unlock(OFFICE, PASSPHRASE), PlaceError)

    def test_a_store_opens_though_its_passphrase_cannot_be_remembered(self) -> None:
        self.secret.unlink()
        self.agent.end()
        self.agent = self.start()
        refusing = mock.patch.object(self.agent.context.ring, "remember", side_effect=PlaceError("No ring"))
        with refusing:
            answer = self.ask(Unlock(OFFICE, PASSPHRASE, remember=True))
        self.assertEqual(answer.not_remembered, "No ring.")
        self.assertIs(self.overview().state, StoreState.READY)

    def test_a_request_that_takes_long_does_not_hold_up_the_others(self) -> None:
        release = threading.Event()
        self.addCleanup(release.set)
        with (
            mock.patch("good_tide.agent.setup_handlers.look_at", lambda *unused: release.wait(120) and []),
            agent_client(agent_socket(self.here.runtime, self.settings)) as other,
        ):
            assert other is not None
            other._socket.sendall(call_line(LookAtDisks(), 7))
            other._socket.sendall(call_line(ReadOverview(OFFICE), 8))
            self.assertEqual(other._next().id, 8)
            release.set()
            self.assertEqual(other._next().id, 7)

    def test_surveys_answer_the_latest_question_and_say_what_is_wrong_with_a_rule(self) -> None:
        for number in range(3):
            self.write(f"sub/film {number}.mp4", "x" * 1000)
        folders = (str(self.work),)
        self.ask(SurveyFolders(OFFICE, 1, folders, ("exclude kind sound",)))
        self.ask(SurveyFolders(OFFICE, 2, folders, ("exclude kind video", "exclude path film*")))
        view = next(
            note
            for note in self.client.notes()
            if isinstance(note, SurveyView) and note.number == 2 and note.done
        )
        self.assertEqual((view.files, view.out_files, view.out_size, view.stay), (2, 3, 3000, 0))
        self.assertEqual([(rule.files, rule.hidden_by) for rule in view.rules], [(3, None), (0, 0)])
        self.assertEqual(
            [(share.path[-4:], share.state, share.deeper) for share in view.folders],
            [(b"work", Covered.PARTLY, True), (b"/sub", Covered.PARTLY, False)],
        )
        inside = self.ask(ReadSurveyedFolder(os.fsencode(self.work)))
        self.assertEqual([share.out_files for share in inside], [3])
        self.refused("Line 2", SurveyFolders(OFFICE, 3, folders, ("exclude path a", "exclude larger big")))
        film = os.fsencode(self.work / "sub" / "film 1.mp4")
        self.assertIn("Out: rule 1", self.ask(AskWhy(OFFICE, film, folders, ("exclude kind video",))).words)
        why = AskWhy(OFFICE, b"~/sub", folders, ("exclude path ~/sub/",), str(self.work))
        self.assertIn("Out: rule 1", self.ask(why).words)
        self.refused("No file", AskWhy(OFFICE, b"", (), ()))

    def test_what_is_told_by_itself_goes_to_who_asked(self) -> None:
        with agent_client(agent_socket(self.here.runtime, self.settings)) as other:
            assert other is not None
            other.listen(Topic.HISTORY)
            folders = (str(self.work),)
            self.ask(SurveyFolders(OFFICE, 1, folders))
            other.ask(SurveyFolders(OFFICE, 5, folders, ("exclude path sub/",)))
            mine = next(note for note in self.client.notes() if isinstance(note, SurveyView) and note.done)
            theirs = next(note for note in other.notes() if isinstance(note, SurveyView) and note.done)
            self.assertEqual((mine.number, mine.files), (1, 2))
            self.assertEqual((theirs.number, theirs.files), (5, 1))
            self.assertEqual(len(self.ask(ReadSurveyedFolder(os.fsencode(self.work)))), 1)
            self.ask(TakeSnapshot(OFFICE))
            self.assertEqual(self.wait().error, "")
            save_job(self.settings, msgspec.structs.replace(load_jobs(self.settings)[0], noise="trouble"))
            self.ask(LookNow())
            self.assertIsInstance(next(other.notes()), HistoryChanged, "of work it is told nothing")

    def test_rules_that_would_leave_out_what_snapshots_hold_are_counted(self) -> None:
        self.overview()
        session = self.agent.sessions.of(OFFICE)
        self.assertEqual(session.ruled_out(Coverage([parse_rule("exclude path *.txt")])), 2)
        both = Coverage([parse_rule("include path sub/"), parse_rule("exclude path *.txt")])
        self.assertEqual(session.ruled_out(both), 1)
        self.ask(KeepCoverage(OFFICE, (str(self.work),), ("exclude path sub/",)))
        self.assertEqual(load_jobs(self.settings)[0].rules, ("exclude path sub/",))
        self.ask(TakeSnapshot(OFFICE))
        self.assertEqual(self.wait().error, "")
        overview = self.overview()
        self.assertEqual((overview.tide[-1].files, overview.tide[-1].removed), (1, 1))
        self.assertEqual(overview.rules, ("exclude path sub/",))
        journal = self.ask(ReadJournal(Filter(job=OFFICE)))
        self.assertIn(
            ("Coverage was changed", ("New rule: exclude path sub/",)),
            [(event.what, event.detail) for event in journal.events],
        )

    def test_a_share_that_hangs_is_away_until_it_answers(self) -> None:
        rack = StandInDisks(self.folder / "rack")
        share = rack.add(StandIn(name="harbour", kind="network", file_system="cifs"))
        (self.folder / "store").rename(share / "store")
        ref = StoreRef(path=str(share / "store"), name="harbour", disk="share:harbour", inside="store")
        save_job(
            self.settings,
            Job(
                id=OFFICE,
                name="Office",
                folders=(str(self.work),),
                stores=(ref,),
                machine=MACHINE,
                passphrase_file=str(self.secret),
            ),
        )
        (self.settings / STAND_IN_FILE).write_text(str(rack.root))
        self.agent.end()
        with mock.patch("good_tide.operations.places.whereabouts.probe_apart", return_value=None) as probe:
            self.agent = self.start()
            for _ in range(3):
                self.assertIs(self.overview().state, StoreState.AWAY)
            self.assertEqual(probe.call_count, 1, "the answer holds for a while")
        with mock.patch("good_tide.operations.places.whereabouts._ANSWER_HOLDS", 0.0):
            self.assertIs(self.overview().state, StoreState.READY)

    def test_several_jobs_and_the_choice_between_them(self) -> None:
        other = self.folder / "other"
        other.mkdir()
        (other / "x").write_text("x")
        save_job(
            self.settings,
            Job(
                id=STUDIO,
                name="Studio",
                folders=(str(other),),
                stores=(StoreRef(path=str(self.folder / "store"), name="Pier"),),
                machine=OTHER_MACHINE,
                passphrase_file=str(self.secret),
            ),
        )
        self.agent.end()
        self.agent = self.start()
        overview = self.overview(JobId(""))
        self.assertEqual(overview.jobs, (JobName(OFFICE, "Office"), JobName(STUDIO, "Studio")))
        self.assertEqual((overview.name, overview.state), ("Office", StoreState.READY))
        overview = self.overview(STUDIO)
        self.assertEqual((overview.name, overview.state), ("Studio", StoreState.EMPTY))
        self.assertEqual(overview.machine, "laptop")
        self.refused("no longer there", TakeSnapshot(JobId("none")))

    def test_disk_away_and_locked(self) -> None:
        store = Path(self.folder / "store")
        store.rename(self.folder / "elsewhere")
        self.assertIs(self.overview().state, StoreState.AWAY)
        (self.folder / "elsewhere").rename(store)
        self.secret.unlink()
        self.assertIs(self.overview().state, StoreState.LOCKED)
        self.refused("does not open", Unlock(OFFICE, "wrong"), PlaceError)
        self.ask(Unlock(OFFICE, PASSPHRASE))
        self.assertIs(self.overview().state, StoreState.READY)
