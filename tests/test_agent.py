"""The agent over its socket, and the timeline's model."""

from __future__ import annotations

import os
import random
import socket
import threading
from collections import deque
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from typing import Any
from unittest import mock

import msgspec

from good_tide.agent.service import Agent
from good_tide.core.clock import SetClock
from good_tide.core.coverage import Coverage
from good_tide.core.errors import PlaceError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.rules import parse_rule
from good_tide.core.settings import Job, StoreRef
from good_tide.desktop.painting.time_axis import TimeAxis
from good_tide.desktop.timeline.model import TimelineModel
from good_tide.operations.stores.disks import STAND_IN_FILE
from good_tide.operations.stores.opening import synced_catalog
from good_tide.operations.workplace import Workplace, load_jobs, save_job
from good_tide.protocol.messages import (
    Detail,
    Finished,
    FolderShare,
    FolderView,
    Found,
    Overview,
    PickedItem,
    PlanView,
    Request,
    SurveyView,
    encode,
    raw,
)
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.upkeep_messages import JournalView
from good_tide.storage.keyslots import change_passphrase
from good_tide.storage.store import open_store
from good_tide.system.stand_in_disks import StandIn, StandInDisks
from tests.base import BY_HAND, CHEAP, HOUR, MACHINE, OTHER_MACHINE, PASSPHRASE, T0, GoodTideTest
from tests.stand_ins import quiet


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
        job = Job(
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
        agent = Agent(
            self.settings, self.here, SetClock(Nanoseconds(T0 + 5 * HOUR)), around=quiet(self.settings)
        )
        thread = threading.Thread(target=agent.run)
        thread.start()
        self.client = socket.socket(socket.AF_UNIX)
        self.client.connect(str(agent_socket(self.here.runtime, self.settings)))
        self.lines = self.client.makefile("rb")
        self.notes: deque[dict[str, Any]] = deque()
        client, lines = self.client, self.lines
        self.addCleanup(lambda: (agent.end(), thread.join(), lines.close(), client.close()))
        return agent

    job = "Office"

    def ask(self, method: str, kind: object = None, **params: object) -> object:
        self.client.sendall(encode(Request(method, raw(params), 1, self.job)))
        reply = self.reply()
        if "error" in reply:
            return reply["error"]
        return msgspec.convert(reply.get("result"), kind) if kind is not None else reply.get("result")

    def reply(self) -> dict[str, Any]:
        """The next reply; notifications that come before it are kept."""
        while "id" not in (reply := msgspec.json.decode(self.lines.readline())):
            self.notes.append(reply)
        return dict(reply)

    def note(
        self, method: str, fits: Callable[[dict[str, Any]], bool] = lambda params: True
    ) -> dict[str, Any]:
        """The next notification that fits; those that came while a reply was awaited count."""
        while True:
            note = self.notes.popleft() if self.notes else msgspec.json.decode(self.lines.readline())
            if note.get("method") == method and fits(note["params"]):
                return dict(note["params"])

    def wait(self) -> Finished:
        return msgspec.convert(self.note("finished"), Finished)

    def test_looking_back(self) -> None:
        overview = self.ask("overview", Overview)
        assert isinstance(overview, Overview)
        self.assertEqual((overview.state, len(overview.tide), overview.tide[1].changed), ("ready", 2, 1))
        view = self.ask("folder", FolderView, path=os.fsencode(self.work))
        assert isinstance(view, FolderView)
        self.assertEqual([line.name for line in view.lifelines], [b"sub", b"plan.txt"])
        detail = self.ask(
            "detail", Detail, path=os.fsencode(self.work / "plan.txt"), snapshot=overview.tide[0].name
        )
        assert isinstance(detail, Detail) and detail.disk_difference is not None
        self.assertEqual((detail.preview.text, detail.disk_difference.changed), ("first\n", 1))
        self.assertEqual(
            self.ask("find", list[Found], words="LIST"),
            [Found(os.fsencode(self.work / "sub" / "list.txt"), None)],
        )
        journal = self.ask("journal", JournalView, job="Office")
        assert isinstance(journal, JournalView)
        self.assertEqual([run.result for run in journal.runs], ["done", "done"])

    def test_snapshot_restore_and_undo(self) -> None:
        self.write("plan.txt", "third\n")
        self.ask("snapshot")
        self.assertEqual(self.wait().error, "")
        overview = self.ask("overview", Overview)
        assert isinstance(overview, Overview)
        first = overview.tide[0]
        plan = self.ask(
            "plan", PlanView, items=[PickedItem(os.fsencode(self.work / "plan.txt"), first.name, first.time)]
        )
        assert isinstance(plan, PlanView)
        self.assertEqual((plan.replace, plan.create), (1, 0))
        self.ask("restore", number=plan.number)
        result = self.wait().restore
        assert result is not None
        self.assertEqual((self.work / "plan.txt").read_text(), "first\n")
        self.assertEqual(self.ask("restore", number=plan.number)["code"], 2)  # type: ignore[index]
        self.ask("undo", words=result.set_aside[0])
        self.wait()
        self.assertEqual((self.work / "plan.txt").read_text(), "third\n")

    def test_pause_and_stop(self) -> None:
        for number in range(8):
            self.write(f"{number}.bin", random.Random(number).randbytes(20_000_000))
        self.ask("snapshot")
        self.ask("pause")
        overview = self.ask("overview", Overview)
        assert isinstance(overview, Overview) and overview.work is not None
        self.assertTrue(overview.work.paused)
        self.assertEqual(self.ask("snapshot")["code"], 3)  # type: ignore[index]
        self.ask("stop")
        self.assertIn("Stopped", self.wait().words)
        after = self.ask("overview", Overview)
        assert isinstance(after, Overview)
        self.assertEqual(len(after.tide), 2)

    def test_a_second_agent_is_refused_and_nonsense_does_no_harm(self) -> None:
        with self.assertRaisesRegex(PlaceError, "already running"):
            Agent(self.settings, self.here, SetClock(Nanoseconds(T0)), around=quiet(self.settings))
        self.client.sendall(b"nonsense\n")
        self.assertEqual(self.ask("no such thing")["code"], -32601)  # type: ignore[index]
        self.assertEqual(self.ask("detail", path="!!", snapshot=5)["code"], 2)  # type: ignore[index]
        self.assertEqual(
            self.ask("detail", path=os.fsencode(self.work / "plan.txt"), snapshot="99")["code"], 2
        )  # type: ignore[index]
        self.assertEqual(Path(agent_socket(self.here.runtime, self.settings)).stat().st_mode & 0o777, 0o600)

    def test_snapshots_taken_by_others_are_noticed(self) -> None:
        self.snap(open_store(self.folder / "store", PASSPHRASE), 3)
        overview = self.ask("overview", Overview)
        assert isinstance(overview, Overview)
        self.assertEqual(len(overview.tide), 3)

    def test_looking_again_with_an_outdated_passphrase_is_no_further_try(self) -> None:
        store = open_store(self.folder / "store", PASSPHRASE)
        change_passphrase(store.place, store.keys, PASSPHRASE, "the one that holds now", cost=CHEAP)
        self.agent.end()
        self.agent = self.start()
        for _ in range(8):
            self.assertEqual(self.ask("overview")["state"], "locked")  # type: ignore[index]
        self.assertIsNone(self.ask("unlock", words="the one that holds now"))
        self.assertEqual(self.ask("overview")["state"], "ready")  # type: ignore[index]

    def test_wrong_passphrases_slow_down(self) -> None:
        self.secret.unlink()
        self.agent.end()
        self.agent = self.start()
        for _ in range(3):
            self.assertIn("does not open", self.ask("unlock", words="guess")["message"])  # type: ignore[index]
        self.assertIn("Too many", self.ask("unlock", words=PASSPHRASE)["message"])  # type: ignore[index]

    def test_a_request_that_takes_long_does_not_hold_up_the_others(self) -> None:
        release = threading.Event()
        self.addCleanup(release.set)
        with mock.patch.object(
            type(self.agent._desk), "disks", lambda desk, question: release.wait(120) and []
        ):
            self.client.sendall(encode(Request("disks", raw({}), 7)))
            overview = self.ask("overview", Overview)
            assert isinstance(overview, Overview)
            self.assertEqual(overview.state, "ready")
            release.set()
            self.assertEqual(self.reply()["id"], 7)

    def test_surveys_answer_the_latest_question_and_say_what_is_wrong_with_a_rule(self) -> None:
        for number in range(3):
            self.write(f"sub/film {number}.mp4", "x" * 1000)
        self.ask("survey", number=1, folders=[str(self.work)], rules=["exclude kind sound"])
        self.ask(
            "survey", number=2, folders=[str(self.work)], rules=["exclude kind video", "exclude path film*"]
        )
        view = msgspec.convert(
            self.note("survey", lambda params: params["number"] == 2 and params["done"]), SurveyView
        )
        self.assertEqual((view.files, view.out_files, view.out_size, view.stay), (2, 3, 3000, 0))
        self.assertEqual([(rule.files, rule.hidden_by) for rule in view.rules], [(3, None), (0, 0)])
        self.assertEqual(
            [(share.path[-4:], share.state, share.deeper) for share in view.folders],
            [(b"work", "partly", True), (b"/sub", "partly", False)],
        )
        inside = self.ask("survey-folder", list[FolderShare], path=os.fsencode(self.work))
        assert isinstance(inside, list)
        self.assertEqual([share.out_files for share in inside], [3])
        fault = self.ask(
            "survey", number=3, folders=[str(self.work)], rules=["exclude path a", "exclude larger big"]
        )
        self.assertIn("Line 2", fault["message"])  # type: ignore[index]
        why = self.ask(
            "why",
            path=os.fsencode(self.work / "sub" / "film 1.mp4"),
            folders=[str(self.work)],
            rules=["exclude kind video"],
        )
        self.assertIn("Out: rule 1", why["words"])  # type: ignore[index]
        why = self.ask(
            "why", path=b"~/sub", folders=[str(self.work)], rules=["exclude path ~/sub/"], home=str(self.work)
        )
        self.assertIn("Out: rule 1", why["words"])  # type: ignore[index]
        self.assertIn("No file", self.ask("why", path=b"", folders=[], rules=[])["message"])  # type: ignore[index]

    def test_rules_that_would_leave_out_what_snapshots_hold_are_counted(self) -> None:
        self.ask("overview")
        self.assertEqual(
            self.agent._sessions["Office"].ruled_out(Coverage([parse_rule("exclude path *.txt")])), 2
        )
        self.assertEqual(
            self.agent._sessions["Office"].ruled_out(
                Coverage([parse_rule("include path sub/"), parse_rule("exclude path *.txt")])
            ),
            1,
        )
        self.ask("keep-coverage", folders=[str(self.work)], rules=["exclude path sub/"])
        self.assertEqual(load_jobs(self.settings)[0].rules, ("exclude path sub/",))
        self.ask("snapshot")
        self.assertEqual(self.wait().error, "")
        overview = self.ask("overview", Overview)
        assert isinstance(overview, Overview)
        self.assertEqual(
            (overview.tide[-1].files, overview.tide[-1].removed, overview.rules),
            (1, 1, ("exclude path sub/",)),
        )
        journal = self.ask("journal", JournalView, job="Office")
        assert isinstance(journal, JournalView)
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
                name="Office",
                folders=(str(self.work),),
                stores=(ref,),
                machine=MACHINE,
                passphrase_file=str(self.secret),
            ),
        )
        (self.settings / STAND_IN_FILE).write_text(str(rack.root))
        self.agent.end()
        with mock.patch("good_tide.agent.openings.probe_apart", return_value=None) as probe:
            self.agent = self.start()
            for _ in range(3):
                self.assertEqual(self.ask("overview")["state"], "away")  # type: ignore[index]
            self.assertEqual(probe.call_count, 1, "the answer holds for a while")
        with mock.patch("good_tide.agent.openings._ANSWER_HOLDS", 0.0):
            self.assertEqual(self.ask("overview")["state"], "ready")  # type: ignore[index]

    def test_several_jobs_and_the_choice_between_them(self) -> None:
        other = self.folder / "other"
        other.mkdir()
        (other / "x").write_text("x")
        save_job(
            self.settings,
            Job(
                name="Studio",
                folders=(str(other),),
                stores=(StoreRef(path=str(self.folder / "store"), name="Pier"),),
                machine=OTHER_MACHINE,
                passphrase_file=str(self.secret),
            ),
        )
        self.agent.end()
        self.agent = self.start()
        overview = self.ask("overview", Overview)
        assert isinstance(overview, Overview)
        self.assertEqual(
            (overview.jobs, overview.job, overview.state), (("Office", "Studio"), "Office", "ready")
        )
        self.job = "Studio"
        overview = self.ask("overview", Overview)
        assert isinstance(overview, Overview)
        self.assertEqual((overview.job, overview.state, overview.machine), ("Studio", "empty", "laptop"))
        self.job = "none"
        self.assertIn("no job", self.ask("snapshot")["message"])  # type: ignore[index]

    def test_disk_away_and_locked(self) -> None:
        store = Path(self.folder / "store")
        store.rename(self.folder / "elsewhere")
        self.assertEqual(self.ask("overview")["state"], "away")  # type: ignore[index]
        (self.folder / "elsewhere").rename(store)
        self.secret.unlink()
        self.assertEqual(self.ask("overview")["state"], "locked")  # type: ignore[index]
        self.assertEqual(self.ask("unlock", words="wrong")["code"], 3)  # type: ignore[index]
        self.ask("unlock", words=PASSPHRASE)
        self.assertEqual(self.ask("overview")["state"], "ready")  # type: ignore[index]


class AxisTest(GoodTideTest):
    def test_zoom_keeps_the_time_under_the_pointer_and_stays_within_history(self) -> None:
        axis = TimeAxis(T0, T0 + 24 * 70 * HOUR)
        axis.width = 800
        before = axis.time(300)
        axis.zoom(0.1, 300)
        self.assertAlmostEqual(axis.time(300), before, delta=HOUR)
        for _ in range(60):
            axis.zoom(0.5, 200)
        self.assertEqual(round((axis.end - axis.start) / 1e9), 300)
        axis.pan(1e9)
        self.assertEqual(axis.start, axis.first)
        for _ in range(60):
            axis.zoom(3, 200)
        self.assertEqual((axis.start, axis.end), (axis.first, axis.last))

    def test_ticks_never_crowd_and_lie_on_whole_local_units(self) -> None:
        axis = TimeAxis(T0, T0 + 24 * 70 * HOUR)
        axis.width = 700
        for _ in range(14):
            xs = [axis.x(tick.time) for tick in axis.ticks()]
            self.assertTrue(all(second - first > 60 for first, second in pairwise(xs)), xs)
            axis.zoom(0.55, 350)


class ModelTest(GoodTideTest):
    def test_stepping_through_changes_of_the_selected_thing(self) -> None:
        store = self.new_store()
        for hour in range(6):
            if hour in (0, 3):
                self.write("plan.txt", f"version {hour}")
            if hour == 5:
                (self.work / "plan.txt").unlink()
            self.write("other.txt", str(hour))
            self.snap(store, hour)
        catalog, _ = synced_catalog(store, self.cache)
        model = TimelineModel(catalog.tide(MACHINE.id))
        path = os.fsencode(self.work)
        model.root = path
        self.assertEqual(model.missing_views(), [b"", path])
        model.take_view(path, catalog.lifelines(catalog.folder(MACHINE.id, path) or 0))
        model.selected = path + b"/plan.txt"
        self.assertEqual((model.moment, model.here_then()), (6, (1, 1)))
        visited = [model.moment]
        while model.step_change(forward=False):
            visited.append(model.moment)
        self.assertEqual(visited, [6, 4, 1])
        row = model.row_of(model.selected)
        assert row is not None
        self.assertEqual(model.row_words(row, T0 + 6 * HOUR), "plan.txt: 2 versions, last seen today 20:13")
        self.assertEqual(
            [model.nearest(T0 + minutes * HOUR // 60) for minutes in (-9, 29, 31, 9999)], [1, 1, 2, 6]
        )
        catalog.close()
