"""A watch from afar: each snapshot leaves a small record in the store, and whoever can read the store sees
all machines."""

from __future__ import annotations

import contextlib
from collections import Counter
from collections.abc import Sequence

import msgspec

from good_tide import __version__
from good_tide.core.clock import SECOND, Clock
from good_tide.core.errors import DamageError, GoodTideError, NotInPlaceError, PersonError
from good_tide.core.records import Count, Machine, Snapshot
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.core.words import local
from good_tide.storage.decoding import unpacked
from good_tide.storage.envelope import FileKind
from good_tide.storage.place import clear
from good_tide.storage.store import Store
from good_tide.storage.summaries import known_snapshots
from good_tide.system.machine import local_zone

_FOLDER = "status"
_OWNER = "status-"
_SLACK = 2 * 3600 * SECOND
DAYS = 7
"""Days that the strip of a machine shows."""
_WEEK = DAYS * 86400 * SECOND


class StatusRecord(msgspec.Struct, frozen=True):
    """What a machine says of itself after a snapshot. Times in nanoseconds since 1970 UTC.

    :param next: when the next snapshot is meant to be taken, 0: by hand only.
    :param retired: when it was said that it takes no more snapshots, 0: it does.
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
    retired: Count = 0


class FleetRow(msgspec.Struct, frozen=True):
    """One machine's job as its store knows it.

    :param late: in nanoseconds, 0 when it is not.
    :param week: how many snapshots the machine took on each of the last seven days, today's last.
    """

    record: StatusRecord
    snapshots: int
    late: int
    week: tuple[int, ...] = (0,) * DAYS


def leave_status(store: Store, job: Job, machine: Machine, snapshot: Snapshot, clock: Clock) -> None:
    """Leave the record of a snapshot, in place of this job's earlier ones. The snapshot does not depend on
    it."""
    tally, due = snapshot.tally, next(job.rhythm.starts(clock.now(), 0, local_zone()), None)
    record = StatusRecord(
        machine,
        job.name,
        snapshot.time,
        snapshot.id,
        due or 0,
        job.rhythm.words(),
        tally.files,
        tally.bytes,
        snapshot.gaps,
        __version__,
    )
    with contextlib.suppress(GoodTideError):
        _replace(store, record, machine.id, (job.name, *job.former, ""))


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
    """All machines that use a store, those that are latest first and those that were retired last.

    A machine is late when its next snapshot is overdue by more than two hours, or, where snapshots are taken
    by hand, when there was none for a week. Of machines without a record their newest snapshot tells.
    """
    newest = {key: record for key, (_, record) in _newest(store).items()}
    counts: Counter[str] = Counter()
    weeks: dict[str, list[int]] = {}
    known, today = {machine for machine, _ in newest}, local(now).date()
    for snapshot in known_snapshots(store)[0]:
        machine, time = snapshot.machine, snapshot.time
        counts[machine.id] += 1
        if time > now - _WEEK - 86400 * SECOND and 0 <= (ago := (today - local(time).date()).days) < DAYS:
            weeks.setdefault(machine.id, [0] * DAYS)[DAYS - 1 - ago] += 1
        if machine.id not in known:
            tally = snapshot.tally
            newest[machine.id, ""] = StatusRecord(
                machine, "", time, snapshot.id, files=tally.files, bytes=tally.bytes, gaps=snapshot.gaps
            )
    rows = [
        FleetRow(record, counts[machine], _late(record, now), tuple(weeks.get(machine, [0] * DAYS)))
        for (machine, _), record in newest.items()
    ]
    return sorted(
        rows, key=lambda row: (bool(row.record.retired), -row.late, row.record.machine.name, row.record.job)
    )


def retire(store: Store, machine: str, job: str | None, now: int) -> list[StatusRecord]:
    """Say of a machine that it takes no more snapshots into a store: it is late no more. A snapshot that it
    takes all the same brings it back.

    :param machine: its name. :param job: the name of one of its jobs, None: all of them.

    Raises:
        PersonError: the store knows no such machine, or job of it.
    """
    rows = [one for one in _meant(store, machine, job) if not one.retired]
    return [_kept(store, msgspec.structs.replace(one, retired=now)) for one in rows]


def reinstate(store: Store, machine: str, job: str | None) -> list[StatusRecord]:
    """The other way round: a machine that was retired is watched again.

    Raises:
        PersonError: the store knows no such machine, or job of it.
    """
    rows = [one for one in _meant(store, machine, job) if one.retired]
    return [_kept(store, msgspec.structs.replace(one, retired=0)) for one in rows]


def retire_job(store: Store, machine: Machine, job: str, now: int) -> None:
    """Say that a job of a machine takes no more snapshots into a store, if it left a record there."""
    for (owner, name), (_, record) in _newest(store).items():
        if (owner, name) == (machine.id, job) and not record.retired:
            _kept(store, msgspec.structs.replace(record, retired=now))


def _kept(store: Store, record: StatusRecord) -> StatusRecord:
    """Keep a record that was changed in place of the one before."""
    _replace(store, record, record.machine.id, (record.job,))
    return record


def rename_status(store: Store, machine: Machine, before: str, job: str) -> None:
    """Let a machine's record follow a job to its new name."""
    for (owner, name), (_, record) in _newest(store).items():
        if owner == machine.id and name == before:
            _replace(store, msgspec.structs.replace(record, machine=machine, job=job), owner, (before, job))


def _meant(store: Store, machine: str, job: str | None) -> list[StatusRecord]:
    rows = [row.record for row in fleet(store, 0)]
    found = [one for one in rows if one.machine.name == machine and job in (None, one.job)]
    if not found:
        known = ", ".join(sorted({one.machine.name for one in rows})) or "none"
        jobs = ", ".join(one.job for one in rows if one.machine.name == machine and one.job)
        raise PersonError(
            tr("The store knows no machine {machine}").format(machine=machine)
            if not jobs
            else tr("{machine} has no job {job} there").format(machine=machine, job=job),
            tr("It knows {known}").format(known=known) if not jobs else tr("It has {jobs}").format(jobs=jobs),
        )
    return found


def _newest(store: Store) -> dict[tuple[str, str], tuple[str, StatusRecord]]:
    """The newest record of each machine and job, with the name of its file."""
    newest: dict[tuple[str, str], tuple[str, StatusRecord]] = {}
    for name, record in _records(store):
        key = (record.machine.id, record.job)
        if key not in newest or newest[key][1].time <= record.time:
            newest[key] = name, record
    return newest


def _replace(store: Store, record: StatusRecord, machine: str, jobs: Sequence[str]) -> None:
    """Write a record in place of those that a machine has of these jobs."""
    before = [name for name, old in _records(store) if old.machine.id == machine and old.job in jobs]
    store.write_sealed(FileKind.STATUS, _FOLDER, msgspec.msgpack.encode(record), _OWNER)
    for old_name in before:
        clear(store.place, f"{_FOLDER}/{old_name}")


def _late(record: StatusRecord, now: int) -> int:
    if record.retired:
        return 0
    if record.next:
        return max(0, now - record.next) if now > record.next + _SLACK else 0
    return now - record.time - _WEEK if now > record.time + _WEEK else 0
