"""Jobs at work: making one with its stores, finding its stores, taking its snapshots."""

from __future__ import annotations

import hashlib
import itertools
import os
from collections.abc import Sequence
from typing import Any, NamedTuple

import msgspec

from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.given_words import checked_name
from good_tide.core.identifiers import MachineId
from good_tide.core.jobfile import JobFile, StorePart, expand_folder, store_ref
from good_tide.core.records import Machine
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.core.words import is_text, printable
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.places.whereabouts import Whereabouts
from good_tide.operations.stores.furnishing import WantedStore
from good_tide.operations.stores.opening import store_place
from good_tide.system.jobs import taken
from good_tide.system.machine import local_zone
from good_tide.system.user_folders import user_folders, user_name


def checked_folders(folders: Sequence[str]) -> tuple[tuple[str, ...], list[str]]:
    """Covered folders as they are kept, and what was noticed about them in sentences.

    Raises:
        PersonError: there is none, or one is not there.
    """
    absolute = [os.path.abspath(folder) for folder in folders]
    if not absolute:
        raise PersonError(tr("No folder is covered"), tr("Name at least one"))
    for folder in absolute:
        if not is_text(folder):
            raise PersonError(
                tr("The name of {fsencode} is no UTF-8 text, which settings cannot hold").format(
                    fsencode=printable(os.fsencode(folder))
                ),
                tr("Cover the folder it lies in"),
            )
        if not os.path.isdir(folder):
            raise PersonError(tr("There is no folder {folder}").format(folder=folder), tr("Check the path"))
    kept: list[str] = []
    notes = []
    for folder in sorted(set(absolute), key=absolute.index):
        outer = next(
            (other for other in absolute if folder != other and folder.startswith(other.rstrip("/") + "/")),
            None,
        )
        if outer is None:
            kept.append(folder)
        else:
            notes.append(
                tr("{folder} lies in {outer}, which is covered already").format(folder=folder, outer=outer)
            )
    notes += [
        tr("{folder} cannot be read by you: it will be missing from snapshots").format(folder=folder)
        for folder in kept
        if not os.access(folder, os.R_OK | os.X_OK)
    ]
    return tuple(kept), notes


def own_history(job: Job, others: Sequence[Job], machine: Machine) -> Job:
    """A new job with a history of its own, wherever its stores are: the jobs of a machine may share one, and
    neither thins nor shows the other's snapshots. The first job has the machine's history, each further one
    that of the machine under the job's name.

    Raises:
        PersonError: there is a job of this name already, or it is none.
    """
    job = msgspec.structs.replace(job, name=checked_name(job.name))
    name = job.name.casefold()
    if any(other.name.casefold() == name for other in others):
        raise taken(job.name)
    if all(other.machine is not None for other in others):
        return job
    used = {other.machine.id for other in others if other.machine is not None}
    numbers = (
        MachineId(hashlib.sha256(f"good-tide job {machine.id} {name} {count}".encode()).hexdigest()[:32])
        for count in itertools.count()
    )
    return msgspec.structs.replace(
        job, machine=Machine(next(one for one in numbers if one not in used), f"{machine.name} · {job.name}")
    )


class FromFile(NamedTuple):
    """A job as a file says, without stores yet; the stores it wants that can be used now; what was noticed,
    in sentences; and what the disks of its other stores are called, which are not here."""

    job: Job
    wanted: list[WantedStore]
    notes: list[str]
    absent: list[str]


def job_of_file(file: JobFile, machine: Machine, whereabouts: Whereabouts) -> FromFile:
    """A job as a file says.

    Raises:
        PersonError: a folder is not on this machine.
        PlaceError: none of its disks is here.
    """
    fields = fields_of(file)
    folders, notes = checked_folders(fields.pop("folders"))
    wanted, absent = wanted_of(file.store, machine, whereabouts)
    if absent and not wanted:
        raise PlaceError(
            tr("The disk {absent} is not here").format(absent=absent[0]),
            tr("Connect it, and load the file again"),
        )
    job = Job(name=file.name, folders=folders, stores=(), agreed=fields["ladder"], **fields)
    return FromFile(job, wanted, notes, absent)


def wanted_of(
    parts: Sequence[StorePart], machine: Machine, whereabouts: Whereabouts
) -> tuple[list[WantedStore], list[str]]:
    """The stores of a job file that can be used now, and what the disks of the others are called."""
    wanted, absent = [], []
    for part in parts:
        ref = store_ref(part, machine.name, user_name())
        where = whereabouts.of(ref) if ref.disk else store_place(ref.path)
        if where is None:
            absent.append(f"{ref.name} ({ref.disk.replace(':', ' ', 1)})")
        else:
            wanted.append(WantedStore(msgspec.structs.replace(ref, path=where.called), where, part.encrypted))
    return wanted, absent


def fields_of(file: JobFile) -> dict[str, Any]:
    """The fields of a job that a job file says, but its name and its stores.

    Raises:
        PersonError: a folder means nothing on this machine, or the ladder makes no sense.
    """
    home = home_folder()
    known = user_folders(home)
    return {
        "folders": tuple(expand_folder(folder, home, known) for folder in file.folders),
        "store_use": file.store_use,
        "rules": file.rules,
        "kinds": file.kinds,
        "rhythm": file.rhythm.rhythm(local_zone()),
        "holding": file.holding,
        "noise": file.noise,
        "reporting": file.reporting,
        "ladder": file.parsed_ladder(),
        "room": file.room,
        "precious": file.precious,
        "read_back_days": file.read_back_days,
        "line": file.line,
        "passphrase_file": expand_folder(file.passphrase_file, home, {}) if file.passphrase_file else "",
    }
