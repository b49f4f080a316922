"""The agent keeps the rhythm: under a clock that is put, look by look."""

from __future__ import annotations

import os
import threading
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any
from unittest import mock

import msgspec

from good_tide.agent.service import Agent
from good_tide.core.clock import SECOND, SetClock
from good_tide.core.happenings import Filter
from good_tide.core.identifiers import JobId, Nanoseconds
from good_tide.core.ladder import Ladder, parse_rung
from good_tide.core.planning import Conditions, JobRecord
from good_tide.core.progress import Silent
from good_tide.core.rhythm import Rhythm, every
from good_tide.core.settings import Holding, Job, Room, StoreRef
from good_tide.core.status import State
from good_tide.operations.history.browse import entry_at, read_file
from good_tide.operations.integrity.verify import verify
from good_tide.operations.records.run_records import RunRecords
from good_tide.operations.stores.opening import ledger_age
from good_tide.operations.workplace import Workplace, save_job
from good_tide.protocol.agent_calls import ReadOverview
from good_tide.protocol.schedule_calls import PauseRhythm, ReadRhythm, RunDue, TakeSnapshot
from good_tide.protocol.store_calls import EjectDisk
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.system.disk_choice import STAND_IN_FILE
from good_tide.system.ejecting import holders
from good_tide.system.stand_in_desktop import StandInNotices, StandInPower, StandInSurroundings
from good_tide.system.stand_in_disks import StandIn, StandInDisks
from tests.support.base import (
    CHEAP,
    HOUR,
    MACHINE,
    OFFICE,
    PASSPHRASE,
    T0,
    GoodTideTest,
    create_store,
    open_store,
)
from tests.support.stand_ins import quiet

MINUTE = 60 * SECOND
ON_THE_HOUR = T0 - T0 % HOUR


class Keeping(GoodTideTest):
    """An agent that is not served: the test looks by ``tick``, and waits for the work."""

    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "first\n")
        self.rack = StandInDisks(self.folder / "rack")
        self.rack.add(StandIn(name="Pier", device="one"))
        self.settings = self.folder / "settings"
        self.settings.mkdir()
        (self.settings / STAND_IN_FILE).write_text(str(self.rack.root))
        self.root = self.rack.folder("Pier") / "store"
        create_store(self.root, PASSPHRASE, cost=CHEAP)
        secret = self.folder / "secret"
        secret.write_text(PASSPHRASE)
        secret.chmod(0o600)
        ref = StoreRef(path=str(self.root), name="Pier", disk="label:Pier", inside="store")
        self.job = Job(
            id=OFFICE,
            name="Office",
            folders=(str(self.work),),
            stores=(ref,),
            machine=MACHINE,
            passphrase_file=str(secret),
        )
        self.here = Workplace(
            self.cache, self.state, self.folder, self.settings, self.folder / "run", MACHINE
        )
        self.clock = SetClock(Nanoseconds(ON_THE_HOUR + 5 * MINUTE))
        self.notices, self.power, self.surroundings = StandInNotices(), StandInPower(), StandInSurroundings()
        self.agents: list[Agent] = []
        self.addCleanup(self._end_all)

    def _end_all(self) -> None:
        for agent in self.agents:
            agent.close()

    def agent(self, **changes: object) -> Agent:
        self.job = msgspec.structs.replace(self.job, **changes)
        save_job(self.settings, self.job)
        conditions = quiet(self.settings, self.notices, self.power, self.surroundings)
        made = Agent(self.here, self.clock, environment=conditions)
        made._server.close()
        made.take_notice()
        self.agents.append(made)
        return made

    def at(self, moment: int, agent: Agent) -> None:
        """Put the clock, look until nothing begins any more."""
        self.clock.set(Nanoseconds(moment))
        for _ in range(3):
            agent.scheduler.tick()
            agent._worker.wait()

    def state_of(self, agent: Agent) -> State:
        return agent.schedule.standings()[0].status.state

    def times(self, root: Path | None = None) -> list[int]:
        found, damage = open_store(root or self.root, PASSPHRASE).snapshots()
        self.assertEqual(damage, [])
        return [snapshot.record.time for snapshot in found]

    def what(self, agent: Agent) -> list[str]:
        return [event.what for event in agent.context.journal.events(Filter(job=OFFICE))]


class RhythmTest(Keeping):
    def test_every_hour_once_and_made_up_once(self) -> None:
        agent = self.agent()
        for hour in range(3):
            self.at(ON_THE_HOUR + hour * HOUR + 5 * MINUTE, agent)
            self.at(ON_THE_HOUR + hour * HOUR + 20 * MINUTE, agent)
        self.assertEqual(len(self.times()), 3)
        self.at(ON_THE_HOUR + 9 * HOUR + 30 * MINUTE, agent)
        self.assertEqual(len(self.times()), 4)
        standing = agent.schedule.standings()[0]
        self.assertEqual((standing.status.state, standing.next), (State.CURRENT, ON_THE_HOUR + 10 * HOUR))
        self.assertEqual([run.occasion for run in agent.context.journal.runs(OFFICE)], ["time"] * 4)

    def test_a_run_by_hand_serves_the_hour_and_survives_a_restart(self) -> None:
        agent = self.agent()
        agent.schedule.snapshot(TakeSnapshot(OFFICE))
        agent._worker.wait()
        self.at(ON_THE_HOUR + 10 * MINUTE, self.agent())
        self.assertEqual(len(self.times()), 1)

    def test_only_by_hand(self) -> None:
        agent = self.agent(rhythm=Rhythm(rules=()))
        self.at(ON_THE_HOUR + 30 * HOUR, agent)
        self.assertEqual(self.times(), [])

    def test_paused_and_gone_on(self) -> None:
        agent = self.agent()
        self.at(ON_THE_HOUR, agent)
        agent.schedule.pause(PauseRhythm(ON_THE_HOUR + 3 * HOUR))
        self.at(ON_THE_HOUR + 2 * HOUR, agent)
        self.assertEqual((len(self.times()), self.state_of(agent)), (1, State.PAUSED))
        RunRecords(self.here.records).pause(0)
        self.at(ON_THE_HOUR + 2 * HOUR + MINUTE, agent)
        self.assertEqual((len(self.times()), self.state_of(agent)), (2, State.CURRENT))

    def test_it_waits_for_quiet_surroundings_and_says_for_what(self) -> None:
        agent = self.agent()
        for conditions, words in (
            (Conditions(battery=12.0), "battery, at 12 %"),
            (Conditions(metered=True), "metered"),
            (Conditions(presenting=True), "presentation"),
            (Conditions(load=9.0), "busy"),
        ):
            self.surroundings.now = conditions
            self.at(ON_THE_HOUR + 6 * MINUTE, agent)
            self.assertEqual((self.times(), self.state_of(agent)), ([], State.WAITING))
            self.assertIn(words, agent.schedule.standings()[0].status.sentence)
        self.surroundings.now = Conditions(battery=80.0)
        self.at(ON_THE_HOUR + 7 * MINUTE, agent)
        self.assertEqual(len(self.times()), 1)

    def test_a_run_that_is_asked_for_does_not_wait(self) -> None:
        agent = self.agent()
        self.surroundings.now = Conditions(battery=2.0)
        agent.schedule.snapshot(TakeSnapshot(OFFICE))
        agent._worker.wait()
        self.assertEqual(len(self.times()), 1)

    def test_changed_settings_are_taken_in(self) -> None:
        agent = self.agent()
        self.at(ON_THE_HOUR + 5 * MINUTE, agent)
        save_job(self.settings, msgspec.structs.replace(self.job, rhythm=Rhythm(rules=(every(10),))))
        self.at(ON_THE_HOUR + 11 * MINUTE, agent)
        self.assertEqual(len(self.times()), 2)
        next((self.settings / "jobs").iterdir()).write_text("name = 3\n")
        self.at(ON_THE_HOUR + 21 * MINUTE, agent)
        self.assertEqual(len(self.times()), 3)
        self.assertTrue(
            any("cannot be understood" in event.what for event in agent.context.journal.events(Filter()))
        )

    def test_when_the_disk_comes_after_a_settling_time(self) -> None:
        agent = self.agent(rhythm=Rhythm(rules=(), on_disk=True), holding=Holding(on=False))
        self.at(ON_THE_HOUR, agent)
        self.rack.plug("Pier", False)
        self.at(ON_THE_HOUR + 10 * MINUTE, agent)
        self.rack.plug("Pier")
        self.at(ON_THE_HOUR + 20 * MINUTE, agent)
        self.assertEqual((self.times(), self.state_of(agent)), ([], State.DUE))
        self.at(ON_THE_HOUR + 21 * MINUTE + SECOND, agent)
        self.assertEqual(len(self.times()), 1)
        self.at(ON_THE_HOUR + 50 * MINUTE, agent)
        self.assertEqual(len(self.times()), 1)

    def test_when_files_come_to_rest(self) -> None:
        agent = self.agent(rhythm=Rhythm(rules=(), on_change=True))
        self.at(ON_THE_HOUR, agent)
        agent._watching.wait_ready(10)
        self.assertIn("watched", agent.schedule.rhythm(ReadRhythm(OFFICE)).watching)
        seen = threading.Event()
        known = agent._watching._jobs[OFFICE]
        heard = agent._watching._heard

        def hear(watched: Any, path: str) -> None:
            heard(watched, path)
            seen.set()

        agent._watching._heard = hear  # type: ignore[method-assign]
        self.write("plan.txt", "second\n")
        self.assertTrue(seen.wait(120))
        threading.Event().wait(0.5)  # one change is told by several events
        self.assertEqual(known.newest, ON_THE_HOUR)
        self.at(ON_THE_HOUR + 10 * SECOND, agent)
        self.assertEqual(self.times(), [])
        self.at(ON_THE_HOUR + 21 * SECOND, agent)
        self.assertEqual((len(self.times()), known.newest), (1, 0))
        seen.clear()
        self.write("plan.txt", "third\n")
        self.assertTrue(seen.wait(120))
        threading.Event().wait(0.5)
        self.at(ON_THE_HOUR + 2 * MINUTE, agent)
        self.assertEqual(len(self.times()), 1)
        self.at(ON_THE_HOUR + 11 * MINUTE, agent)
        self.assertEqual(len(self.times()), 2)


class AwayTest(Keeping):
    def test_snapshots_go_on_and_are_carried_over_in_order(self) -> None:
        agent = self.agent()
        self.at(ON_THE_HOUR, agent)
        self.rack.plug("Pier", False)
        for hour in (1, 2, 3):
            self.write("plan.txt", f"hour {hour}\n")
            self.at(ON_THE_HOUR + hour * HOUR, agent)
        status = agent.schedule.standings()[0].status
        self.assertEqual((status.state, status.well), (State.AWAY, True))
        self.assertIn("3 snapshots kept on this machine", status.detail)
        overview = agent.history.overview(ReadOverview(OFFICE))
        self.assertEqual((overview.state, len(overview.tide)), ("ready", 4))
        session = agent.sessions.of(OFFICE)
        third = session.tide()[2]
        plan = entry_at(
            session.store(), session.snapshot(third.name, third.time), os.fsencode(self.work / "plan.txt")
        )
        self.assertEqual(read_file(session.store(), plan, 100), b"hour 2\n")
        self.rack.plug("Pier")
        self.at(ON_THE_HOUR + 4 * HOUR, agent)
        self.at(ON_THE_HOUR + 4 * HOUR + 2 * MINUTE, agent)
        self.assertEqual([(time - ON_THE_HOUR) // HOUR for time in self.times()], [0, 1, 2, 3, 4])
        self.assertIn("3 snapshots carried over from the holding area", " ".join(self.what(agent)))
        self.assertEqual(self.state_of(agent), State.CURRENT)
        self.assertEqual(len(agent.history.overview(ReadOverview(OFFICE)).tide), 5)

    def test_what_waited_is_carried_over_as_soon_as_the_disk_is_back(self) -> None:
        agent = self.agent()
        self.at(ON_THE_HOUR, agent)
        self.rack.plug("Pier", False)
        self.at(ON_THE_HOUR + HOUR, agent)
        self.rack.plug("Pier")
        self.at(ON_THE_HOUR + HOUR + 5 * MINUTE, agent)
        self.at(ON_THE_HOUR + HOUR + 7 * MINUTE, agent)
        self.assertEqual(
            [(time - ON_THE_HOUR) // MINUTE for time in self.times()], [0, 60, 67], "within a minute or so"
        )

    def test_without_a_holding_area_it_waits_and_says_since_when(self) -> None:
        agent = self.agent(holding=Holding(on=False))
        self.at(ON_THE_HOUR, agent)
        self.rack.plug("Pier", False)
        self.at(ON_THE_HOUR + HOUR, agent)
        self.at(ON_THE_HOUR + 5 * HOUR, agent)
        status = agent.schedule.standings()[0].status
        self.assertEqual((status.state, status.well), (State.AWAY, False))
        self.assertIn("no snapshots are taken", status.sentence)
        told = [one for one in self.notices.told if "away" in one.title]
        self.assertEqual(len(told), 1)
        self.rack.plug("Pier")
        self.at(ON_THE_HOUR + 6 * HOUR, agent)
        self.at(ON_THE_HOUR + 6 * HOUR + 2 * MINUTE, agent)
        self.assertEqual(len(self.times()), 2)
        self.assertIn("the disk is back", self.notices.told[-1].title)


class TroubleTest(Keeping):
    def break_store(self, broken: bool = True) -> None:
        for header in (self.root / "store.json", self.root / "copies" / "store.json"):
            aside = header.with_suffix(".aside")
            if broken:
                header.rename(aside)
            else:
                aside.rename(header)

    def test_it_fails_says_since_when_tries_again_and_recovers(self) -> None:
        agent = self.agent()
        self.at(ON_THE_HOUR, agent)
        self.break_store()
        self.at(ON_THE_HOUR + HOUR, agent)
        status = agent.schedule.standings()[0].status
        self.assertEqual(status.state, State.FAILING)
        self.assertEqual([one.title for one in self.notices.told if "first" not in one.title], [])
        for minutes in (6, 7, 17, 40, 80):
            self.at(ON_THE_HOUR + HOUR + minutes * MINUTE, agent)
        failed = [run for run in agent.context.journal.runs(OFFICE) if run.result == "failed"]
        self.assertEqual(
            [(run.began - ON_THE_HOUR - HOUR) // MINUTE for run in reversed(failed)], [0, 6, 17, 40, 80]
        )
        troubles = [one for one in self.notices.told if one.urgency == "critical"]
        self.assertEqual(len(troubles), 1)
        self.break_store(False)
        self.at(ON_THE_HOUR + 4 * HOUR, agent)
        self.assertEqual((self.state_of(agent), len(self.times())), (State.CURRENT, 2))
        self.assertIn("Snapshots work again", self.what(agent))
        self.assertIn("snapshots work again", self.notices.told[-1].title)

    def test_three_levels_of_noise(self) -> None:
        counts = {}
        for noise in ("trouble", "changes", "everything"):
            self.notices.told.clear()
            agent = self.agent(id=JobId(noise), name=noise.title(), noise=noise)
            self.at(self.clock.now() + HOUR, agent)
            self.at(self.clock.now() + HOUR, agent)
            counts[noise] = len([one for one in self.notices.told if one.title.startswith(noise.title())])
        self.assertEqual(counts, {"trouble": 0, "changes": 1, "everything": 2})

    def test_the_same_trouble_once_a_day(self) -> None:
        agent = self.agent()
        self.at(ON_THE_HOUR, agent)
        for hour in range(1, 24):
            if hour % 4 in (0, 1):
                self.break_store(bool(hour % 4))
            self.at(ON_THE_HOUR + hour * HOUR, agent)
        troubles = [one for one in self.notices.told if one.urgency == "critical"]
        self.assertEqual(len(troubles), 1)
        self.assertEqual(troubles[0].action, "Show")

    def test_a_run_that_was_cut_off_is_noted_and_run_again(self) -> None:
        save_job(self.settings, self.job)
        RunRecords(self.here.records).keep(OFFICE, JobRecord(served=ON_THE_HOUR - HOUR, begun=ON_THE_HOUR))
        agent = self.agent()
        self.at(ON_THE_HOUR + 5 * MINUTE, agent)
        self.assertEqual(len(self.times()), 1)
        self.assertIn("The last run was cut off", self.what(agent))

    def test_a_clock_set_back_by_a_day_loses_nothing_and_doubles_nothing(self) -> None:
        agent = self.agent()
        self.at(ON_THE_HOUR + 24 * HOUR, agent)
        self.at(ON_THE_HOUR + 5 * MINUTE, agent)
        self.at(ON_THE_HOUR + HOUR, agent)
        self.at(ON_THE_HOUR + HOUR + 30 * MINUTE, agent)
        self.assertEqual(len(self.times()), 2)


class BoundsTest(Keeping):
    def test_the_oldest_go_when_the_limit_is_reached_and_it_is_told(self) -> None:
        agent = self.agent()
        for hour in range(6):
            self.write("film.bin", os.urandom(300_000))
            self.at(ON_THE_HOUR + hour * HOUR, agent)
        save_job(
            self.settings,
            msgspec.structs.replace(
                self.job, room=Room(limit_bytes=1_400_000, when_short="thin", floor_days=0)
            ),
        )
        for hour in range(6, 9):
            self.write("film.bin", os.urandom(300_000))
            self.at(ON_THE_HOUR + hour * HOUR, agent)
        times = [(time - ON_THE_HOUR) // HOUR for time in self.times()]
        self.assertEqual((times[-1], times), (8, list(range(times[0], 9))))
        self.assertGreater(times[0], 2)
        self.assertTrue(any("to make room on Pier" in what for what in self.what(agent)))
        self.assertLess(
            sum(path.stat().st_size for path in self.root.rglob("*") if path.is_file()), 1_800_000
        )
        self.assertTrue(verify(open_store(self.root, PASSPHRASE), True, Silent()).ok)

    def test_it_stops_and_says_so_and_never_goes_below_the_floor(self) -> None:
        agent = self.agent(room=Room(limit_bytes=300_000))
        for hour in range(3):
            self.write("film.bin", os.urandom(150_000))
            self.at(ON_THE_HOUR + hour * HOUR, agent)
        status = agent.schedule.standings()[0].status
        self.assertEqual((status.state, len(self.times())), (State.FAILING, 2))
        self.assertIn("less room than is to stay free", status.sentence)
        save_job(
            self.settings,
            msgspec.structs.replace(
                self.job, room=Room(limit_bytes=200_000, when_short="thin", floor_days=30)
            ),
        )
        self.at(ON_THE_HOUR + 5 * HOUR, agent)
        self.assertEqual(len(self.times()), 2)
        self.assertIn("everything older than 30 days", agent.schedule.standings()[0].status.sentence)

    def test_thinned_after_each_run_and_swept_once_a_week(self) -> None:
        ladder = Ladder((parse_rung("3h every"), parse_rung("forever day")))
        agent = self.agent(ladder=ladder, agreed=ladder)
        for hour in range(30):
            self.write("film.bin", os.urandom(40_000))
            self.at(ON_THE_HOUR + hour * HOUR, agent)
        self.assertLess(len(self.times()), 8)
        size = sum(path.stat().st_size for path in (self.root / "packs").rglob("*") if path.is_file())
        self.assertEqual(agent.history.overview(ReadOverview(OFFICE)).tide[-1].seq, len(self.times()))
        for hour in range(30, 30 + 24 * 8, 12):
            self.at(ON_THE_HOUR + hour * HOUR, agent)
        self.assertLess(
            sum(path.stat().st_size for path in (self.root / "packs").rglob("*") if path.is_file()), size
        )
        self.assertTrue(any("given back on Pier" in what for what in self.what(agent)))
        self.assertTrue(verify(open_store(self.root, PASSPHRASE), True, Silent()).ok)

    def test_what_was_released_by_hand_is_swept_without_a_ladder(self) -> None:
        agent = self.agent()
        for hour in range(3):
            self.write("film.bin", os.urandom(300_000))
            self.at(ON_THE_HOUR + hour * HOUR, agent)
        self.assertLess(ledger_age(open_store(self.root, PASSPHRASE), self.here.cache), 3600)
        store = open_store(self.root, PASSPHRASE)
        for snapshot in store.snapshots()[0][:2]:
            store.place.remove(f"{SNAPSHOT_FOLDER}/{snapshot.id}")
        RunRecords(self.here.records).note_released(store.header.store)
        self.at(ON_THE_HOUR + 3 * HOUR, agent)
        self.assertTrue(any("given back on Pier" in what for what in self.what(agent)))
        self.assertLess(
            sum(path.stat().st_size for path in (self.root / "packs").rglob("*") if path.is_file()), 500_000
        )

    def test_many_small_packs_are_joined_once_a_week_though_nothing_was_released(self) -> None:
        agent = self.agent()
        with (
            mock.patch("good_tide.storage.sweep._WORTH_JOINING", 10),
            mock.patch("good_tide.storage.sweep._MANY_SMALL", 5),
        ):
            for hour in range(9):
                self.write("film.bin", os.urandom(30_000))
                self.at(ON_THE_HOUR + hour * HOUR, agent)
        packs = len(open_store(self.root, PASSPHRASE).index.tables)
        self.assertLess(packs, 14, "of some 18")
        self.assertEqual(len(self.times()), 9)
        self.assertTrue(verify(open_store(self.root, PASSPHRASE), True, Silent()).ok)


class EndOfDayTest(Keeping):
    def test_everything_due_then_the_machine_sleeps(self) -> None:
        agent = self.agent(rhythm=Rhythm(allowed=("sun 00:00-00:30",)))
        with self.minute(0.01):
            agent.schedule.run_due(RunDue("suspend"))
            agent._worker.wait()
        self.assertEqual((len(self.times()), self.power.asked), (1, ["suspend"]))
        self.assertEqual([one.action for one in self.notices.told if "last run" in one.title], ["Stay on"])

    def test_a_minute_to_stop_it(self) -> None:
        agent = self.agent()
        with self.minute(10.0):
            agent.schedule.run_due(RunDue("power-off"))
            while not any("last run" in one.title for one in self.notices.told):
                threading.Event().wait(0.02)
            act = self.notices.told[-1].act
            assert act is not None
            act()
            agent._worker.wait()
        self.assertEqual((len(self.times()), self.power.asked), (1, []))

    def test_it_stays_on_when_something_failed(self) -> None:
        agent = self.agent()
        for header in (self.root / "store.json", self.root / "copies" / "store.json"):
            header.unlink()
        agent.schedule.run_due(RunDue("power-off"))
        agent._worker.wait()
        self.assertEqual(self.power.asked, [])
        self.assertTrue(
            any("end of the day" in event.what for event in agent.context.journal.events(Filter()))
        )

    def test_ejecting_names_who_holds_the_disk(self) -> None:
        agent = self.agent()
        self.at(ON_THE_HOUR, agent)
        with (self.root / "store.json").open():
            found = holders(self.rack.folder("Pier"))
            self.assertEqual([one.file for one in found], [str(self.root / "store.json")])
        self.assertIn("pulled out", agent.stores.eject(EjectDisk(OFFICE, self.job.stores[0].id)))
        self.assertFalse(self.root.exists())
        self.at(ON_THE_HOUR + MINUTE, agent)
        self.assertEqual(self.state_of(agent), State.AWAY)

    def minute(self, second: float) -> AbstractContextManager[object]:
        """Let the minute in which the machine can be kept on be sixty times so long."""
        return mock.patch("good_tide.operations.schedule.end_of_day._SECOND", second)
