"""Snapshots go on in a store's holding area while its disk is away, and are carried over when it is back."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path

from good_tide.core.errors import GoodTideError, PlaceFullError
from good_tide.core.progress import Control
from good_tide.core.records import Snapshot
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words, time_words
from good_tide.operations.context import Context
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.carrying import CarryReport, carry_held
from good_tide.operations.stores.holding_area import area_folder, held_count
from good_tide.operations.stores.opening import open_catalog, take_into_catalog
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.holding import HoldingArea
from good_tide.storage.runs import RunLock
from good_tide.storage.store import Store

_NEARLY_FULL = 0.8

Warn = Callable[[str, str], None]
"""Tells a person something at once: what is so, and what to do."""


def prime(area: HoldingArea, store: Store, newest: Snapshot, state: Path) -> None:
    """Take over what snapshots without the disk need.

    Raises:
        GoodTideError: it cannot be taken over; the area stays as it was.
    """
    area.root.mkdir(parents=True, exist_ok=True, mode=0o700)
    with RunLock.for_work(state, store.header.store, "holding"):
        area.prime(store, newest)


def heed(data: Path, ref: StoreRef, store: Store, state: Path) -> None:
    """Let the area of a store no longer build on what a sweep is about to delete. With snapshots that wait
    for the disk it has to.

    Raises:
        PlaceError: the area or the store cannot be written.
    """
    if area_folder(data, ref).is_dir() and not held_count(data, ref):
        with RunLock.for_work(state, store.header.store, "holding"):
            HoldingArea(area_folder(data, ref), store.header, store.keys).give_way(store)


def drain(area: HoldingArea, store: Store, state: Path, control: Control) -> CarryReport | None:
    """Carry held snapshots to the disk, in order and read back, and forget those that arrived. None when
    nothing was held.

    Raises:
        GoodTideError: the disk does not take them; what is held stays.
    """
    held = area.held()
    if not held:
        return None
    report = carry_held(area, store, state, control)
    arrived = set(store.snapshot_ids())
    for snapshot in held:
        if snapshot.id in arrived:
            StoreMemory(state, store.header.store).note_taken(snapshot)
            area.place.remove(f"{SNAPSHOT_FOLDER}/{snapshot.id}")
    if not area.held_names():
        with contextlib.suppress(GoodTideError), RunLock.for_work(state, store.header.store, "holding"):
            area.begin_anew(
                store
            )  # where that fails, the next snapshot of each job does it, and says why it cannot
    return report


def take_into(
    context: Context, area: HoldingArea, job: Job, request: CaptureRequest, control: Control, warn: Warn
) -> Snapshot:
    """Take a snapshot into the holding area; the oldest held ones make room for it if need be.

    :param warn: told in a sentence and an advice when the area is nearly full, before the first loss, and of
        each loss.

    Raises:
        PlaceFullError: it is full even without the older ones. PlaceError: another job takes a snapshot into
            it at this moment. GoodTideError: as ``capture``.
    """
    here, clock = context.here, context.clock
    catalog = open_catalog(area, here.cache)
    try:
        known = catalog.stored_small if catalog.count() else None
        # jobs that share a store share its area, and one makes room in it at a time
        with RunLock.for_work(here.state, area.header.store, "held"):
            while True:
                try:
                    taken = capture(area, request, clock, control, here.state, known)
                    break
                except PlaceFullError as error:
                    _make_room(context, area, job, warn, error)
        take_into_catalog(area, catalog)
    finally:
        catalog.close()
    if area.place.total_bytes() > _NEARLY_FULL * (area.limit or 1):
        _warn_before_loss(context, area, job, warn)
    return taken


def _make_room(context: Context, area: HoldingArea, job: Job, warn: Warn, full: PlaceFullError) -> None:
    """Let the oldest held snapshot go.

    Raises:
        PlaceFullError: there is none.
    """
    held = area.held()
    if not held:
        what = tr("The holding area is too small for what has changed")
        raise PlaceFullError(what, tr("Raise its limit, or connect the disk")) from full
    _warn_before_loss(context, area, job, warn)
    given = area.release(held[0])
    when = time_words(held[0].time, context.clock.now())
    words = tr("The snapshot of {when} left the holding area to make room").format(when=when)
    detail = (tr("{given} given back").format(given=size_words(given)),)
    context.journal.add(
        "trouble", job, words, detail, tr("The disk never got this snapshot."), tr("Connect the disk.")
    )
    warn(words, tr("Connect the disk"))


def _warn_before_loss(context: Context, area: HoldingArea, job: Job, warn: Warn) -> None:
    held = area.held()
    if held and context.journal.is_news(f"holding-full/{job.id}/{held[0].id}"):
        when = time_words(held[0].time, context.clock.now())
        words = tr("The holding area is nearly full: of {held} in it the one of {when} leaves next").format(
            held=count_words(len(held), "snapshot"), when=when
        )
        detail, todo = (
            (tr("{limit} is its limit").format(limit=size_words(area.limit or 0)),),
            tr("Connect the disk, or raise the limit"),
        )
        context.journal.add("note", job, words, detail, tr("The oldest leave first."), f"{todo}.")
        warn(words, todo)
