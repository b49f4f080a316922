"""Snapshots that waited for a disk that was replaced, and could not be carried into the new store: they build
on what only the old disk has. They stay on this machine until they can be carried, or are let go."""

from __future__ import annotations

import shutil
from pathlib import Path

from good_tide.core.settings import StoreRef
from good_tide.core.translation import tr
from good_tide.operations.stores.holding_area import area_folder
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.holding import HoldingArea, open_holding
from good_tide.storage.place import disk_errors

_SUFFIX = ".before"


def aside(data: Path, ref: StoreRef) -> Path:
    """Where what waited for a store that was replaced lies: under its own id, as the next may be as well."""
    folder = area_folder(data, ref)
    return folder.with_name(f"{folder.name}.{ref.store}{_SUFFIX}")


def left_areas(data: Path, ref: StoreRef) -> list[Path]:
    """The areas that earlier stores in the place of this one left."""
    folder = area_folder(data, ref)
    return sorted(folder.parent.glob(f"{folder.name}.*{_SUFFIX}"))


def left_count(data: Path, ref: StoreRef) -> int:
    """How many snapshots are left behind."""
    return sum(len(FolderPlace(area).files().names(SNAPSHOT_FOLDER)) for area in left_areas(data, ref))


def left_since(data: Path, ref: StoreRef) -> int:
    """When the first of it was left behind, in nanoseconds since 1970 UTC; 0: nothing was."""
    return min((area.stat().st_mtime_ns for area in left_areas(data, ref)), default=0)


def put_aside(data: Path, ref: StoreRef, held: HoldingArea, passphrase: str | None) -> HoldingArea:
    """Put the holding area of the old store aside, so that the new one begins its own.

    Raises:
        PlaceError: it cannot be moved.
    """
    target = aside(data, ref)
    if held.root == target:
        return held
    with disk_errors(tr("Putting {root} aside").format(root=held.root)):
        held.root.rename(target)
    return open_holding(target, passphrase, (), None)


def let_go(data: Path, ref: StoreRef) -> int:
    """Forget what is left behind. Returns how many snapshots that were.

    Raises:
        PlaceError: it cannot be removed.
    """
    count = left_count(data, ref)
    for area in left_areas(data, ref):
        with disk_errors(tr("Removing {area}").format(area=area)):
            shutil.rmtree(area)
    return count
