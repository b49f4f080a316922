"""A job file over a job that is there: what would change, and changing it; and a job as a file."""

from __future__ import annotations

import msgspec

from good_tide.core.job_values import Difference, differences
from good_tide.core.jobfile import Here, JobFile, job_file, store_ref
from good_tide.core.settings import Job, MailServer, StoreRef
from good_tide.operations.context import Context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.jobs.changing import (
    change_coverage,
    change_ladder,
    change_rhythm,
    change_room,
    keep,
    rename,
    use_stores,
)
from good_tide.operations.jobs.making import fields_of
from good_tide.operations.stores.opening import locked_hint
from good_tide.system.user_folders import user_folders, user_name


def file_of(context: Context, job: Job, portable: bool = False, mail: MailServer | None = None) -> JobFile:
    """A job as a job file.

    :param portable: so that it fits another machine: disks by their labels where they have one, and the names
        of this machine and person left open.
    """
    home = home_folder()
    here = Here(home, user_folders(home))
    if portable:
        names, machine = user_name(), context.here.machine.name
        here = msgspec.structs.replace(here, machine=machine, user=names, labels=_labels(context, job))
    return job_file(job, _encrypted(context, job), here, mail)


def _labels(context: Context, job: Job) -> dict[str, str]:
    """The volume labels of the disks of a job's stores that are here, by the disks' ids."""
    found: dict[str, str] = {}
    for ref in job.stores:
        where = context.whereabouts.of(ref)
        disk = context.disk_of(where) if where is not None else None
        names = (disk.id, *disk.aliases) if disk is not None else ()
        label = next((one.removeprefix("label:") for one in names if one.startswith("label:")), "")
        if label and ref.disk:
            found[ref.disk] = label
    return found


def _encrypted(context: Context, job: Job) -> dict[str, bool]:
    found = {ref.path: ref.encrypted for ref in job.stores if ref.encrypted is not None}
    for ref in job.stores:
        where = context.whereabouts.of(ref)
        if where is not None:
            found[ref.path] = locked_hint(where) is not None
    return found


class Loading(msgspec.Struct, frozen=True):
    """What a job file would make of a job: the settings that differ, the parts of the file whose stores the
    job does not have, and its stores that the file does not have."""

    file: JobFile
    differences: list[Difference]
    new: tuple[int, ...]
    dropped: tuple[StoreRef, ...]


def loading(context: Context, job: Job, file: JobFile) -> Loading:
    """What a job file would make of a job.

    Raises:
        PersonError: a folder of it means nothing here.
    """
    matched: dict[int, StoreRef] = {}
    for number, part in enumerate(file.store):
        ref = store_ref(part, context.here.machine.name, user_name())
        where = context.whereabouts.of(ref) if ref.disk else None
        path = where.called if where is not None else ref.path
        for known in job.stores:
            if known.place == ref.place or (path and known.path == path):
                matched[number] = known
    now = file_of(context, job)
    like = msgspec.structs.replace(job, **fields_of(file), name=file.name)
    stores = tuple(
        now.store[job.stores.index(matched[number])] if number in matched else part
        for number, part in enumerate(file.store)
    )
    after = msgspec.structs.replace(file_of(context, like), store=stores, mail=None)
    new = tuple(number for number in range(len(file.store)) if number not in matched)
    dropped = tuple(ref for ref in job.stores if ref not in matched.values())
    return Loading(file, differences(now, after), new, dropped)


def apply_file(context: Context, job: Job, file: JobFile) -> Job:
    """Give a job the settings of a job file, all but its stores. Each change is noted as by its own command.

    Raises:
        PersonError: a folder is not here, or another job has the name.
    """
    like = msgspec.structs.replace(job, **fields_of(file))
    begun = msgspec.structs.replace(
        job,
        kinds=like.kinds,
        read_back_days=like.read_back_days,
        line=like.line,
        passphrase_file=like.passphrase_file,
    )
    job = change_coverage(context, begun, like.folders, like.rules)
    if like.rhythm != job.rhythm or (like.holding, like.noise, like.reporting) != (
        job.holding,
        job.noise,
        job.reporting,
    ):
        job = change_rhythm(context, job, like.rhythm, like.holding, like.noise, like.reporting)
    if (like.ladder, like.precious) != (job.ladder, job.precious):
        job = change_ladder(context, job, like.ladder, job.agreed == like.ladder, like.precious)
    if like.room != job.room:
        job = change_room(context, job, like.room)
    if like.store_use != job.store_use:
        job = use_stores(context, job, like.store_use)
    if file.name != job.name:
        job = rename(context, job, file.name)
    return keep(context, job)
