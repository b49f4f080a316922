"""The journal, reports, mail, the watch from afar, and the commands that tell."""

from __future__ import annotations

from good_tide.core.clock import SetClock
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import MachineId, Nanoseconds
from good_tide.core.records import Machine, Snapshot
from good_tide.core.rhythm import EVERY_HOUR, Rhythm, every
from good_tide.core.settings import Job
from good_tide.core.words import local
from good_tide.operations.stores.fleet import (
    fleet,
    leave_status,
    reinstate,
    rename_status,
    retire,
    retire_job,
)
from tests.support.base import (
    HOUR,
    MACHINE,
    OTHER_MACHINE,
    T0,
    GoodTideTest,
)

DAY = 24 * HOUR


class FleetTest(GoodTideTest):
    def leave(self, machine: Machine, job: str, hour: int, rhythm: Rhythm) -> Snapshot:
        self.write("a", f"{machine.name} {hour}")
        snapshot = self.snap(self.store, hour, machine)
        made = Job(name=job, folders=(), stores=(), rhythm=rhythm)
        leave_status(self.store, made, machine, snapshot, SetClock(Nanoseconds(T0 + hour * HOUR)))
        return snapshot

    def test_all_machines_with_those_that_are_late_first(self) -> None:
        self.store = self.new_store()
        hourly = Rhythm(rules=(EVERY_HOUR,))
        self.leave(MACHINE, "Office", 0, hourly)
        self.leave(MACHINE, "Office", 30, hourly)
        self.leave(OTHER_MACHINE, "Sound", 2, Rhythm(rules=(every(120),)))
        self.write("a", "third")
        self.snap(self.store, 29, Machine(MachineId("c3" * 16), "by hand"))
        rows = fleet(self.store, T0 + 31 * HOUR)
        self.assertEqual(
            [(row.record.machine.name, row.record.job, row.snapshots, bool(row.late)) for row in rows],
            [("laptop", "Sound", 1, True), ("by hand", "", 1, False), ("desk", "Office", 2, False)],
        )
        self.assertEqual(len(self.store.place.names("status")), 2)
        self.assertTrue(fleet(self.store, T0 + 31 * HOUR + 8 * DAY)[-1].late)

    def test_a_machine_is_not_late_outside_its_hours(self) -> None:
        self.store = self.new_store()
        day = local(T0).weekday()
        hours = f"{('mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun')[(day + 3) % 7]} 08:00-20:00"
        self.leave(MACHINE, "Office", 0, Rhythm(allowed=(hours,)))
        self.assertFalse(fleet(self.store, T0 + 2 * DAY)[0].late)
        self.assertTrue(fleet(self.store, T0 + 4 * DAY)[0].late)

    def test_a_record_that_is_damaged_hides_no_other(self) -> None:
        self.store = self.new_store()
        self.leave(MACHINE, "Office", 0, Rhythm())
        self.leave(OTHER_MACHINE, "Sound", 2, Rhythm())
        damaged = self.folder / "store" / "status" / self.store.place.names("status")[0]
        damaged.write_bytes(damaged.read_bytes()[:-3] + b"xyz")
        self.assertEqual(len(fleet(self.store, T0 + 3 * HOUR)), 2)

    def test_a_machine_that_is_retired_is_late_no_more_until_it_takes_a_snapshot(self) -> None:
        self.store, hourly = self.new_store(), Rhythm(rules=(EVERY_HOUR,))
        self.leave(OTHER_MACHINE, "Sound", 0, hourly)
        self.leave(MACHINE, "Office", 400, hourly)
        now = T0 + 401 * HOUR
        self.assertEqual([bool(row.late) for row in fleet(self.store, now)], [True, False])
        self.assertEqual([one.job for one in retire(self.store, "laptop", None, now)], ["Sound"])
        self.assertEqual(retire(self.store, "laptop", "Sound", now), [], "it is already")
        rows = fleet(self.store, now)
        self.assertEqual([(row.record.job, row.late) for row in rows], [("Office", 0), ("Sound", 0)])
        self.assertEqual(rows[1].record.retired, now)
        reinstate(self.store, "laptop", "Sound")
        self.assertTrue(fleet(self.store, now)[0].late)
        retire_job(self.store, OTHER_MACHINE, "Sound", now)
        self.leave(OTHER_MACHINE, "Sound", 402, hourly)
        self.assertEqual([row.record.retired for row in fleet(self.store, now)], [0, 0])
        for machine, job, said in (("nobody", None, "It knows desk, laptop"), ("desk", "X", "It has Office")):
            with self.assertRaises(PersonError) as refused:
                retire(self.store, machine, job, now)
            self.assertIn(said, refused.exception.advice)

    def test_a_machine_without_a_record_can_be_retired(self) -> None:
        self.store = self.new_store()
        self.write("a", "by hand")
        self.snap(self.store, 0, OTHER_MACHINE)
        retire(self.store, "laptop", None, T0)
        (row,) = fleet(self.store, T0 + 30 * DAY)
        self.assertEqual((row.late, row.record.retired), (0, T0))
        self.leave(OTHER_MACHINE, "Sound", 2, Rhythm())
        self.assertEqual(
            [one.record.job for one in fleet(self.store, T0)], ["Sound"], "the job has its place"
        )

    def test_a_row_follows_its_job_to_a_new_name(self) -> None:
        self.store = self.new_store()
        self.leave(MACHINE, "Office", 0, Rhythm())
        self.leave(MACHINE, "Sound", 0, Rhythm())
        rename_status(self.store, MACHINE, "Office", "Front of house")
        self.assertEqual([row.record.job for row in fleet(self.store, T0)], ["Front of house", "Sound"])

    def test_the_week_of_each_machine_day_by_day(self) -> None:
        self.store = self.new_store()
        for hour in (0, 1, 24, 24 * 6, 24 * 9):
            self.leave(MACHINE, "Office", hour, Rhythm())
        self.assertEqual(fleet(self.store, T0 + 6 * DAY)[0].week, (2, 1, 0, 0, 0, 0, 1))
        self.assertEqual(sum(fleet(self.store, T0 + 40 * DAY)[0].week), 0)
