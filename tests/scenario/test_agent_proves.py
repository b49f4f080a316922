"""The agent reads stores back and restores files for a trial by itself, behind everything else."""

from __future__ import annotations

import os
import threading
from unittest import mock

from good_tide.agent.proving import _InQuiet
from good_tide.agent.service import Agent
from good_tide.core.errors import StoppedError
from good_tide.core.health import StoreHealth
from good_tide.core.planning import Conditions
from good_tide.core.progress import Steering, WorkKind
from good_tide.core.status import Mood
from good_tide.protocol.agent_calls import WorkEnded
from good_tide.storage.folder_place import LocalPlace
from good_tide.storage.header import read_header
from tests.scenario.test_keeping import MINUTE, ON_THE_HOUR, Keeping
from tests.support.base import HOUR

DAY = 24 * HOUR


class AgentProvesTest(Keeping):
    def health(self, agent: Agent) -> StoreHealth:
        return agent.context.health.of(read_header(LocalPlace(self.root)).store)

    def test_a_portion_a_day_and_a_trial_a_week_and_nobody_is_told(self) -> None:
        agent = self.agent()
        self.at(ON_THE_HOUR, agent)
        first = self.health(agent)
        self.assertEqual((first.drill.when, first.reading.last), (ON_THE_HOUR, ON_THE_HOUR))
        self.assertGreater(first.drill.files, 0)
        self.at(ON_THE_HOUR + 5 * HOUR, agent)
        self.assertEqual(self.health(agent).reading.last, ON_THE_HOUR)
        self.at(ON_THE_HOUR + DAY, agent)
        self.assertEqual(self.health(agent).reading.last, ON_THE_HOUR + DAY)
        self.assertEqual(self.health(agent).drill.when, ON_THE_HOUR)
        self.at(ON_THE_HOUR + 7 * DAY, agent)
        self.assertEqual(self.health(agent).drill.when, ON_THE_HOUR + 7 * DAY)
        self.assertIn("none failed", agent.schedule.standings()[0].stores[0].proven)
        self.assertFalse(any("trial" in one.title for one in self.notices.told))

    def test_not_on_battery_nor_while_the_machine_is_busy(self) -> None:
        agent = self.agent()
        for conditions in (Conditions(battery=80.0), Conditions(load=9.0), Conditions(presenting=True)):
            self.surroundings.now = conditions
            self.at(ON_THE_HOUR, agent)
            self.assertEqual(self.health(agent).reading.last, 0)

    def test_it_ends_when_somebody_works_with_the_disk_or_goes_on_battery_and_is_tried_again(self) -> None:
        agent = self.agent()
        with mock.patch("good_tide.agent.proving._LOOK_SECONDS", -1.0):
            self.surroundings.moved = 50e6
            self.at(ON_THE_HOUR, agent)
            self.assertEqual(self.health(agent).reading.last, 0)
            self.surroundings.moved = 0.0
            self.at(ON_THE_HOUR + 10 * MINUTE, agent)
            self.assertEqual(self.health(agent).reading.last, 0, "not again at once")
            self.at(ON_THE_HOUR + 31 * MINUTE, agent)
            self.assertEqual(self.health(agent).reading.last, ON_THE_HOUR + 31 * MINUTE)
        inner, battery = Steering(), [False]
        quiet = _InQuiet(inner, lambda: not battery[0], lambda: 0.0)
        quiet._looked -= 60
        quiet.checkpoint()
        battery[0], quiet._looked = True, quiet._looked - 60
        self.assertRaises(StoppedError, quiet.checkpoint)

    def test_it_gives_way_to_whatever_else_is_to_be_done(self) -> None:
        agent = self.agent()
        begun, ended = threading.Event(), threading.Event()

        def endless(steering: Steering) -> WorkEnded:
            begun.set()
            try:
                while True:
                    steering.rest(0.01)
                    steering.checkpoint()
            finally:
                ended.set()

        agent._worker.start(WorkKind.PROOF, endless, (self.job,), behind=True, gives_way=True)
        self.assertTrue(begun.wait(5))
        self.assertEqual((agent._worker.current, agent._worker.occupied), (None, True))
        self.at(ON_THE_HOUR + 5 * MINUTE, agent)
        self.assertTrue(ended.is_set())
        self.assertEqual(len(self.times()), 1)

    def test_what_it_finds_is_mended_or_is_harm(self) -> None:
        self.write("film.bin", os.urandom(500_000))
        agent = self.agent()
        self.at(ON_THE_HOUR, agent)
        for pack in (self.root / "packs").rglob("*"):
            if pack.is_file():
                pack.write_bytes(bytes(pack.stat().st_size))
        self.at(ON_THE_HOUR + DAY, agent)
        self.at(ON_THE_HOUR + 2 * DAY, agent)
        self.assertEqual(agent.schedule.standings()[0].status.mood, Mood.WELL, "the files had it all")
        (self.work / "film.bin").unlink()
        self.at(ON_THE_HOUR + 3 * DAY, agent)
        for pack in (self.root / "packs").rglob("*"):
            if pack.is_file() and pack.stat().st_size > 20_000:
                pack.write_bytes(bytes(pack.stat().st_size))
        agent = self.agent()  # one that remembers nothing of what it read
        for day in range(4, 40):
            self.at(ON_THE_HOUR + day * DAY, agent)
        status = agent.schedule.standings()[0].status
        self.assertEqual(status.mood, Mood.HARM, status)
