"""Index files gathered into one: each run leaves one, and whoever opens the store reads them all.

Index files go only under the lease that sweeps have as well, as a sweep takes packs out of the index by the
same means: nothing that it took out may come back.
"""

from __future__ import annotations

import contextlib

from good_tide.core.errors import DamageError, NotInPlaceError, PlaceError
from good_tide.storage.envelope import FileKind
from good_tide.storage.folders import INDEX_FOLDER
from good_tide.storage.index import decode_tables, encode_tables
from good_tide.storage.marks import LEASE_FOLDER, Mark, seen_marks
from good_tide.storage.packs import PackTable
from good_tide.storage.store import Store

_MANY = 128
"""Small index files before they are gathered."""
_SMALL_BYTES = 4 * 1024 * 1024


def gather_index(store: Store, owner: str) -> None:
    """Gather small index files where there are many. That somebody sweeps, or that the disk does not take it,
    does no harm.

    :param owner: begins the names of temporary files and marks.
    """
    if not store.shared or len(store.index_files) < _MANY:
        return
    with contextlib.suppress(PlaceError, DamageError), Mark(store.place, LEASE_FOLDER, f"{owner}g") as lease:
        if any(mark.owner != lease.owner for mark in seen_marks(store.place, LEASE_FOLDER)):
            return
        small: list[str] = []
        tables: list[PackTable] = []
        for name in sorted(store.index_files):
            file = f"{INDEX_FOLDER}/{name}"
            with contextlib.suppress(NotInPlaceError, DamageError):
                if store.place.size(file) < _SMALL_BYTES:
                    tables += decode_tables(store.read_sealed(FileKind.INDEX, file), file)
                    small.append(file)
        if len(small) < _MANY:
            return
        store.write_sealed(FileKind.INDEX, INDEX_FOLDER, encode_tables(tables), owner)
        for file in small:
            store.place.remove(file)
        store.forget_index()
