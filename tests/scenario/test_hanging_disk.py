"""A share whose server stops: it holds up the job that uses it, and nobody else."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

import msgspec

from good_tide.agent.service import Agent
from good_tide.core.clock import SetClock
from good_tide.core.errors import PlaceError
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.job_facts import StoreState
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.places.probing import Probe
from good_tide.operations.workplace import Workplace, save_job
from good_tide.protocol.agent_calls import Hello, ReadOverview, WorkEnded
from good_tide.protocol.contract import Call, Topic
from good_tide.protocol.schedule_calls import ReadStandings, TakeSnapshot
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.wire import call_line
from good_tide.storage.folder_place import LocalPlace
from good_tide.system.disk_choice import STAND_IN_FILE
from good_tide.system.stand_in_disks import StandIn, StandInDisks
from tests.support.agents import connect, serve
from tests.support.base import (
    BY_HAND,
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


class HangingDiskTest(GoodTideTest):
    """Office has its store on a share, Sound on a disk."""

    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "first")
        self.rack = StandInDisks(self.folder / "rack")
        self.share = self.rack.add(StandIn(name="harbour", kind="network", file_system="cifs"))
        self.pier = self.rack.add(StandIn(name="Pier", device="one"))
        self.settings = self.folder / "settings"
        for identity, name, disk, machine in (
            (OFFICE, "Office", self.share, MACHINE),
            (SOUND, "Sound", self.pier, OTHER_MACHINE),
        ):
            made = create_store(disk / "store", None)
            known = "share:harbour" if disk == self.share else "label:Pier"
            ref = StoreRef(
                path=str(disk / "store"), name=disk.name, disk=known, inside="store", store=made.header.store
            )
            job = Job(
                id=identity,
                name=name,
                folders=(str(self.work),),
                stores=(ref,),
                machine=machine,
                rhythm=BY_HAND,
            )
            save_job(self.settings, job)
        (self.settings / STAND_IN_FILE).write_text(str(self.rack.root))
        self.hangs, self.goes_on = threading.Event(), threading.Event()
        self.addCleanup(self.goes_on.set)
        for name in ("names", "read", "size", "create", "total_bytes"):
            patch = mock.patch.object(LocalPlace, name, self.held_up(getattr(LocalPlace, name)))
            patch.start()
            self.addCleanup(patch.stop)
        for place in ("good_tide.operations.places.whereabouts", "good_tide.operations.stores.disks"):
            asked = mock.patch(f"{place}.probe_apart", self.probe)
            asked.start()
            self.addCleanup(asked.stop)
        here = Workplace(self.cache, self.state, self.folder, self.settings, self.folder / "run", MACHINE)
        clock = SetClock(Nanoseconds(T0 + 5 * HOUR))
        self.agent = serve(self, Agent(here, clock, environment=quiet(self.settings)))
        self.addCleanup(self.goes_on.set)
        self.client = connect(self, here, Topic.WORK)

    def held_up(self, real: Callable[..., Any]) -> Callable[..., Any]:
        """A touch of the share that does not come back while its server stands still."""

        def touch(place: LocalPlace, *words: Any) -> Any:
            if self.hangs.is_set() and place.root.is_relative_to(self.share):
                self.goes_on.wait()
            return real(place, *words)

        return touch

    def probe(self, folder: Path, known: frozenset[str]) -> Probe | None:
        if self.hangs.is_set() and folder.is_relative_to(self.share):
            return None
        return Probe(1 << 40, 1 << 39, True, ())

    def ended(self) -> WorkEnded:
        return next(note for note in self.client.notes() if isinstance(note, WorkEnded))

    def until(self, true: Callable[[], bool]) -> None:
        deadline = time.monotonic() + 120
        while not true():
            self.assertLess(time.monotonic(), deadline)
            threading.Event().wait(0.02)

    def test_a_window_asks_on_while_the_overview_of_one_job_hangs(self) -> None:
        self.assertIs(self.client.ask(ReadOverview(OFFICE)).state, StoreState.EMPTY)
        self.hangs.set()  # the share answered a moment ago, so that the agent trusts it still
        with socket.socket(socket.AF_UNIX) as one:
            one.connect(str(agent_socket(self.folder / "run", self.settings)))
            one.settimeout(120)
            lines = one.makefile("rb")
            calls: tuple[Call[Any], ...] = (ReadOverview(OFFICE), ReadOverview(SOUND), Hello())
            for number, call in enumerate(calls, 1):
                one.sendall(call_line(call, number))
            answered = {msgspec.json.decode(lines.readline())["id"] for _ in range(2)}
            self.assertEqual(answered, {2, 3}, "what is asked after it on the same connection is answered")
        self.assertIs(self.client.ask(ReadOverview(SOUND)).state, StoreState.EMPTY)
        with mock.patch("good_tide.operations.places.whereabouts._ANSWER_HOLDS", 0.0):
            self.agent.scheduler.poke()
            standings = {one.job: one for one in self.client.ask(ReadStandings())}
        self.assertEqual([standings[job].stores[0].present for job in (OFFICE, SOUND)], [False, True])

    def test_a_run_that_hangs_is_given_up_and_the_next_job_runs(self) -> None:
        self.assertIs(self.client.ask(ReadOverview(OFFICE)).state, StoreState.EMPTY)
        real = self.agent._worker.start

        def start(*words: Any) -> None:
            real(*words)
            if words[2] and words[2][0].id == OFFICE and not self.goes_on.is_set():
                self.hangs.set()

        with (
            mock.patch.object(self.agent._worker, "start", start),
            mock.patch("good_tide.agent.runs._QUIET_SECONDS", 0.2),
        ):
            self.client.ask(TakeSnapshot(OFFICE))
            self.until(lambda: self.agent._worker.quiet_seconds > 0.3)
            self.agent.scheduler.poke()
            self.assertIn("harbour does not answer", self.ended().error)
        self.client.ask(TakeSnapshot(SOUND))
        self.assertEqual(self.ended().error, "")
        with self.assertRaisesRegex(PlaceError, "does not answer|not here"):
            self.client.ask(TakeSnapshot(OFFICE))
        told = [event.what for event in self.agent.context.journal.events(Filter(job=OFFICE))]
        self.assertIn("The disk harbour does not answer", told)
        self.goes_on.set()
        self.hangs.clear()
        self.until(lambda: not self.agent._worker.is_held_up(self.job(OFFICE)))
        self.assertEqual(self.agent.schedule._standings.record(self.job(OFFICE)).failures, 1)
        with mock.patch("good_tide.operations.places.whereabouts._ANSWER_HOLDS", 0.0):
            self.client.ask(TakeSnapshot(OFFICE))
        self.assertEqual(self.ended().error, "")

    def job(self, identity: str) -> Job:
        return next(session.job for session in self.agent.sessions.own() if session.job.id == identity)
