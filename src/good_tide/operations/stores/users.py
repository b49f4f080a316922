"""Which jobs of this machine use a store."""

from __future__ import annotations

from good_tide.core.errors import GoodTideError
from good_tide.core.records import Machine
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.context import Context
from good_tide.operations.stores.opened import id_of
from good_tide.operations.stores.opening import Store, StorePlace
from good_tide.operations.workplace import load_jobs


def users_of(context: Context, store: Store) -> list[tuple[Job, StoreRef]]:
    """The jobs of this machine that use an open store, each with how it finds it."""
    return users_at(context, store.place.where)


def users_at(context: Context, where: StorePlace) -> list[tuple[Job, StoreRef]]:
    """The jobs of this machine whose store is in a place now. Settings that cannot be read name none."""
    try:
        jobs = load_jobs(context.here.settings)
    except GoodTideError:
        return []
    return [(job, ref) for job in jobs for ref in job.stores if context.whereabouts.untouched(ref) == where]


def job_using(context: Context, store: Store) -> Job | None:
    """The first of them."""
    return next((job for job, _ in users_of(context, store)), None)


def job_of(context: Context, store: Store, machine: Machine) -> Job | None:
    """The job that writes a machine's history into a store, if it is one of this machine's."""
    for job in load_jobs(context.here.settings):
        own = job.machine or context.here.machine
        if own.id == machine.id and any(ref.store == id_of(store) for ref in job.stores):
            return job
    return None
