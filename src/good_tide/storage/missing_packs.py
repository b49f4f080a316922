"""Packs that are gone."""

from __future__ import annotations

from collections.abc import Collection

from good_tide.core.errors import Harm
from good_tide.core.identifiers import PackId
from good_tide.storage.damage import Damaged
from good_tide.storage.folders import PACK_FOLDER
from good_tide.storage.packed import pack_file
from good_tide.storage.store import Store


def notice_missing(store: Store, files: Collection[str] | None = None) -> None:
    """Look for packs that the index names and that are not there, and note them as damaged.

    :param files: those in the folder of packs, if they were listed a moment ago.

    Raises:
        PlaceError: the disk cannot be looked into.
    """
    for last in (False, True):
        listed = store.place.names(PACK_FOLDER) if files is None or last else files
        named = store.index.pack_files
        if len(listed) == len(named) and named.issuperset(listed):
            return
        missing = [
            PackId(bytes.fromhex(file.rpartition("/")[2])) for file in sorted(named.difference(listed))
        ]
        gone = [pack for pack in missing if pack not in store.avoided and pack not in store.damage.packs]
        if not gone or last:
            break
        store.forget_index()  # it may be older than a sweep that deleted them
    store.damage.add(Damaged(pack_file(pack), Harm.MISSING) for pack in gone)
