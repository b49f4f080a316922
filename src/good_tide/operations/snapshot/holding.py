"""The holding area of a job's store: snapshots go on in it while the disk is away, and are carried over when
it is back."""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Callable, Iterable
from pathlib import Path

from good_tide.core.clock import Clock
from good_tide.core.errors import GoodTideError, PlaceError, PlaceFullError
from good_tide.core.progress import Control
from good_tide.core.records import Snapshot
from good_tide.core.settings import Holding, Job, StoreRef
from good_tide.core.words import count_words, size_words, time_words
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.snapshot.capture import CaptureRequest, capture
from good_tide.operations.snapshot.small_files import StoredSmall
from good_tide.operations.stores.carrying import CarryReport, carry_held
from good_tide.storage.header import HEADER_FILE, read_header, read_slots, slot_hint
from good_tide.storage.holding import DISK_FOLDER, HoldingArea, open_holding
from good_tide.storage.place import LocalPlace
from good_tide.storage.runs import RunLock
from good_tide.storage.store import SNAPSHOT_FOLDER, Store

_FOLDER = "holding"
_NEARLY_FULL = 0.8

__all__ = [
    "HoldingArea",
    "area_folder",
    "area_for",
    "area_root",
    "drain",
    "has_area",
    "heed",
    "held_count",
    "hint_of",
    "open_area",
    "prime",
    "slots_folder",
    "store_of_area",
    "take_into",
]


def area_root(data: Path) -> Path:
    """The folder of all holding areas; never taken into a snapshot."""
    return data / _FOLDER


def area_folder(data: Path, ref: StoreRef) -> Path:
    """Where the holding area of a store lies. It follows the disk, wherever it is mounted."""
    name = f"{ref.disk}/{ref.inside}" if ref.disk else ref.path
    return area_root(data) / hashlib.blake2b(name.encode(), digest_size=10).hexdigest()


def has_area(data: Path, ref: StoreRef) -> bool:
    """Whether a store has a holding area that takes snapshots: it has been here once."""
    folder = area_folder(data, ref)
    return (folder / DISK_FOLDER / HEADER_FILE).is_file() and bool(LocalPlace(folder).names("mark"))


def held_count(data: Path, ref: StoreRef) -> int:
    """How many snapshots wait for the disk of a store."""
    try:
        return len(LocalPlace(area_folder(data, ref)).names(SNAPSHOT_FOLDER))
    except PlaceError:
        return 0


def store_of_area(data: Path, ref: StoreRef) -> str:
    """The id of the store that an area belongs to.

    Raises:
        PlaceError: there is no area.
    """
    return read_header(LocalPlace(area_folder(data, ref) / DISK_FOLDER)).store


def slots_folder(data: Path, ref: StoreRef) -> Path:
    """Where the area has its copies of the store's header and key slots."""
    return area_folder(data, ref) / DISK_FOLDER


def hint_of(data: Path, ref: StoreRef) -> str | None:
    """The hint of the store's passphrase, as its area knows it; None where it needs none.

    Raises:
        PlaceError: there is no area.
    """
    place = LocalPlace(area_folder(data, ref) / DISK_FOLDER)
    return slot_hint(read_slots(place)) if read_header(place).encrypted else None


def limit_bytes(holding: Holding, folder: Path) -> int:
    """What an area may take now: the job's limit, or its part of the room that is free without it."""
    existing = folder
    while not existing.exists():
        existing = existing.parent
    room = os.statvfs(existing)
    own = LocalPlace(folder).total_bytes() if folder.exists() else 0
    return min(holding.limit_bytes, int((room.f_bavail * room.f_frsize + own) * holding.part_of_free))


def open_area(
    data: Path, ref: StoreRef, passphrase: str | None, holding: Holding, known: Iterable[str]
) -> HoldingArea:
    """Open the area of a store whose disk is away; ``known`` names the snapshots on the disk.

    Raises:
        PlaceError: there is none. WrongPassphraseError: the passphrase is wrong, or needed.
    """
    folder = area_folder(data, ref)
    if not has_area(data, ref):
        raise PlaceError(f"The disk {ref.name or ref.path} is not here", "Connect it")
    return open_holding(folder, passphrase, known, limit_bytes(holding, folder))


def area_for(data: Path, ref: StoreRef, store: Store, holding: Holding) -> HoldingArea:
    """The area of a store that is here."""
    folder = area_folder(data, ref)
    area = HoldingArea(folder, store.header, store.keys, (), limit_bytes(holding, folder))
    area.base = store
    return area


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
    arrived = set(store.snapshot_names())
    for snapshot in held:
        if snapshot.name in arrived:
            StoreMemory(state, store.header.store).note_taken(snapshot)
            area.place.remove(f"{SNAPSHOT_FOLDER}/{snapshot.name}")
    if not area.held_names():
        with contextlib.suppress(GoodTideError), RunLock.for_work(state, store.header.store, "holding"):
            area.begin_anew(
                store
            )  # where that fails, the next snapshot of each job does it, and says why it cannot
    return report


def take_into(
    area: HoldingArea,
    job: Job,
    request: CaptureRequest,
    clock: Clock,
    control: Control,
    state: Path,
    journal: Journal,
    stored_small: StoredSmall | None,
    warn: Callable[[str, str], None] = lambda what, todo: None,
) -> Snapshot:
    """Take a snapshot into the holding area; the oldest held ones make room for it if need be.

    :param warn: told in a sentence and an advice when the area is nearly full, before the first loss, and of
        each loss.

    Raises:
        PlaceFullError: it is full even without the older ones. PlaceError: another job takes a snapshot into
            it at this moment. GoodTideError: as ``capture``.
    """
    with RunLock.for_work(
        state, area.header.store, "held"
    ):  # jobs that share a store share its area, and one makes room in it at a time
        while True:
            try:
                taken = capture(area, request, clock, control, state, stored_small)
                break
            except PlaceFullError as error:
                held = area.held()
                if not held:
                    raise PlaceFullError(
                        "The holding area is too small for what has changed",
                        "Raise its limit, or connect the disk",
                    ) from error
                _warn_before_loss(area, held, journal, job, warn, clock.now())
                given = area.release(held[0])
                words = (
                    f"The snapshot of {time_words(held[0].record.time, clock.now())} left the holding area to"
                    " make room"
                )
                journal.add(
                    "trouble",
                    job.name,
                    words,
                    (f"{size_words(given)} given back",),
                    "The disk never got this snapshot.",
                    "Connect the disk.",
                )
                warn(words, "Connect the disk")
    if area.place.total_bytes() > _NEARLY_FULL * (area.limit or 1):
        _warn_before_loss(area, area.held(), journal, job, warn, clock.now())
    return taken


def _warn_before_loss(
    area: HoldingArea,
    held: list[Snapshot],
    journal: Journal,
    job: Job,
    warn: Callable[[str, str], None],
    now: int,
) -> None:
    if held and journal.is_news(f"holding-full/{job.name}/{held[0].name}"):
        words = (
            f"The holding area is nearly full: of {count_words(len(held), 'snapshot')} in it the one of"
            f" {time_words(held[0].record.time, now)} leaves next"
        )
        journal.add(
            "note",
            job.name,
            words,
            (f"{size_words(area.limit or 0)} is its limit",),
            "The oldest leave first.",
            "Connect the disk, or raise the limit.",
        )
        warn(words, "Connect the disk, or raise the limit")
