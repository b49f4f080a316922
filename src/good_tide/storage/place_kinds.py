"""The kinds of places that a store can be in: the one list that a new kind is added to."""

from __future__ import annotations

from good_tide.core.errors import PlaceError
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.place import StorePlace
from good_tide.storage.server_place import ServerPlace

KINDS = (ServerPlace, FolderPlace)
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


def is_there(where: StorePlace) -> bool:
    """Whether a place is there."""
    try:
        where.check_there()
    except PlaceError:
        return False
    return True
