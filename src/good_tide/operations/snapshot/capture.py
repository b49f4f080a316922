"""Taking a snapshot."""

from __future__ import annotations

import contextlib
import gc
import os
from collections.abc import Iterator
from pathlib import Path

import msgspec

from good_tide.core.clock import Clock
from good_tide.core.coverage import Coverage
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.kinds import extended
from good_tide.core.progress import Control
from good_tide.core.records import Snapshot, Tally
from good_tide.core.translation import tr
from good_tide.lines.mounts import on_share
from good_tide.operations.coverage.selecting import Selector, outermost
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.snapshot.run_memory import RunMemory
from good_tide.operations.snapshot.run_notes import RunNotes
from good_tide.operations.snapshot.small_files import StoredSmall
from good_tide.operations.snapshot.walk import Walk
from good_tide.storage.gathering import gather_index
from good_tide.storage.place_kinds import is_far
from good_tide.storage.recovery_script import renew_script
from good_tide.storage.runs import RunLock
from good_tide.storage.store import Store
from good_tide.storage.summaries import last_snapshot, one_look, summarise
from good_tide.storage.writer import FEW_BYTES, LATER_FEW_BYTES, WriteSession


def capture(
    store: Store,
    request: CaptureRequest,
    clock: Clock,
    control: Control,
    state: Path,
    stored_small: StoredSmall | None = None,
) -> Snapshot:
    """Take a snapshot.

    :param state: a local folder for the lock that keeps two runs of one machine apart.
    :param stored_small: tells where a small file of some content lies already, from the local catalog.

    Raises:
        PersonError: a folder is missing, or ``at`` is not after the last snapshot.
        PlaceError: the store cannot be written, or another run is at work.
        StoppedError: the person stopped it; what was written is kept for the next run.
    """
    folders = outermost(request.folders)
    request = msgspec.structs.replace(request, folders=tuple(folders))
    if not request.missing_is_gap or not any(os.path.isdir(folder) for folder in folders):
        for folder in folders:
            if not os.path.isdir(folder):
                raise PersonError(
                    tr("There is no folder {folder}").format(folder=folder), tr("Check the path")
                )
    with RunLock(state, store.header.store, request.machine.id) as owner:
        with one_look(store):
            last = last_snapshot(store, request.machine.id)
        moment = _moment(request, clock, last)
        memory = StoreMemory(state, store.header.store) if store.shared else None
        if memory is not None:
            memory.note_coming({request.machine.id: moment})
        expected = last.tally if last is not None else request.expected or Tally()
        notes = RunNotes(control, last, expected)
        with (
            _few_collections(),
            WriteSession(store, owner, few=FEW_BYTES if last is None else LATER_FEW_BYTES) as session,
            RunMemory(state, store, request) as kept,
            Walk(store, session, notes, last, stored_small, kept) as walk,
        ):
            renew_script(store.place)
            walk.leave_out_own((*request.own, *_own_folder(store, request)))
            if request.rules:
                walk.selector = Selector(
                    Coverage(request.rules, request.home, moment, extended(request.kinds)), request.network
                )
            looking = tr("Looking for what changed")
            walk.clean = kept.look(last, moment, lambda: notes.report(looking))
            taken = walk.take(folders, request, moment)
            gather_index(store, owner)
            kept.finished(taken, walk.clean)
            summarise(store, owner)
            if memory is not None:
                memory.note_taken(taken)
            return taken


def _own_folder(store: Store, request: CaptureRequest) -> list[Path]:
    """The folder of the store, where it can lie in what is covered. Rules lead into no share: one on a
    share is touched only where what is covered begins on one."""
    where = store.place.where
    if where.folder is None:
        return []
    met = not is_far(where) or not request.rules or any(map(on_share, request.folders))
    return [where.folder] if met else []


@contextlib.contextmanager
def _few_collections() -> Iterator[None]:
    """Look for cyclic garbage seldom: a run makes hundreds of thousands of entries and no cycles. A tenth of
    its time."""
    before = gc.get_threshold()
    gc.set_threshold(200_000, before[1], before[2])
    try:
        yield
    finally:
        gc.set_threshold(*before)


def _moment(request: CaptureRequest, clock: Clock, last: Snapshot | None) -> Nanoseconds:
    """The new snapshot's time. A clock that was set back does not put it before the last one."""
    if request.at is not None:
        if last is not None and request.at <= last.time:
            raise PersonError(
                tr("The time given is not after the last snapshot of this machine"),
                tr("Bring older copies in with “good-tide import”"),
            )
        return request.at
    now = clock.now()
    return now if last is None else Nanoseconds(max(now, last.time + 1))
