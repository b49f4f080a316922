"""A little room of the store's own on its disk: a file that nothing needs. When others have filled the disk
to the last byte, a sweep gives it up to have room to begin, and with what the sweep gives back it is made
again."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable

from good_tide.core.errors import DamageError, NotInPlaceError, PlaceError
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.packs import PackTable
from good_tide.storage.place import Place

RESERVE_FILE = "reserve"
_BYTES = 512 * 1024
"""Enough for a mark, a doomed list and the index of a store of some size."""
_WORTH = 64 * _BYTES
"""With less room than that on the disk, or fewer bytes in the store, it is not made."""


def keep_reserve(place: Place, owner: str, tables: Iterable[PackTable]) -> None:
    """Make it, if it is not there, for a store of some size, on a disk of this machine that has room. Its
    bytes are by chance, so that no file system makes them small.

    :param owner: begins the name of its temporary file. :param tables: those of all packs.
    """
    if not isinstance(place.where, FolderPlace) or _there(place):
        return
    with contextlib.suppress(PlaceError, DamageError):
        stored = sum(table.size or int(table.room().sum()) for table in tables)
        if stored >= _WORTH and place.room()[0] >= _WORTH:
            with place.create(RESERVE_FILE, owner) as file:
                file.write(os.urandom(_BYTES))
                file.commit()


def give_up_reserve(place: Place) -> bool:
    """Let it go, for what cannot wait; whether it was there."""
    if not _there(place):
        return False
    with contextlib.suppress(PlaceError):
        place.remove(RESERVE_FILE)
        return True
    return False


def _there(place: Place) -> bool:
    try:
        return place.size(RESERVE_FILE) > 0
    except NotInPlaceError:
        return False
    except PlaceError:
        return True  # whoever writes next will see
