"""Machines that were made from an image of another: whose history is whose."""

from __future__ import annotations

from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.stores.opening import Store
from good_tide.storage.summaries import last_snapshot


def accept_history(context: Context, job: Job, store: Store) -> bool:
    """A person has looked: a job's history in a store is its own, as it is. False if nobody else had written
    it."""
    machine, memory = context.machine_of(job).id, StoreMemory(context.here.state, store.header.store)
    if not memory.is_mixed(machine):
        return False
    memory.accept(machine, last_snapshot(store, machine))
    context.journal.add(
        "note", job, tr("The history in {title} is taken as it is").format(title=store.place.title)
    )
    return True
