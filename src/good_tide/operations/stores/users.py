"""Which jobs of this machine use a store."""

from __future__ import annotations

import os

from good_tide.core.errors import GoodTideError
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.context import Context
from good_tide.operations.stores.disks import locate
from good_tide.operations.stores.opening import Store
from good_tide.operations.workplace import load_jobs


def users_of(context: Context, store: Store) -> list[tuple[Job, StoreRef]]:
    """The jobs of this machine that use an open store, each with how it finds it."""
    return users_of_folder(context, store.place.title)


def users_of_folder(context: Context, folder: str) -> list[tuple[Job, StoreRef]]:
    """The jobs of this machine whose store lies in a folder now. Settings that cannot be read name none."""
    absolute = os.path.abspath(folder)
    try:
        jobs = load_jobs(context.here.settings)
    except GoodTideError:
        return []
    return [(job, ref) for job in jobs for ref in job.stores if str(locate(ref, context.disks)) == absolute]


def job_using(context: Context, store: Store) -> Job | None:
    """The first of them."""
    return next((job for job, _ in users_of(context, store)), None)
