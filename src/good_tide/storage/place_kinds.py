"""The kinds of places that a store can be in: the one list that a new kind is added to."""

from __future__ import annotations

import os
from pathlib import Path

from good_tide.core.errors import PlaceError
from good_tide.core.settings import LineLimit
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.place import StorePlace
from good_tide.storage.server_place import ServerPlace
from good_tide.storage.share_place import SharePlace

KINDS = (ServerPlace, SharePlace, FolderPlace)
"""Asked one after the other what a person means; a folder is what everything else is."""


def store_place(named: str) -> StorePlace:
    """The place that a person names.

    Raises:
        PersonError: it is an address, of a kind that is not known. ValueError: no kind of place is called so.
    """
    for kind in KINDS:
        found = kind.named(named)
        if found is not None:
            return found
    raise ValueError(f"{named} names no place")


def folder_place(folder: Path) -> StorePlace:
    """The place that a folder of this machine is, on a disk or on a share."""
    return SharePlace.named(os.fspath(folder)) or FolderPlace(folder)


def is_there(where: StorePlace) -> bool:
    """Whether a place is there."""
    try:
        where.check_there()
    except PlaceError:
        return False
    return True


def is_far(where: StorePlace) -> bool:
    """Whether another process asks for what is in it, over a line."""
    return isinstance(where, (ServerPlace, SharePlace))


def limit_line(where: StorePlace, limit: LineLimit) -> None:
    """Let no more than so much move over the line to a place, if there is one."""
    if isinstance(where, (ServerPlace, SharePlace)):
        where.line.limit_to(limit)
