"""Stores for a job: every place checked, new stores made, those that are there used again, all noted."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence

import msgspec

from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.places import Level, Wanted
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.stores.disks import devices_under, examine
from good_tide.operations.stores.opening import Store, StorePlace, create_at, store_id
from good_tide.operations.stores.passphrases import open_counted
from good_tide.operations.stores.pinning import pinned
from good_tide.storage.header import NewStore, holds_store, read_header


class WantedStore(msgspec.Struct, frozen=True):
    """A store that a job is to have: where it is to be found, the place now, and whether it is encrypted
    if it has to be made.

    :param doubts: what speaks against the place and was accepted knowingly; None: whatever does.
    """

    ref: StoreRef
    where: StorePlace
    encrypted: bool = True
    doubts: tuple[str, ...] | None = None

    @property
    def is_there(self) -> bool:
        """Whether there is a store already."""
        return holds_store(self.where)


class MadeStore(msgspec.Struct, frozen=True):
    """A store that came to a job: made now, with its recovery key, or found there already; ``doubts`` speak
    against its place."""

    ref: StoreRef
    where: StorePlace
    made: bool
    recovery_key: str | None = None
    doubts: tuple[str, ...] = ()


class Furnished(msgspec.Struct, frozen=True):
    """A job with its further stores, and what was noticed, in sentences."""

    job: Job
    made: list[MadeStore]
    notes: list[str]


def check_store_folder(folder: str, covered: Sequence[str]) -> str | None:
    """What is to be said about a store's folder and the covered ones; None if nothing.

    Raises:
        PersonError: a covered folder lies in the store.
    """
    absolute = os.path.abspath(folder)
    for one in covered:
        if one == absolute or one.startswith(absolute + "/"):
            raise PersonError(
                tr("The covered folder {one} lies in the store {absolute}").format(
                    one=one, absolute=absolute
                ),
                tr("Choose another folder for the store"),
            )
        if absolute.startswith(one.rstrip("/") + "/"):
            return tr("The store lies in the covered folder {one}; it leaves itself out").format(one=one)
    return None


def furnish(
    context: Context,
    job: Job,
    wanted: Sequence[WantedStore],
    passphrase: Callable[[], str | None],
    twin: Callable[[StoreRef], Store | None],
    hint: str = "",
    opens: bool = False,
) -> Furnished:
    """A job with further stores, made where there are none. Every place is checked before the first store is
    made.

    :param passphrase: gives the one for encrypted stores; None when there is none to be had.
    :param twin: opens a store of the job if that is possible now: new ones share the identities of its
        chunks.
    :param opens: whether stores that are there are opened with the passphrase, so that the job knows them for
        certain; it comes to know them otherwise when they are first opened.

    Raises:
        PersonError: a place cannot take a store, or a passphrase is missing. GoodTideError: a store that is
            there cannot be opened.
    """
    notes: list[str] = []
    doubts: list[tuple[str, ...]] = []
    devices = devices_under(context.disks, job.folders)
    for one in wanted:
        called = one.where.called
        note = check_store_folder(called, job.folders) if one.where.folder is not None else None
        notes += [note] if note else []
        if any(ref.path == called for ref in job.stores):
            raise PersonError(
                tr("The job uses {called} already").format(called=called), tr("Choose another folder")
            )
        checks = examine(context.disks, one.where, Wanted(devices=devices), frozenset(), False).checks
        for check in checks:
            if check.level is Level.BAD:
                raise PersonError(
                    tr("{called} cannot take a store: {what}").format(called=called, what=check.what),
                    check.way_out,
                )
        found = tuple(check.what for check in checks if check.level is Level.DOUBTFUL)
        doubts.append(found if one.doubts is None else one.doubts)
        if one.encrypted and not one.is_there and passphrase() is None:
            raise PersonError(
                tr("A passphrase is needed for the new store"), tr("Give --passphrase-file, or --unencrypted")
            )
    refs, made = list(job.stores), []
    for one, against in zip(wanted, doubts, strict=True):
        new, called = None, one.where.called
        if one.is_there:
            ref = _found(context, one, passphrase() if opens else None, opens)
        else:
            base = twin(refs[0]) if refs else None
            new = create_at(one.where, passphrase() if one.encrypted else None, hint, base)
            ref = _ref_of(one.ref, new)
        made.append(MadeStore(ref, one.where, new is not None, new.recovery_key if new else None, against))
        refs.append(ref)
        notes += against if one.doubts is None else ()
        words = (
            tr("The store in {called} is used again").format(called=called)
            if new is None
            else tr("A store was made in {called}").format(called=called)
        )
        accepted = tuple(tr("Accepted knowingly: {doubt}").format(doubt=doubt) for doubt in against)
        context.journal.add("note" if accepted else "good", job, words, accepted)
    return Furnished(msgspec.structs.replace(job, stores=tuple(refs)), made, notes)


def _found(context: Context, one: WantedStore, passphrase: str | None, opens: bool) -> StoreRef:
    """How a store that is there already is known to the job."""
    if opens:
        return pinned(one.ref, open_counted(context, one.where, passphrase))
    header = read_header(one.where.files())
    return msgspec.structs.replace(one.ref, store=header.store, encrypted=header.encrypted)


def _ref_of(ref: StoreRef, new: NewStore) -> StoreRef:
    """A reference that knows the store that was just made."""
    return msgspec.structs.replace(
        ref, store=new.header.store, encrypted=new.header.encrypted, keys=new.keys.fingerprint
    )


def remember(context: Context, job: Job, made: Sequence[MadeStore], passphrase: str) -> list[str]:
    """Remember the passphrase of stores in the key ring, if it opens them. What kept it from it, in
    sentences; it is noted too.

    Raises:
        GoodTideError: it does not open one.
    """
    for one in made:
        open_counted(context, one.where, passphrase)
        try:
            context.ring.remember(store_id(one.where), passphrase)
        except PlaceError as error:
            context.journal.add("trouble", job, tr("The passphrase could not be remembered"), (str(error),))
            return [
                tr("The passphrase of {called} is not remembered: {what}").format(
                    called=one.where.called, what=error.what
                )
            ]
    return []
