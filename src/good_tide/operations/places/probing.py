"""Looking at a place that may hang, in a process of its own: ``python -m good_tide.operations.places.probing
PATH``."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

import msgspec

from good_tide.core.errors import GoodTideError, PlaceError
from good_tide.core.identifiers import StoreId
from good_tide.core.places import FoundStore
from good_tide.core.translation import tr
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.header import holds_store, read_header
from good_tide.storage.place import StorePlace, disk_errors

_ANSWER_SECONDS = 4.0
_LOOKED_DEEP = 2
_MOST_LOOKED = 400
_SPEED_BYTES = 8 * 1024 * 1024


class Probe(msgspec.Struct, frozen=True):
    """What a place answered: bytes in all and free, whether it can be written, the stores on it, and how long
    it took."""

    total: int
    free: int
    writable: bool
    stores: tuple[FoundStore, ...]
    seconds: float = 0.0


def probe(path: Path, known: frozenset[StoreId]) -> Probe:
    """Look at a place in this process. ``known`` are ids of stores that this machine uses."""
    begun = time.monotonic()
    room, writable = os.statvfs(path), os.access(path, os.W_OK)
    seconds = time.monotonic() - begun
    return Probe(
        room.f_blocks * room.f_frsize,
        room.f_bavail * room.f_frsize,
        writable,
        tuple(_stores(path, known)),
        seconds,
    )


def probe_apart(path: Path, known: frozenset[StoreId]) -> Probe | None:
    """Look at a place in a process of its own; None if it does not answer in time."""
    command = [sys.executable, "-m", "good_tide.operations.places.probing", str(path), *sorted(known)]
    with subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True
    ) as process:
        try:
            answer, _ = process.communicate(timeout=_ANSWER_SECONDS)
        except subprocess.TimeoutExpired:
            process.kill()
            _forget(process)
            return None
    try:
        return msgspec.json.decode(answer, type=Probe)
    except msgspec.MsgspecError:
        return None


def _forget(process: subprocess.Popen[bytes]) -> None:
    """Do not wait for a process that hangs in the kernel: it ends when the share answers or is unmounted."""
    if process.stdout is not None:
        process.stdout.close()
    process.returncode = -9


def _stores(top: Path, known: frozenset[StoreId]) -> list[FoundStore]:
    """Stores on a disk: in its topmost folders and those just inside them."""
    found: list[FoundStore] = []
    level, looked = [top], 0
    for depth in range(_LOOKED_DEEP + 1):
        following: list[Path] = []
        for folder in level:
            looked += 1
            if looked > _MOST_LOOKED:
                return found
            if holds_store(FolderPlace(folder)):
                found.append(describe_store(FolderPlace(folder), known))
            elif depth < _LOOKED_DEEP:
                following += _folders(folder)
        level = following
    return found


def _folders(folder: Path) -> list[Path]:
    try:
        with os.scandir(folder) as listing:
            return sorted(
                Path(item.path)
                for item in listing
                if item.is_dir(follow_symlinks=False) and not item.name.startswith(".")
            )
    except OSError:
        return []


def describe_store(where: StorePlace, known: frozenset[StoreId]) -> FoundStore:
    """What can be said of a store without opening it."""
    place = where.files()
    try:
        header = read_header(place)
        count = len(place.names(SNAPSHOT_FOLDER))
    except PlaceError:
        return FoundStore(where.called, StoreId(""), True, "newer")
    except GoodTideError:
        return FoundStore(where.called, StoreId(""), True, "unknown")
    whose = "this" if header.store in known else "unknown" if header.encrypted else "other"
    return FoundStore(where.called, header.store, header.encrypted, whose, count)


def measure_speed(folder: Path) -> float:
    """MB/s at which a folder takes 8 MiB that do not compress, made durable. The file is removed again.

    Raises:
        PlaceError: it does not take them.
    """
    data = os.urandom(_SPEED_BYTES)
    file = folder / f".good-tide-speed-{os.getpid()}"
    with disk_errors(tr("Writing to {folder}").format(folder=folder)):
        begun = time.monotonic()
        try:
            with open(file, "wb") as target:
                target.write(data)
                target.flush()
                os.fsync(target.fileno())
            return len(data) / 1e6 / max(1e-6, time.monotonic() - begun)
        finally:
            file.unlink(missing_ok=True)


if __name__ == "__main__":
    sys.stdout.buffer.write(
        msgspec.json.encode(probe(Path(sys.argv[1]), frozenset(map(StoreId, sys.argv[2:]))))
    )
