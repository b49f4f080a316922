"""The journal, reports, mail, the watch from afar, and the commands that tell."""

from __future__ import annotations

from good_tide.core.clock import SetClock
from good_tide.core.identifiers import MachineId, Nanoseconds
from good_tide.core.records import Machine, Snapshot
from good_tide.core.rhythm import EVERY_HOUR, Rhythm, every
from good_tide.core.settings import Job
from good_tide.core.words import local
from good_tide.operations.stores.fleet import fleet, leave_status
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
