"""Releasing and sweeping in one go, and a store that lies in memory."""

from __future__ import annotations

from pathlib import Path

from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.store import Store
from good_tide.storage.sweep import Sweep, SweepReport, Watched
from tests.support.base import T0
from tests.support.memory_place import MemoryPlace


def sweep(
    store: Store,
    now: int = T0,
    watched: Watched | None = None,
    owner: str = "sweeper-",
    thorough: bool = False,
) -> SweepReport:
    return Sweep(store, owner, watched or Watched(), now, Silent(), thorough=thorough).run()


def release(store: Store, snapshot: Snapshot) -> None:
    store.place.remove(f"{SNAPSHOT_FOLDER}/{snapshot.id}")


def memory_of(root: Path) -> MemoryPlace:
    """The files of a store as a place in memory."""
    place = MemoryPlace()
    place.files = {
        str(path.relative_to(root)): path.read_bytes()
        for path in root.rglob("*")
        if path.is_file() and path.parent.name != "tmp"
    }
    return place
