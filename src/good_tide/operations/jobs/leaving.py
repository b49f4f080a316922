"""A job is removed or renamed: what stays of it where, and its rows in what its stores know of all
machines."""

from __future__ import annotations

import contextlib
import enum
import os
import shutil
from collections.abc import Sequence
from typing import NamedTuple

from good_tide.core.errors import GoodTideError, PersonError, PlaceError
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.core.words import count_words
from good_tide.operations.context import Context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.records.journal import JOURNAL_FILE
from good_tide.operations.stores.fleet import rename_status, retire_job
from good_tide.operations.stores.holding_area import area_folder, area_root, held_count
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.left_behind import left_areas, left_count
from good_tide.operations.stores.opening import own_cache
from good_tide.operations.workplace import load_jobs
from good_tide.system.jobs import JOBS_FOLDER
from good_tide.system.mail_server import MAIL_FILE


class What(enum.StrEnum):
    """What something is that stays, by the word under which it is taken away."""

    STORE = "store"
    WAITING = "waiting"
    CACHE = "cache"
    PASSPHRASE = "passphrase"
    SET_ASIDE = "set-aside"
    RECORDS = "records"
    SETTINGS = "settings"
    DEMO = "demo"
    PROGRAM = "program"


OF_JOBS = (What.WAITING, What.CACHE, What.PASSPHRASE)
"""What can be taken away with a job."""
OF_PROGRAM = tuple(one for one in What if one is not What.STORE)
"""What can be taken away with the program. A store never can."""


class Stays(NamedTuple):
    """Something that stays, where it lies, and what it is."""

    path: str
    what: str
    kind: What


def what_stays(context: Context, job: Job) -> list[Stays]:
    """What a job leaves where it is: nothing of it is removed with the job."""
    here = context.here
    found = [
        Stays(ref.path or ref.called, tr("the store with its snapshots"), What.STORE) for ref in job.stores
    ]
    for ref in job.stores:
        count = held_count(here.holdings, ref)
        if count:
            waiting = tr("{count} that the store {called} does not have yet").format(
                count=count_words(count, "snapshot"), called=ref.called
            )
            found.append(Stays(str(area_folder(here.holdings, ref)), waiting, What.WAITING))
        left = left_count(here.holdings, ref)
        if left:
            what = tr("{left} of an earlier store in the place of {called}").format(
                left=count_words(left, "snapshot"), called=ref.called
            )
            found += [Stays(str(area), what, What.WAITING) for area in left_areas(here.holdings, ref)]
        cache = own_cache(here.cache, ref.store) if ref.store else None
        if cache is not None and cache.is_dir():
            what = tr("names of files and folders of the store, for its timeline")
            found.append(Stays(str(cache), what, What.CACHE))
    if job.passphrase_file:
        found.append(Stays(job.passphrase_file, tr("the passphrase"), What.PASSPHRASE))
    found.append(Stays(str(here.records / JOURNAL_FILE), tr("the journal of what was done"), What.RECORDS))
    return found


def all_that_stays(context: Context) -> list[Stays]:
    """What stays of all jobs, and of the program itself, when it is taken off this machine."""
    here = context.here
    found = [
        one
        for job in load_jobs(here.settings)
        for one in what_stays(context, job)
        if one.kind not in (What.CACHE, What.RECORDS)
    ]
    known = {one.path for one in found}
    root = area_root(here.holdings)
    for area in sorted(root.iterdir()) if root.is_dir() else ():
        if area.is_dir() and str(area) not in known:
            found.append(Stays(str(area), tr("the holding area of a store"), What.WAITING))
    for note in context.restores.all():
        for aside in note.folders:
            if os.path.isdir(aside):
                found.append(Stays(aside, tr("what a restore set aside"), What.SET_ASIDE))
    for folder, what, kind in (
        (here.cache, tr("names of files and folders in stores; made again when they are needed"), What.CACHE),
        (here.records, tr("the journal, records of runs and restores, the program's log"), What.RECORDS),
        (here.settings / JOBS_FOLDER, tr("the jobs"), What.SETTINGS),
        (here.settings / MAIL_FILE, tr("the mail server for reports"), What.SETTINGS),
        (here.data / "demo", tr("the demo"), What.DEMO),
    ):
        if folder.exists():
            found.append(Stays(str(folder), what, kind))
    return list({one.path: one for one in found}.values())


def takeable(context: Context, job: Job, stays: Sequence[Stays]) -> list[Stays]:
    """What of it can go with a job: nothing that another job needs."""
    needed = {
        one.path
        for other in load_jobs(context.here.settings)
        if other.id != job.id
        for one in what_stays(context, other)
    }
    return [one for one in stays if one.kind in OF_JOBS and one.path not in needed]


def chosen(stays: Sequence[Stays], takes: Sequence[str]) -> list[Stays]:
    """What stands under some words; ``all``: under any but ``passphrase``, which the stores that stay
    need."""
    return [
        one
        for one in stays
        if one.kind is not What.STORE
        and (one.kind in takes or ("all" in takes and one.kind is not What.PASSPHRASE))
    ]


def untouchable(context: Context, *jobs: Job) -> list[str]:
    """What is never deleted with anything around it: the stores and folders of jobs, and the person's
    home."""
    known = [*load_jobs(context.here.settings), *jobs]
    paths = [path for job in known for path in (*job.folders, *(ref.path for ref in job.stores))]
    return [home_folder(), *(path for path in paths if path)]


def take_away(stays: Sequence[Stays], never: Sequence[str]) -> None:
    """Delete what stays, for good.

    :param never: what must not be deleted with it (``untouchable``).

    Raises:
        PersonError: something of that is in it; nothing was deleted. PlaceError: something cannot be deleted.
    """
    for one in stays:
        around = os.path.realpath(one.path)
        held = [path for path in never if f"{os.path.realpath(path)}/".startswith(f"{around}/")]
        if held:
            raise PersonError(
                tr("{path} holds {held}, and is not deleted").format(path=one.path, held=held[0]),
                tr("Move that elsewhere first, or name what else is to go"),
            )
    for one in stays:
        try:
            if os.path.isdir(one.path) and not os.path.islink(one.path):
                shutil.rmtree(one.path)
            else:
                os.unlink(one.path)
        except FileNotFoundError:
            continue
        except OSError as error:
            raise PlaceError(
                tr("{path} cannot be deleted ({strerror})").format(path=one.path, strerror=error.strerror),
                tr("Check its folder"),
            ) from error


def bytes_of(path: str) -> int:
    """How much a file or a folder takes, links not followed."""
    try:
        total = os.lstat(path).st_size if not os.path.isdir(path) else 0
    except OSError:
        return 0
    for above, _, files in os.walk(path):
        for name in files:
            with contextlib.suppress(OSError):
                total += os.lstat(os.path.join(above, name)).st_size
    return total


def retire_rows(context: Context, stores: JobStores) -> list[StoreRef]:
    """Let a job that is removed be late no more in what its stores know of all machines.

    :returns: the stores where that could not be done, because they are away or nobody can open them.
    """
    job, missed = stores.job, []
    for ref in job.stores:
        try:
            retire_job(stores.store(ref), context.machine_of(job), job.name, context.clock.now())
        except GoodTideError:
            missed.append(ref)
    return missed


def rename_rows(context: Context, stores: JobStores, before: str) -> None:
    """Let the rows of a job that was renamed have its new name at once, in the stores that can be opened;
    elsewhere its next snapshot does it."""
    job = stores.job
    for ref in job.stores:
        with contextlib.suppress(GoodTideError):
            rename_status(stores.store(ref), context.machine_of(job), before, job.name)
