"""Opening a store that a person names: by its folder, or by the name of its disk in a job."""

from __future__ import annotations

import msgspec

from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.records.store_memory import Noticed, StoreMemory
from good_tide.operations.stores.holding_area import held_count
from good_tide.operations.stores.job_stores import JobStores, Passphrases
from good_tide.operations.stores.opening import Store, StorePlace, locked_hint, store_id, store_place
from good_tide.operations.stores.passphrases import kept_passphrase, open_counted
from good_tide.operations.stores.pinning import check_header, check_keys
from good_tide.operations.stores.users import users_at
from good_tide.operations.workplace import load_jobs
from good_tide.storage.place_kinds import is_there, limit_line


class Opened(msgspec.Struct, frozen=True):
    """A store that is open, and what is strange about it."""

    store: Store
    noticed: list[Noticed]


def open_place(
    context: Context, where: StorePlace, passphrases: Passphrases, kept_of: Job | None = None
) -> Opened:
    """Open the store in a place, whether a job uses it or not; one that a job of this machine knows must be
    the one that it knows. What is strange about it is noted too.

    :param kept_of: a job whose passphrase file or key ring is asked before the person is; otherwise the one
        that knows the store.

    Raises:
        GoodTideError: it cannot be opened.
    """
    where.check_there()
    job, ref = next(((job, ref) for job, ref in users_at(context, where) if ref.store), (None, None))
    if ref is not None and job is not None:
        limit_line(where, job.line)
        check_header(ref, where)
    opened = open_counted(context, where, _passphrase(context, where, passphrases, kept_of or job))
    if ref is not None:
        check_keys(ref, opened)
    noticed = StoreMemory(context.here.state, opened.header.store).look(opened)
    for one in noticed:
        context.journal.add("trouble", None, one.what, (), "", one.todo)
    return Opened(opened, noticed)


def _passphrase(
    context: Context, where: StorePlace, passphrases: Passphrases, kept_of: Job | None
) -> str | None:
    identity = store_id(where)
    found = passphrases.known(identity)
    if found is not None:
        return found
    hint = locked_hint(where)
    if hint is None:
        return None
    if kept_of is not None:
        found = kept_passphrase(kept_of, identity, context.ring)
    return found if found is not None else passphrases.ask(where.called, hint)


def open_named(context: Context, named: str, passphrases: Passphrases) -> Opened:
    """Open a store by its folder, or by the name of its disk in a job.

    Raises:
        GoodTideError: there is none of that name, its disk is away, or it cannot be opened.
    """
    where = store_place(named)
    if where.folder is None or is_there(where):
        return open_place(context, where, passphrases)
    job, ref = named_ref(context, named)
    return open_place(context, present_place(context, ref), passphrases, job)


def open_to_look(context: Context, named: str, passphrases: Passphrases) -> Opened:
    """Open a store only to look into it and restore from it: by its folder, by the name of its disk in a job,
    or by the name of a job. While its disk is away, its holding area has the newest snapshots.

    Raises:
        GoodTideError: there is none of that name, or it cannot be opened.
    """
    where = store_place(named)
    if is_there(where):
        return open_place(context, where, passphrases)
    try:
        job, ref = _meant(context, named)
    except (PersonError, PlaceError):
        if "/" not in named:
            raise
        return open_place(context, where, passphrases)  # which says that the folder is not there
    stores = JobStores(context, job, passphrases)
    if stores.place_of(ref) is None:
        return Opened(stores.area(ref), [])
    opened = open_place(context, present_place(context, ref), passphrases, job)
    return (
        Opened(stores.looked_into(ref), opened.noticed) if held_count(context.here.holdings, ref) else opened
    )


def _meant(context: Context, named: str) -> tuple[Job, StoreRef]:
    """The store that a name means, of a disk or of a job; of a job's stores the first one that is here."""
    jobs = load_jobs(context.here.settings)
    job = next((job for job in jobs if named in (job.name, job.id) and job.stores), None)
    if job is None or any(named in (ref.name, ref.path) for one in jobs for ref in one.stores):
        return named_ref(context, named)
    here = [ref for ref in job.stores if context.whereabouts.of(ref) is not None]
    return job, (here or list(job.stores))[0]


def place_named(context: Context, named: str) -> StorePlace:
    """The place of a store by its folder, or by the name of its disk in a job.

    Raises:
        PersonError: none is called so. PlaceError: its disk is away.
    """
    where = store_place(named)
    return where if is_there(where) else present_place(context, named_ref(context, named)[1])


def place_or_name(context: Context, named: str) -> StorePlace:
    """The same; a folder need not be there."""
    where = store_place(named)
    return where if "/" in named or is_there(where) else place_named(context, named)


def named_ref(context: Context, named: str) -> tuple[Job, StoreRef]:
    """The store of the first job that calls it so: by the name of its disk, or its path; the store of the
    job of this name, if it has one only.

    Raises:
        PersonError: none does, or the job has several. PlaceError: it is a path that is not there.
    """
    for job in load_jobs(context.here.settings):
        for ref in job.stores:
            if named in (ref.name, ref.path):
                return job, ref
    for job in load_jobs(context.here.settings):
        if job.name == named and len(job.stores) == 1:
            return job, job.stores[0]
        if job.name == named:
            names = ", ".join(ref.called for ref in job.stores)
            raise PersonError(
                tr("The job {named} has {stores} stores").format(named=named, stores=len(job.stores)),
                tr("Name one of {names}").format(names=names),
            )
    if "/" in named:
        raise PlaceError(
            tr("There is no folder {named}").format(named=named),
            tr("Check the path and whether its disk is connected"),
        )
    raise PersonError(
        tr("There is no store {named}").format(named=named),
        tr("Give its folder, or the name of its disk or of a job"),
    )


def present_place(context: Context, ref: StoreRef) -> StorePlace:
    """Where a store is now.

    Raises:
        PlaceError: its disk is away.
    """
    where = context.whereabouts.of(ref)
    if where is None:
        raise context.whereabouts.away(ref)
    return where
