"""A watch from afar: each snapshot leaves a small record in the store, and whoever can read the store sees
all machines."""

from __future__ import annotations

import contextlib

import msgspec

from good_tide import __version__
from good_tide.core.clock import SECOND, Clock
from good_tide.core.errors import DamageError, GoodTideError, NotInPlaceError
from good_tide.core.records import Count, Machine, Snapshot
from good_tide.core.settings import Job
from good_tide.storage.decoding import unpacked
from good_tide.storage.envelope import FileKind
from good_tide.storage.store import Store
from good_tide.system.machine import local_zone

_FOLDER = "status"
_OWNER = "status-"
_SLACK = 2 * 3600 * SECOND
_WEEK = 7 * 86400 * SECOND


class StatusRecord(msgspec.Struct, frozen=True):
    """What a machine says of itself after a snapshot. Times in nanoseconds since 1970 UTC.

    :param next: when the next snapshot is meant to be taken, 0: by hand only.
    """

    machine: Machine
    job: str
    time: Count
    snapshot: str
    next: Count = 0
    rhythm: str = ""
    files: Count = 0
    bytes: Count = 0
    gaps: Count = 0
    program: str = ""


class FleetRow(msgspec.Struct, frozen=True):
    """One machine's job as its store knows it. ``late``: in nanoseconds, 0 when it is not."""

    record: StatusRecord
    snapshots: int
    late: int


def leave_status(store: Store, job: Job, machine: Machine, snapshot: Snapshot, clock: Clock) -> None:
    """Leave the record of a snapshot, in place of this job's earlier ones. The snapshot does not depend on
    it."""
    tally, due = snapshot.record.tally, next(job.rhythm.starts(clock.now(), 0, local_zone()), None)
    record = StatusRecord(
        machine,
        job.name,
        snapshot.record.time,
        snapshot.id,
        due or 0,
        job.rhythm.words(),
        tally.files,
        tally.bytes,
        snapshot.gaps,
        __version__,
    )
    with contextlib.suppress(GoodTideError):
        own = (job.name, *job.former)
        before = [name for name, old in _records(store) if old.machine.id == machine.id and old.job in own]
        store.write_sealed(FileKind.STATUS, _FOLDER, msgspec.msgpack.encode(record), _OWNER)
        for old_name in before:
            store.place.remove(f"{_FOLDER}/{old_name}")


def _records(store: Store) -> list[tuple[str, StatusRecord]]:
    found = []
    for name in store.place.names(_FOLDER):
        file = f"{_FOLDER}/{name}"
        with contextlib.suppress(DamageError, NotInPlaceError):
            found.append(
                (name, unpacked(store.read_sealed(FileKind.STATUS, file), StatusRecord, file, "a status"))
            )
    return found


def fleet(store: Store, now: int) -> list[FleetRow]:
    """All machines that use a store, those that are latest first.

    A machine is late when its next snapshot is overdue by more than two hours, or, where snapshots are taken
    by hand, when there was none for a week. Of machines without a record their newest snapshot tells.
    """
    newest: dict[tuple[str, str], StatusRecord] = {}
    for _, record in _records(store):
        key = (record.machine.id, record.job)
        if key not in newest or newest[key].time < record.time:
            newest[key] = record
    counts: dict[str, int] = {}
    known = {machine for machine, _ in newest}
    for snapshot in store.snapshots()[0]:
        machine, time = snapshot.record.machine, snapshot.record.time
        counts[machine.id] = counts.get(machine.id, 0) + 1
        if machine.id not in known:
            tally = snapshot.record.tally
            newest[machine.id, ""] = StatusRecord(
                machine, "", time, snapshot.id, files=tally.files, bytes=tally.bytes, gaps=snapshot.gaps
            )
    rows = [
        FleetRow(record, counts.get(machine, 0), _late(record, now))
        for (machine, _), record in newest.items()
    ]
    return sorted(rows, key=lambda row: (-row.late, row.record.machine.name, row.record.job))


def _late(record: StatusRecord, now: int) -> int:
    if record.next:
        return max(0, now - record.next) if now > record.next + _SLACK else 0
    return now - record.time - _WEEK if now > record.time + _WEEK else 0
