"""A store's disk was replaced or emptied, while snapshots wait for it in the holding area: a new store takes
its place, and they are carried into it."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import msgspec

from good_tide.core.errors import PersonError
from good_tide.core.settings import Job, StoreRef
from good_tide.core.words import count_words
from good_tide.operations.context import Context
from good_tide.operations.snapshot.taking import Steps, take_snapshot
from good_tide.operations.stores import holding_area as areas
from good_tide.operations.stores.carrying import CarryReport, carry_held
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.opening import create_at, store_id
from good_tide.operations.stores.pinning import pinned
from good_tide.storage.header import holds_store
from good_tide.storage.holding import HoldingArea, open_holding
from good_tide.storage.place import disk_errors
from good_tide.storage.store import SNAPSHOT_FOLDER
from good_tide.system import jobs


class Replaced(msgspec.Struct, frozen=True):
    """What became of it: the job as it is now, the recovery key of a store that was made, how many held
    snapshots arrived, and those that could not be carried, with why."""

    job: Job
    recovery_key: str | None
    arrived: int
    left: tuple[tuple[str, str], ...]


def replace_store(
    context: Context,
    job: Job,
    ref: StoreRef,
    passphrase: str | None,
    stores_of: Callable[[Job], JobStores],
    steps: Steps,
    hint: str = "",
) -> Replaced:
    """Use what is in the place of a store now: another store, or a new one that is made there, which knows
    the old one's contents by the same identities. A snapshot is taken into it, then those are carried that
    wait in the holding area. What cannot be carried stays there.

    :param passphrase: of the old store, which a new one gets as well; None for one without encryption.

    It may be cut anywhere and begun again: the job keeps to the old store until all is done.

    Raises:
        PersonError: the old store is there after all. WrongPassphraseError: it does not open what waits;
            nothing was moved. GoodTideError: the new one cannot be made or written.
    """
    where = stores_of(job).present(ref)
    if holds_store(where) and store_id(where) == ref.store:
        raise PersonError(
            f"The store in {where.called} is the one of this job", "There is nothing to replace"
        )
    held = _waiting(context, ref, passphrase)
    recovery_key = None
    if not holds_store(where):
        encrypted = ref.encrypted if ref.encrypted is not None else held is not None and held.header.encrypted
        if encrypted and passphrase is None:
            raise PersonError("A passphrase is needed for the new store", "Give that of the old one")
        made = create_at(where, passphrase if encrypted else None, hint, twin=held)
        recovery_key = made.recovery_key
    if held is not None:
        held = _put_aside(context, ref, held, passphrase)
    fresh = msgspec.structs.replace(ref, store="", encrypted=None, keys="")
    alone = stores_of(msgspec.structs.replace(job, stores=(fresh,)))
    for taken in take_snapshot(context, alone, steps):
        if taken.error is not None:
            raise taken.error
    report = _carried(context, held, alone, fresh, steps) if held is not None else None
    known = pinned(fresh, alone.store(fresh))
    changed = _with(job, ref, known)
    jobs.update_job(context.here.settings, job.id, lambda now: _with(now, ref, known))
    words = f"Another store is in the place of the one in {where.called}, and is used from now on"
    context.journal.add("note", changed, words)
    left = report.damaged if report is not None else ()
    arrived = len(report.carried) if report is not None else 0
    if report is not None:
        what = f"{count_words(arrived, 'snapshot')} that waited for the old disk came into the new store"
        context.journal.add("note" if left else "good", changed, what, tuple(text for _, text in left))
    return Replaced(changed, recovery_key, arrived, left)


def _with(job: Job, ref: StoreRef, known: StoreRef) -> Job:
    stores = tuple(known if one.place == ref.place else one for one in job.stores)
    return msgspec.structs.replace(job, stores=stores)


def _aside(context: Context, ref: StoreRef) -> Path:
    """Where what waited for a store that was replaced lies: under its own id, as the next may be as well."""
    folder = areas.area_folder(context.here.holdings, ref)
    return folder.with_name(f"{folder.name}.{ref.store}.before")


def _waiting(context: Context, ref: StoreRef, passphrase: str | None) -> HoldingArea | None:
    """The holding area of the old store; where it was put aside before, from there. None where nothing
    waits."""
    aside = _aside(context, ref)
    if aside.exists():
        return open_holding(aside, passphrase, (), None)
    if not areas.held_count(context.here.holdings, ref):
        return None
    return open_holding(areas.area_folder(context.here.holdings, ref), passphrase, (), None)


def _put_aside(context: Context, ref: StoreRef, held: HoldingArea, passphrase: str | None) -> HoldingArea:
    """Put the holding area of the old store aside, so that the new one begins its own."""
    aside = _aside(context, ref)
    if held.root == aside:
        return held
    with disk_errors(f"Putting {held.root} aside"):
        held.root.rename(aside)
    return open_holding(aside, passphrase, (), None)


def _carried(
    context: Context, held: HoldingArea, alone: JobStores, ref: StoreRef, steps: Steps
) -> CarryReport:
    """Carry what waited into the new store, and forget what arrived."""
    store = alone.store(ref)
    held.base = store
    report = carry_held(held, store, context.here.state, steps.control)
    arrived = set(store.snapshot_ids())
    for name in held.held_names():
        if name in arrived:
            held.place.remove(f"{SNAPSHOT_FOLDER}/{name}")
    if not held.held_names():
        shutil.rmtree(held.root, ignore_errors=True)
    return report
