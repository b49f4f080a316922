"""Jobs at work: making one with its stores, finding its stores, taking its snapshots."""

from __future__ import annotations

import hashlib
import itertools
import os
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from good_tide.core.clock import Clock
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.jobfile import JobFile, expand_folder, store_ref
from good_tide.core.places import Level, Wanted
from good_tide.core.records import Machine
from good_tide.core.settings import Job, StoreRef
from good_tide.core.words import is_text, printable
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.passphrase_tries import TryCounter
from good_tide.operations.records.run_records import Books
from good_tide.operations.stores.disks import devices_under, examine, locate
from good_tide.operations.stores.opening import Store, create_at, open_at
from good_tide.operations.workplace import Workplace
from good_tide.storage.header import HEADER_FILE, NewStore, read_header
from good_tide.storage.place import LocalPlace
from good_tide.system import jobs
from good_tide.system.disks import Disks
from good_tide.system.jobs import taken
from good_tide.system.keyrings import KeyRing
from good_tide.system.machine import local_zone
from good_tide.system.user_folders import user_folders

Ask = Callable[[str, str], str | None]
"""Asks a person for the passphrase of a store, given its folder and hint; None when nobody can be asked."""


def checked_folders(folders: Sequence[str]) -> tuple[tuple[str, ...], list[str]]:
    """Covered folders as they are kept, and what was noticed about them in sentences.

    Raises:
        PersonError: there is none, or one is not there.
    """
    absolute = [os.path.abspath(folder) for folder in folders]
    if not absolute:
        raise PersonError("No folder is covered", "Name at least one")
    for folder in absolute:
        if not is_text(folder):
            raise PersonError(
                f"The name of {printable(os.fsencode(folder))} is no UTF-8 text, which settings cannot hold",
                "Cover the folder it lies in",
            )
        if not os.path.isdir(folder):
            raise PersonError(f"There is no folder {folder}", "Check the path")
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
            notes.append(f"{folder} lies in {outer}, which is covered already")
    notes += [
        f"{folder} cannot be read by you: it will be missing from snapshots"
        for folder in kept
        if not os.access(folder, os.R_OK | os.X_OK)
    ]
    return tuple(kept), notes


def own_history(job: Job, others: Sequence[Job], machine: Machine) -> Job:
    """A new job with a history of its own, wherever its stores are: the jobs of a machine may share one, and
    neither thins nor shows the other's snapshots. The first job has the machine's history, each further one
    that of the machine under the job's name.

    Raises:
        PersonError: there is a job of this name already.
    """
    name = job.name.casefold()
    free_name(job.name, None, others)
    if all(other.machine is not None for other in others):
        return job
    used = {other.machine.id for other in others if other.machine is not None}
    numbers = (
        hashlib.sha256(f"good-tide job {machine.id} {name} {count}".encode()).hexdigest()[:32]
        for count in itertools.count()
    )
    return msgspec.structs.replace(
        job, machine=Machine(next(one for one in numbers if one not in used), f"{machine.name} · {job.name}")
    )


def free_name(name: str, job: Job | None, others: Sequence[Job]) -> None:
    """Refuse a name that another job has.

    :param job: the one that is to have it, if there is one yet.

    Raises:
        PersonError: another has it, or it is none.
    """
    if not name.strip():
        raise PersonError("The job has no name", "Give it one")
    if any(
        other.name.casefold() == name.casefold() for other in others if job is None or other.name != job.name
    ):
        raise taken(name)


def rename_job(here: Workplace, before: Job, job: Job, journal: Journal) -> Job:
    """Keep a job under another name: its history, its book and its journal go on.

    Raises:
        PersonError: another job has that name.
    """
    machine = job.machine
    if machine is not None and machine.name.endswith(f" · {before.name}"):
        machine = Machine(machine.id, f"{machine.name.removesuffix(before.name)}{job.name}")
    job = msgspec.structs.replace(
        job, machine=machine, former=(*(name for name in job.former if name != job.name), before.name)
    )
    jobs.rename_job(here.settings, before.name, job)
    Books(here.records).rename(before.name, job.name)
    journal.rename(before.name, job.name)
    journal.add("note", job.name, f"The job {before.name} is called {job.name} from now on")
    return job


def check_store_folder(folder: str, covered: Sequence[str]) -> str | None:
    """What is to be said about a store's folder and the covered ones; None if nothing.

    Raises:
        PersonError: a covered folder lies in the store.
    """
    absolute = os.path.abspath(folder)
    for one in covered:
        if one == absolute or one.startswith(absolute + "/"):
            raise PersonError(
                f"The covered folder {one} lies in the store {absolute}",
                "Choose another folder for the store",
            )
        if absolute.startswith(one.rstrip("/") + "/"):
            return f"The store lies in the covered folder {one}; it leaves itself out"
    return None


def passphrase_for(job: Job, folder: Path, ring: KeyRing | None, ask: Ask | None = None) -> str | None:
    """The passphrase of a job's store: from its file, the key ring, or a person. None where there is none to
    be had.

    Raises:
        PersonError: the passphrase file cannot be read.
    """
    header = read_header(LocalPlace(folder))
    if not header.encrypted:
        return None
    if job.passphrase_file:
        try:
            return Path(job.passphrase_file).read_text(encoding="utf-8").rstrip("\r\n")
        except (OSError, UnicodeDecodeError) as error:
            raise PersonError(
                f"The passphrase file {job.passphrase_file} cannot be read",
                "Check the path, or change the job",
            ) from error
    if ring is not None:
        try:
            found = ring.recall(header.store)
        except PlaceError:
            found = None
        if found is not None:
            return found
    return ask(str(folder), header.store) if ask is not None else None


def open_counted(folder: Path, passphrase: str | None, state: Path, clock: Clock) -> Store:
    """Open a store, counting wrong tries.

    Raises:
        PlaceError: too many of them lately; or as ``open_at``.
    """
    if passphrase is None:
        return open_at(folder, None)
    if not os.path.isfile(folder / HEADER_FILE):
        return open_at(folder, passphrase)
    counter = TryCounter(state, read_header(LocalPlace(folder)).store, clock)
    return counter.counted(lambda: open_at(folder, passphrase))


class WantedStore(msgspec.Struct, frozen=True):
    """A store that a job is to have: where it is to be found, the directory now, and whether it is encrypted
    if it has to be made."""

    ref: StoreRef
    folder: Path
    encrypted: bool = True


class MadeStore(msgspec.Struct, frozen=True):
    """A store that came to a job: made now, with its recovery key, or found there already; ``doubts`` speak
    against its place."""

    ref: StoreRef
    folder: str
    made: bool
    recovery_key: str | None = None
    doubts: tuple[str, ...] = ()


def furnish(
    job: Job,
    wanted: Sequence[WantedStore],
    disks: Disks,
    passphrase: Callable[[], str | None],
    open_first: Callable[[StoreRef], Store | None],
    hint: str = "",
) -> tuple[Job, list[MadeStore], list[str]]:
    """A job with further stores, made where there are none; and what was noticed, in sentences. Every place
    is checked before the first store is made.

    :param passphrase: gives the one for new encrypted stores; None when there is none to be had.
    :param open_first: opens the job's first store if that is possible now: new ones share the identities of
        its chunks.

    Raises:
        PersonError: a place cannot take a store, or a passphrase is missing.
    """
    notes: list[str] = []
    doubts: list[tuple[str, ...]] = []
    devices = devices_under(disks, job.folders)
    for one in wanted:
        note = check_store_folder(str(one.folder), job.folders)
        notes += [note] if note else []
        checks = examine(disks, one.folder, Wanted(devices=devices), frozenset(), False).checks
        for check in checks:
            if check.level is Level.BAD:
                raise PersonError(f"{one.folder} cannot take a store: {check.what}", check.way_out)
        doubts.append(tuple(check.what for check in checks if check.level is Level.DOUBTFUL))
        if one.encrypted and not os.path.isfile(one.folder / HEADER_FILE) and passphrase() is None:
            raise PersonError(
                "A passphrase is needed for the new store", "Give --passphrase-file, or --unencrypted"
            )
    refs, made = list(job.stores), []
    for one, against in zip(wanted, doubts, strict=True):
        key = None
        found = os.path.isfile(one.folder / HEADER_FILE)
        ref = one.ref
        if not found:
            new = create_at(
                one.folder,
                passphrase() if one.encrypted else None,
                hint,
                open_first(refs[0]) if refs else None,
            )
            ref, key = ref_of(ref, new), new.recovery_key
        else:
            header = read_header(LocalPlace(one.folder))
            ref = msgspec.structs.replace(ref, store=header.store, encrypted=header.encrypted)
        made.append(MadeStore(ref, str(one.folder), not found, key, against))
        refs.append(ref)
        notes += against
    return msgspec.structs.replace(job, stores=tuple(refs)), made, notes


def ref_of(ref: StoreRef, new: NewStore) -> StoreRef:
    """A reference that knows the store that was just made."""
    return msgspec.structs.replace(
        ref, store=new.header.store, encrypted=new.header.encrypted, keys=new.keys.fingerprint
    )


def job_of_file(file: JobFile, machine: Machine, disks: Disks) -> tuple[Job, list[WantedStore], list[str]]:
    """A job as a file says, without stores yet; the stores it wants; and what was noticed, in sentences.

    Raises:
        PersonError: a folder is not on this machine.
        PlaceError: a disk is not here.
    """
    home = home_folder()
    folders, notes = checked_folders(
        [expand_folder(folder, home, user_folders(home)) for folder in file.folders]
    )
    wanted = []
    for part in file.store:
        ref = store_ref(part, machine.name)
        folder = locate(ref, disks) if ref.disk else Path(ref.path)
        if folder is None:
            raise PlaceError(
                f"The disk {ref.name} is not here",
                f"Connect the disk that is known by {ref.disk.replace(':', ' ', 1)}",
            )
        wanted.append(WantedStore(msgspec.structs.replace(ref, path=str(folder)), folder, part.encrypted))
    job = Job(
        name=file.name,
        folders=folders,
        stores=(),
        store_use=file.store_use,
        rules=file.rules,
        kinds=file.kinds,
        rhythm=file.rhythm.rhythm(local_zone()),
        holding=file.holding,
        noise=file.noise,
        reporting=file.reporting,
        ladder=file.parsed_ladder(),
        agreed=file.parsed_ladder(),
        room=file.room,
        precious=file.precious,
    )
    return job, wanted, notes
