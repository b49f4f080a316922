"""The holding area of a job's store: where it lies, what it holds, how it is opened. Taking snapshots into
it, and carrying them over, is in ``snapshot.holding``."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable
from pathlib import Path

from good_tide.core.errors import PlaceError
from good_tide.core.identifiers import StoreId
from good_tide.core.settings import Holding, StoreRef
from good_tide.core.translation import tr
from good_tide.crypto.slots import slot_hint
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.header import HEADER_FILE, read_header, read_slots
from good_tide.storage.holding import DISK_FOLDER, HoldingArea, open_holding
from good_tide.storage.place import StorePlace
from good_tide.storage.store import Store

_FOLDER = "holding"

__all__ = [
    "HoldingArea",
    "area_folder",
    "area_for",
    "area_root",
    "has_area",
    "held_count",
    "limit_bytes",
    "open_area",
    "slots_place",
    "store_of_area",
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
    return (folder / DISK_FOLDER / HEADER_FILE).is_file() and bool(FolderPlace(folder).files().names("mark"))


def held_count(data: Path, ref: StoreRef) -> int:
    """How many snapshots wait for the disk of a store."""
    try:
        return len(FolderPlace(area_folder(data, ref)).files().names(SNAPSHOT_FOLDER))
    except PlaceError:
        return 0


def store_of_area(data: Path, ref: StoreRef) -> StoreId:
    """The id of the store that an area belongs to.

    Raises:
        PlaceError: there is no area.
    """
    return read_header(slots_place(data, ref).files()).store


def slots_place(data: Path, ref: StoreRef) -> StorePlace:
    """Where the area has its copies of the store's header and key slots."""
    return FolderPlace(area_folder(data, ref) / DISK_FOLDER)


def hint_of(data: Path, ref: StoreRef) -> str | None:
    """The hint of the store's passphrase, as its area knows it; None where it needs none.

    Raises:
        PlaceError: there is no area.
    """
    return hint_in(area_folder(data, ref))


def hint_in(area: Path) -> str | None:
    """The hint of the store's passphrase, as the area in a folder knows it; None where it needs none.

    Raises:
        PlaceError: there is no area.
    """
    place = FolderPlace(area / DISK_FOLDER).files()
    return slot_hint(read_slots(place)) if read_header(place).encrypted else None


def limit_bytes(holding: Holding, folder: Path) -> int:
    """What an area may take now: the job's limit, or its part of the room that is free without it."""
    existing = folder
    while not existing.exists():
        existing = existing.parent
    room = os.statvfs(existing)
    own = FolderPlace(folder).files().total_bytes() if folder.exists() else 0
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
        raise PlaceError(
            tr("The disk {name} is not here").format(name=ref.name or ref.path), tr("Connect it")
        )
    return open_holding(folder, passphrase, known, limit_bytes(holding, folder))


def area_for(
    data: Path, ref: StoreRef, store: Store, holding: Holding, away: Iterable[str] | None = None
) -> HoldingArea:
    """The area of a store that is here; or of one that was opened before its disk went.

    :param away: names of the snapshots on the disk that went; None: it is here.
    """
    folder = area_folder(data, ref)
    area = HoldingArea(folder, store.header, store.keys, away or (), limit_bytes(holding, folder))
    area.base = store if away is None else None
    return area
