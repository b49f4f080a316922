"""Looking whether files and their second copies are whole, and putting right the one that is not."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable

from good_tide.core.errors import DamageError, Harm, PlaceError
from good_tide.storage.copies import DOUBLED_FOLDERS, Doubled, copy_of, doubled_names
from good_tide.storage.damage import Damaged
from good_tide.storage.envelope import FileKind, file_name_bytes, open_whole
from good_tide.storage.header import HEADER_FILE, SLOT_FOLDER, header_binding, is_slot
from good_tide.storage.place import Place
from good_tide.storage.store import Store

_KINDS = {"index": FileKind.INDEX, "snapshots": FileKind.SNAPSHOT, "pins": FileKind.PIN}


def put_copies_right(store: Store) -> None:
    """Read header, key slots, index, snapshots and pins with their second copies, and write anew what is
    missing of a pair or not whole, from the other. ``store.mending.files`` has what was put right.

    Raises:
        PlaceError: the disk gives nothing any more.
    """
    if not isinstance(store.place, Doubled):
        return
    place = store.place.single
    store.damage.refresh()
    binding = header_binding(place).hex()

    def is_header(data: bytes) -> bool:
        return header_binding(place) == _digest(data)

    _put_right(store, place, HEADER_FILE, is_header)
    for folder in DOUBLED_FOLDERS:
        for name in doubled_names(place, folder):
            file = f"{folder}/{name}"
            if folder == SLOT_FOLDER:
                _put_right(store, place, file, lambda data: is_slot(data, binding))
            else:
                _put_right(store, place, file, _opens(store, _KINDS[folder], file))


def _digest(data: bytes) -> bytes:
    return hashlib.sha256(data).digest()


def _opens(store: Store, kind: FileKind, file: str) -> Callable[[bytes], bool]:
    """Whether bytes are what a sealed file should be."""

    def opens(data: bytes) -> bool:
        try:
            name = file_name_bytes(file.rpartition("/")[2], file)
            open_whole(store.keys, kind, name, data, file)
        except DamageError:
            return False
        return True

    return opens


def _put_right(store: Store, place: Place, file: str, is_good: Callable[[bytes], bool]) -> None:
    """Write the one of a pair that is not whole, from the other; nothing where neither is.

    A copy that is missing is written only if it was missing when somebody looked before: whoever releases a
    file takes the copy away first, and would leave one that was written at that moment, as if the file were
    lost.
    """
    copy = copy_of(file)
    found = {name: _read(place, name) for name in (file, copy)}
    good = next((data for data in found.values() if data is not None and is_good(data)), None)
    if good is None:
        return
    if found[copy] is None and copy not in store.damage.files:
        store.damage.add([Damaged(copy, Harm.MISSING)])
        return
    for name, data in found.items():
        if data != good and store.mending.put_right(name, good):
            store.damage.forget([copy])


def _read(place: Place, name: str) -> bytes | None:
    with contextlib.suppress(PlaceError, DamageError):
        return place.read(name)
    return None
