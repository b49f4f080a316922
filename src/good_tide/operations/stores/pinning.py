"""What a job knows of its stores, so that another store in the same place is not taken for it: nothing is
written to it, and no passphrase is tried on it."""

from __future__ import annotations

from pathlib import Path

import msgspec

from good_tide.core.errors import GoodTideError, PlaceError, StoreReplacedError
from good_tide.core.identifiers import JobId
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.storage.header import Header, holds_store, read_header
from good_tide.storage.place import StorePlace
from good_tide.storage.place_kinds import is_there
from good_tide.storage.store import Store
from good_tide.system import jobs

_WAY_OUT = tr(
    "Find out who put it there. If it is meant: good-tide job change JOB --drop-store DIR --add-store DIR"
)

_REPLACED = tr(
    "Bring the old disk back, or go on with what is there now: good-tide job replace-store JOB DIR, which"
    " carries over what waits on this machine"
)


def check_header(ref: StoreRef, where: StorePlace) -> None:
    """Refuse another store than the job's, before any passphrase is tried on it.

    Raises:
        StoreReplacedError: it is another one, or there is none any more. PlaceError: it is not encrypted
            where the job's is.
    """
    header = _header(where)
    if not ref.store:
        return
    if ref.encrypted and not header.encrypted:
        raise PlaceError(
            tr(
                "The store in {called} is not encrypted, and the one of this job is: nothing is written to it"
            ).format(called=where.called),
            _WAY_OUT,
        )
    if header.store != ref.store or (ref.encrypted is not None and header.encrypted != ref.encrypted):
        raise StoreReplacedError(
            tr("The store in {called} is another one than that of this job").format(called=where.called),
            _REPLACED,
        )


def _header(where: StorePlace) -> Header:
    try:
        return read_header(where.files())
    except PlaceError as error:
        if where.folder is None or not is_there(where) or holds_store(where):
            raise
        raise StoreReplacedError(
            tr("There is no store in {called} any more: its disk was replaced or emptied").format(
                called=where.called
            ),
            _REPLACED,
        ) from error


def check_keys(ref: StoreRef, store: Store) -> None:
    """The same for a store that was opened: one that only says that it is the job's has other keys.

    Raises:
        PlaceError: it is another one.
    """
    if ref.keys and ref.keys != store.keys.fingerprint:
        raise PlaceError(
            tr("The store in {title} only says that it is that of this job: its keys are others").format(
                title=store.place.title
            ),
            _WAY_OUT,
        )


def pinned(ref: StoreRef, store: Store) -> StoreRef:
    """A reference that knows its store."""
    return msgspec.structs.replace(
        ref, store=store.header.store, encrypted=store.header.encrypted, keys=store.keys.fingerprint
    )


def knowing(job: Job, ref: StoreRef, store: Store) -> Job:
    """A job that knows one of its stores, if it did not yet."""
    stores = tuple(
        pinned(one, store) if one.place == ref.place and not one.keys else one for one in job.stores
    )
    return msgspec.structs.replace(job, stores=stores)


def pin_in_settings(settings: Path, job: JobId, ref: StoreRef, store: Store) -> None:
    """Let a job know its store, when it was opened for the first time since jobs do. Settings that cannot be
    written go without."""
    if ref.keys:
        return
    try:
        jobs.update_job(settings, job, lambda known: knowing(known, ref, store))
    except (OSError, GoodTideError):
        return
