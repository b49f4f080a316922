"""A store's disk was replaced or emptied, while snapshots wait for it in the holding area: a new store takes
its place, and they are carried into it.

It has two halves, as somebody may have to copy the new store's recovery key while the second one works. Both
may be cut anywhere and begun again: the job keeps to the old store until all is done.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable

import msgspec

from good_tide.core.errors import PersonError
from good_tide.core.identifiers import StoreId
from good_tide.core.progress import Control
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.core.words import count_words
from good_tide.operations.context import Context
from good_tide.operations.snapshot.taking import Steps, take_snapshot
from good_tide.operations.stores import holding_area as areas
from good_tide.operations.stores.carrying import CarryReport, carry_held
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.left_behind import aside, left_areas, left_count, let_go, put_aside
from good_tide.operations.stores.opening import create_at, locked_hint, store_id
from good_tide.operations.stores.passphrases import open_counted
from good_tide.operations.stores.pinning import pinned
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.header import holds_store
from good_tide.storage.holding import HoldingArea, open_holding
from good_tide.storage.place import StorePlace
from good_tide.storage.store import Store
from good_tide.system import jobs


class Replacing(msgspec.Struct, frozen=True):
    """What is known before a store is replaced: how many snapshots wait for the old one; whether it was
    encrypted, and the hint of its passphrase; whether another store is in its place, and the hint of that
    one's passphrase (None: it needs none)."""

    waiting: int
    encrypted: bool
    hint: str
    other: bool
    other_hint: str | None


class Begun(msgspec.Struct, frozen=True):
    """The store that takes the place of another, and its recovery key if it was made now."""

    store: StoreId
    recovery_key: str | None


class Replaced(msgspec.Struct, frozen=True):
    """What became of it: the job as it is now, the recovery key of a store that was made, how many held
    snapshots arrived, and those that could not be carried, with why."""

    job: Job
    recovery_key: str | None
    arrived: int
    left: tuple[tuple[str, str], ...]


def look_at_replaced(context: Context, ref: StoreRef, where: StorePlace) -> Replacing:
    """What a person is asked before a store is replaced.

    Raises:
        PlaceError: the place cannot be read.
    """
    holdings, other = context.here.holdings, holds_store(where)
    waits = areas.held_count(holdings, ref)
    hint = areas.hint_of(holdings, ref) if waits else None
    encrypted = hint is not None if ref.encrypted is None else ref.encrypted
    return Replacing(waits, encrypted, hint or "", other, locked_hint(where) if other else None)


def begin_replacing(
    context: Context,
    ref: StoreRef,
    where: StorePlace,
    passphrase: str | None,
    of_other: str | None = None,
    hint: str = "",
) -> Begun:
    """Make sure that there is a store that can take the place of another: one that is there already, or a new
    one, which knows the old one's contents by the same identities.

    :param where: where the old one was.
    :param passphrase: of the old store, which a new one gets as well; None for one without encryption.
    :param of_other: passphrase of another store that is there already; None: the same.

    Raises:
        PersonError: the old store is there after all, or a passphrase is missing.
        WrongPassphraseError: it does not open what waits; nothing was made.
        GoodTideError: the new one cannot be made.
    """
    other = holds_store(where)
    if other and store_id(where) == ref.store:
        raise PersonError(
            tr("The store in {called} is the one of this job").format(called=where.called),
            tr("There is nothing to replace"),
        )
    held = _waiting(context, ref, passphrase)
    if other:
        return Begun(open_counted(context, where, of_other or passphrase).header.store, None)
    encrypted = ref.encrypted if ref.encrypted is not None else held is not None and held.header.encrypted
    if encrypted and passphrase is None:
        raise PersonError(tr("A passphrase is needed for the new store"), tr("Give that of the old one"))
    if not hint and held is not None:
        hint = areas.hint_in(held.root) or ""
    made = create_at(where, passphrase if encrypted else None, hint, twin=held)
    return Begun(store_id(where), made.recovery_key)


def finish_replacing(
    context: Context,
    job: Job,
    ref: StoreRef,
    passphrase: str | None,
    stores_of: Callable[[Job], JobStores],
    steps: Steps,
) -> Replaced:
    """Use the store that took the place of another from now on: a snapshot is taken into it, then those are
    carried that wait in the holding area. What cannot be carried stays there.

    Raises:
        WrongPassphraseError: it does not open what waits; nothing was moved.
        GoodTideError: the new store cannot be written.
    """
    held = _waiting(context, ref, passphrase)
    if held is not None:
        held = put_aside(context.here.holdings, ref, held, passphrase)
    fresh = msgspec.structs.replace(ref, store="", encrypted=None, keys="")
    alone = stores_of(msgspec.structs.replace(job, stores=(fresh,)))
    where = alone.present(fresh)
    for taken in take_snapshot(context, alone, steps):
        if taken.error is not None:
            raise taken.error
    store = alone.store(fresh)
    report = _carried(context, held, store, steps.control) if held is not None else None
    known = pinned(fresh, store)
    changed = _with(job, ref, known)
    jobs.update_job(context.here.settings, job.id, lambda now: _with(now, ref, known))
    words = tr("Another store is in the place of the one in {called}, and is used from now on").format(
        called=where.called
    )
    context.journal.add("note", changed, words)
    if report is None:
        return Replaced(changed, None, 0, ())
    _tell_carried(context, changed, report)
    return Replaced(changed, None, len(report.carried), report.damaged)


def replace_store(
    context: Context,
    job: Job,
    ref: StoreRef,
    passphrase: str | None,
    stores_of: Callable[[Job], JobStores],
    steps: Steps,
    hint: str = "",
) -> Replaced:
    """Both halves at once; or, where the store is the job's own by now, try again to carry what was left.

    Raises:
        As ``begin_replacing`` and ``finish_replacing``.
    """
    where = stores_of(job).present(ref)
    if holds_store(where) and store_id(where) == ref.store and left_areas(context.here.holdings, ref):
        return carry_left(context, job, ref, passphrase, stores_of, steps.control)
    begun = begin_replacing(context, ref, where, passphrase, hint=hint)
    done = finish_replacing(context, job, ref, passphrase, stores_of, steps)
    return msgspec.structs.replace(done, recovery_key=begun.recovery_key)


def carry_left(
    context: Context,
    job: Job,
    ref: StoreRef,
    passphrase: str | None,
    stores_of: Callable[[Job], JobStores],
    control: Control,
) -> Replaced:
    """Try again to carry what earlier stores in this place left behind.

    Raises:
        WrongPassphraseError: it does not open what is left. GoodTideError: the store cannot be written.
    """
    store, arrived = stores_of(job).store(ref), 0
    left: list[tuple[str, str]] = []
    for area in left_areas(context.here.holdings, ref):
        report = _carried(context, open_holding(area, passphrase, (), None), store, control)
        _tell_carried(context, job, report)
        arrived += len(report.carried)
        left += report.damaged
    return Replaced(job, None, arrived, tuple(left))


def let_left_go(context: Context, job: Job, ref: StoreRef) -> int:
    """Let go what could not be carried. Returns how many snapshots that were.

    Raises:
        PersonError: nothing is left. PlaceError: it cannot be removed.
    """
    if not left_count(context.here.holdings, ref):
        raise PersonError(
            tr("Nothing is left that waited for an earlier store in {path}").format(path=ref.path),
            tr("All is well"),
        )
    count = let_go(context.here.holdings, ref)
    what = tr("{count} that waited for the old disk and could not be carried: let go").format(
        count=count_words(count, "snapshot")
    )
    context.journal.add("note", job, what)
    return count


def _tell_carried(context: Context, job: Job, report: CarryReport) -> None:
    what = tr("{carried} that waited for the old disk came into the new store").format(
        carried=count_words(len(report.carried), "snapshot")
    )
    left = tuple(text for _, text in report.damaged)
    context.journal.add("note" if left else "good", job, what, left)


def _with(job: Job, ref: StoreRef, known: StoreRef) -> Job:
    stores = tuple(known if one.place == ref.place else one for one in job.stores)
    return msgspec.structs.replace(job, stores=stores)


def _waiting(context: Context, ref: StoreRef, passphrase: str | None) -> HoldingArea | None:
    """The holding area of the old store; where it was put aside before, from there. None where nothing
    waits."""
    holdings = context.here.holdings
    before = aside(holdings, ref)
    if before.exists():
        return open_holding(before, passphrase, (), None)
    if not areas.held_count(holdings, ref):
        return None
    return open_holding(areas.area_folder(holdings, ref), passphrase, (), None)


def _carried(context: Context, held: HoldingArea, store: Store, control: Control) -> CarryReport:
    """Carry what waited into the new store, and forget what arrived."""
    held.base = store
    report = carry_held(held, store, context.here.state, control)
    arrived = set(store.snapshot_ids())
    for name in held.held_names():
        if name in arrived:
            held.place.remove(f"{SNAPSHOT_FOLDER}/{name}")
    if not held.held_names():
        shutil.rmtree(held.root, ignore_errors=True)
    return report
