"""What every use case works with, made in one place for agent and commands alike."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec

from good_tide.core.clock import Clock, SystemClock
from good_tide.core.happenings import Event
from good_tide.core.places import DiskFacts
from good_tide.core.records import Machine
from good_tide.core.settings import Job
from good_tide.operations.places.whereabouts import Whereabouts
from good_tide.operations.records.alarms import AlarmRecords
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.restores import RestoreNotes
from good_tide.operations.records.run_records import RunRecords
from good_tide.operations.records.store_health import HealthRecords
from good_tide.operations.workplace import Workplace, this_workplace
from good_tide.storage.folder_place import STORE_SIZES
from good_tide.storage.place import StorePlace
from good_tide.system.disk_choice import disks_for
from good_tide.system.disks import Disks
from good_tide.system.keyrings import DesktopKeyRing, KeyRing


class Context(msgspec.Struct, frozen=True, kw_only=True):
    """The workstation with its settings, the clock, its disks, what is kept of jobs, runs and stores, and the
    key ring."""

    here: Workplace
    clock: Clock
    disks: Disks
    whereabouts: Whereabouts
    journal: Journal
    records: RunRecords
    health: HealthRecords
    alarms: AlarmRecords
    restores: RestoreNotes
    ring: KeyRing

    def machine_of(self, job: Job) -> Machine:
        """Whose history a job has in its stores."""
        return job.machine or self.here.machine

    def disk_of(self, where: StorePlace) -> DiskFacts | None:
        """The disk that a store's place is on; None where it is on none, or on none that is known."""
        return self.disks.of_folder(where.folder) if where.folder is not None else None


def open_context(
    here: Workplace,
    clock: Clock | None = None,
    disks: Disks | None = None,
    ring: KeyRing | None = None,
    also: Callable[[Event], None] | None = None,
) -> Context:
    """The context of a workplace; of the machine itself where no stand-ins are given.

    :param also: told of every event of the journal besides, such as the system's own log.
    """
    clock, disks = clock or SystemClock(), disks or disks_for(here.settings)
    STORE_SIZES.keep_in(here.cache / "sizes")
    return Context(
        here=here,
        clock=clock,
        disks=disks,
        whereabouts=Whereabouts(disks),
        journal=Journal(here.records, clock, also),
        records=RunRecords(here.records),
        health=HealthRecords(here.records),
        alarms=AlarmRecords(here.records),
        restores=RestoreNotes(here.records),
        ring=ring or DesktopKeyRing(),
    )


def this_context(settings: Path | None = None) -> Context:
    """The context of the person who runs the program; with other settings than their own, if given."""
    return open_context(this_workplace(settings))
