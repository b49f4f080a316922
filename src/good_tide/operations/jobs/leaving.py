"""A job is removed or renamed: what stays of it where, and its rows in what its stores know of all
machines."""

from __future__ import annotations

import contextlib
from typing import NamedTuple

from good_tide.core.errors import GoodTideError
from good_tide.core.settings import Job, StoreRef
from good_tide.core.words import count_words
from good_tide.operations.context import Context
from good_tide.operations.records.journal import JOURNAL_FILE
from good_tide.operations.stores.fleet import rename_status, retire_job
from good_tide.operations.stores.holding_area import area_folder, held_count
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.left_behind import left_areas, left_count
from good_tide.operations.stores.opening import own_cache


class Stays(NamedTuple):
    """Something that stays, where it lies, and what it is."""

    path: str
    what: str


def what_stays(context: Context, job: Job) -> list[Stays]:
    """What a job leaves where it is: nothing of it is removed with the job."""
    here = context.here
    found = [Stays(ref.path or ref.called, "the store with its snapshots") for ref in job.stores]
    for ref in job.stores:
        count = held_count(here.holdings, ref)
        if count:
            waiting = f"{count_words(count, 'snapshot')} that the store {ref.called} does not have yet"
            found.append(Stays(str(area_folder(here.holdings, ref)), waiting))
        left = left_count(here.holdings, ref)
        if left:
            what = f"{count_words(left, 'snapshot')} of an earlier store in the place of {ref.called}"
            found += [Stays(str(area), what) for area in left_areas(here.holdings, ref)]
        cache = own_cache(here.cache, ref.store) if ref.store else None
        if cache is not None and cache.is_dir():
            found.append(Stays(str(cache), "names of files and folders of the store, for its timeline"))
    if job.passphrase_file:
        found.append(Stays(job.passphrase_file, "the passphrase"))
    found.append(Stays(str(here.records / JOURNAL_FILE), "the journal of what was done"))
    return found


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
