"""Keeping history in bounds by itself: room before a run, thinning after it, and a sweep now and then."""

from __future__ import annotations

from good_tide.core.clock import SECOND
from good_tide.core.errors import GoodTideError, PlaceFullError, StoppedError
from good_tide.core.progress import Control
from good_tide.core.settings import Job, Room, StoreRef
from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words
from good_tide.operations.context import Context
from good_tide.operations.records.store_memory import is_mixed
from good_tide.operations.retention.by_ladder import thin_by_ladder
from good_tide.operations.retention.precious import precious_now
from good_tide.operations.retention.room import plan_room, store_room
from good_tide.operations.retention.sweeping import sweep_store
from good_tide.operations.retention.thinning import release
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.opening import Store, ledger_age, open_ledger
from good_tide.storage.sweep import has_many_small_packs

_SWEEP_EVERY = 7 * 86400 * SECOND
_LEDGER_SECONDS = 86400.0


class Bounds:
    """Thins and sweeps the stores of jobs. A fault in it never makes a snapshot fail: it is noted, and tried
    again with the next run."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def after_run(self, stores: JobStores, ref: StoreRef, sweeps: bool, control: Control) -> None:
        """A job's snapshot came into a store: release what the ladder does not keep, sweep when the last
        sweep was long ago, and bring the ledger up to date once a day, so that what takes the room is
        answered at once.

        Raises:
            StoppedError: the person stopped it.
        """
        context, job = self._context, stores.job
        try:
            if stores.place_of(ref) is None:
                return
            store = stores.store(ref)
            held = is_mixed(context.here.state, store, context.machine_of(job).id) or context.alarms.of(
                job.id
            )
            if job.ladder.rungs and not held:
                thin_by_ladder(context, job, store, control)
            if sweeps:
                self._sweep(store, control)
                if ledger_age(store, context.here.cache) > _LEDGER_SECONDS:
                    open_ledger(store, context.here.cache, control)
        except StoppedError:
            raise
        except GoodTideError as error:
            if context.journal.is_news(f"bounds/{job.id}/{error.what}"):
                what = tr("History could not be thinned")
                means = tr("The snapshot itself is whole.")
                context.journal.add("note", job, what, (error.what,), means, error.advice)

    def _sweep(self, store: Store, control: Control) -> None:
        """Sweep a store of which something was released, or that has many small packs, once a week at
        most."""
        identity, records = store.header.store, self._context.records
        since = self._context.clock.now() - records.swept(identity)
        if 0 <= since < _SWEEP_EVERY:
            return
        if records.has_released(identity) or has_many_small_packs(store):
            sweep_store(self._context, store, control)

    def before_run(self, stores: JobStores, control: Control) -> None:
        """Make room on the disks of a job where its limits say that there is too little.

        Raises:
            PlaceFullError: there is too little, and nothing may or can be released for it.
            StoppedError: the person stopped it.
        """
        job = stores.job
        if job.room == Room():
            return
        for ref in stores.here():
            store = stores.store(ref)
            missing = store_room(self._context, store, job.room).short
            if missing:
                self._make_room(job, ref, store, missing, control)

    def _make_room(self, job: Job, ref: StoreRef, store: Store, missing: int, control: Control) -> None:
        context, name, machine = self._context, ref.called, self._context.machine_of(job).id
        if job.room.when_short == "stop":
            raise PlaceFullError(
                tr("{name} has {missing} less room than is to stay free").format(
                    name=name, missing=size_words(missing)
                ),
                tr("Make room, raise the limit, or let the oldest snapshots go"),
            )
        if is_mixed(context.here.state, store, machine):
            raise PlaceFullError(
                tr(
                    "{name} is short of {missing}, and nothing is released while another machine writes this"
                    " one's history"
                ).format(name=name, missing=size_words(missing)),
                tr("See the journal for what to do"),
            )
        alarm = context.alarms.of(job.id)
        if alarm is not None:
            raise PlaceFullError(
                tr(
                    "{name} is short of {missing}, and nothing is released while nobody has looked at this:"
                    " {words}"
                ).format(name=name, missing=size_words(missing), words=alarm.words(context.clock.now())),
                tr("See “good-tide alarm show”"),
            )
        floor = context.clock.now() - job.room.floor_days * 86400 * SECOND
        cache = context.here.cache
        precious = precious_now(store, job, machine, cache)
        plan = plan_room(store, machine, missing, floor, control, cache, precious)
        if plan.releases:
            release(context, store, plan, tr("to make room on {name}").format(name=name), job, control)
        freed = sweep_store(context, store, control).freed
        if freed < missing:
            days = count_words(job.room.floor_days, "day")
            raise PlaceFullError(
                tr("{name} is short of {missing}, though everything older than {days} was released").format(
                    name=name, missing=size_words(missing - freed), days=days
                ),
                tr("Make room, or lower the floor"),
            )
