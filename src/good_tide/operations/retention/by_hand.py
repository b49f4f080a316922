"""What people release, pin and take out of history by hand."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from functools import partial

from good_tide.core.given_words import checked_label
from good_tide.core.identifiers import SnapshotId
from good_tide.core.progress import Control
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.core.words import time_words
from good_tide.operations.context import Context
from good_tide.operations.retention.precious import precious_now
from good_tide.operations.retention.purge import PurgePlan, purge
from good_tide.operations.retention.still_elsewhere import Elsewhere, still_elsewhere
from good_tide.operations.retention.thinning import ThinPlan, pin, plan_release, release, unpin
from good_tide.operations.stores.holding_area import area_folder, held_count
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.opening import Store
from good_tide.operations.stores.users import users_of

StoresOf = Callable[[Job], JobStores]
"""The ways into a job's stores."""


def plan_by_hand(
    context: Context,
    job: Job | None,
    store: Store,
    snapshots: Collection[SnapshotId],
    control: Control,
    lenient: bool,
    with_room: bool = True,
) -> ThinPlan:
    """What releasing some snapshots of a store would do (``thinning.plan_release``); what is precious to the
    job that uses it stays.

    Raises:
        PersonError: one of them always stays. DamageError: a snapshot, a pin or a listing cannot be read.
    """
    cache = context.here.cache
    precious = precious_now(store, job, context.machine_of(job).id, cache) if job is not None else frozenset()
    return plan_release(store, snapshots, control, cache if with_room else None, lenient, precious)


def release_by_hand(context: Context, job: Job | None, store: Store, plan: ThinPlan, control: Control) -> int:
    """Release what a plan says, for a person. How many were released.

    Raises:
        PlaceError: the disk does not let go, or nobody has looked at an alarm. StoppedError: the person
            stopped it; those that were released are.
    """
    _refuse_while_alarmed(context, store)
    return release(context, store, plan, tr("by hand"), job, control)


def _refuse_while_alarmed(context: Context, store: Store) -> None:
    for job, _ in users_of(context, store):
        context.alarms.refuse_release(job, context.clock.now())


def pin_by_hand(
    context: Context, job: Job | None, store: Store, snapshot: SnapshotId, on: bool, label: str = ""
) -> bool:
    """Pin a snapshot, or take its pin away; False if there was none.

    Raises:
        GoodTideError: the snapshot is not there, or the disk does not take it.
    """
    when = time_words(store.read_snapshot(snapshot).record.time, context.clock.now())
    if on:
        label = checked_label(label)
        pin(store, snapshot, label)
        context.journal.add(
            "good", job, tr("The snapshot of {when} is pinned").format(when=when), (label,) if label else ()
        )
        return True
    if not unpin(store, snapshot):
        return False
    context.journal.add("good", job, tr("The snapshot of {when} is no longer pinned").format(when=when))
    return True


def purge_by_hand(context: Context, store: Store, plan: PurgePlan, control: Control) -> int:
    """Take out of all history what a plan says. How many snapshots were written anew.

    Raises:
        GoodTideError: the disk does not take it, or something needed cannot be read.
        StoppedError: the person stopped it.
    """
    _refuse_while_alarmed(context, store)
    here = context.here
    done = purge(store, plan, here.state, context.clock, context.journal, control)
    context.records.note_released(store.header.store)
    return done


def elsewhere(
    context: Context, store: Store, pattern: str, home: str, stores_of: StoresOf, control: Control
) -> list[Elsewhere]:
    """In which other stores and holding areas of the jobs that use a store something is that is taken out of
    it.

    Raises:
        StoppedError: the person stopped it.
    """
    places = _other_places(context, store, stores_of)
    return still_elsewhere(store, pattern, home, places, control)


def _other_places(
    context: Context, store: Store, stores_of: StoresOf
) -> Iterator[tuple[str, str, Callable[[], Store]]]:
    holdings = context.here.holdings
    users = users_of(context, store)
    own = [ref.place for _, ref in users]
    for job in {job.id: job for job, _ in users}.values():
        stores = stores_of(job)
        for ref in job.stores:
            if ref.place not in own:
                yield (
                    tr("The store {called}").format(called=ref.called),
                    ref.path,
                    partial(_opened, stores, ref),
                )
            if held_count(holdings, ref):
                area = str(area_folder(holdings, ref))
                yield (
                    tr("The holding area of {called}").format(called=ref.called),
                    area,
                    partial(stores.area, ref),
                )


def _opened(stores: JobStores, ref: StoreRef) -> Store:
    return stores.store(ref)
