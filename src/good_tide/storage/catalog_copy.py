"""A copy of the local catalog on the store, sealed, so that a machine that comes to it new, or lost its
cache, need not read all of history. ``docs/format.md`` ("Catalog copy") gives the bytes.

Only a cache: one that is damaged, gone or of another version is done without, and what it does not know is
read from the store as ever.
"""

from __future__ import annotations

import contextlib
import secrets
from pathlib import Path

import msgspec

from good_tide.core.errors import DamageError, NotInPlaceError, PlaceError
from good_tide.core.translation import tr
from good_tide.storage.decoding import unpacked
from good_tide.storage.envelope import FileKind
from good_tide.storage.store import Store

CATALOG_FOLDER = "catalog"
_PIECE_BYTES = 8 * 1024 * 1024
_MOST_BYTES = 1 << 30
_MARK_BYTES = 16


class _Piece(msgspec.Struct, array_like=True, frozen=True):
    """A part of a copy: ``mark`` is the same for all of one copy, ``number`` counts its ``count`` parts."""

    mark: bytes
    number: int
    count: int
    data: bytes


def put_copy(store: Store, image: Path, owner: str) -> bool:
    """Put a catalog on a store in place of the copies that are there; whether that was done.

    :param image: the catalog as one file. :param owner: begins the names of temporary files.
    """
    size = image.stat().st_size
    if size > _MOST_BYTES:
        return False
    before = store.own_names(CATALOG_FOLDER)
    mark, count = secrets.token_bytes(_MARK_BYTES), -(-size // _PIECE_BYTES)
    made: list[str] = []
    try:
        store.place.clear_temporary(owner)
        with image.open("rb") as file:
            for number in range(count):
                piece = _Piece(mark, number, count, file.read(_PIECE_BYTES))
                plain = msgspec.msgpack.encode(piece)
                made.append(store.write_sealed(FileKind.CATALOG, CATALOG_FOLDER, plain, owner).name)
    except PlaceError:
        _remove(store, made)
        return False
    _remove(store, before)
    return True


def remove_copies(store: Store) -> None:
    """Remove all copies: they may name what was taken out of history.

    Raises:
        PlaceError: the disk does not let go.
    """
    for name in store.own_names(CATALOG_FOLDER):
        store.place.remove(f"{CATALOG_FOLDER}/{name}")


def has_copy(store: Store) -> bool:
    """Whether a copy, or a part of one, is there."""
    return bool(store.own_names(CATALOG_FOLDER))


def _remove(store: Store, names: list[str]) -> None:
    with contextlib.suppress(PlaceError):
        for name in names:
            store.place.remove(f"{CATALOG_FOLDER}/{name}")


def fetch_copy(store: Store, into: Path) -> bool:
    """Fetch the copy of a catalog from a store into a new file; whether a whole one was there.

    Raises:
        PlaceError: the disk gives nothing any more. OSError: the file cannot be written.
    """
    found: dict[bytes, dict[int, str]] = {}
    counts: dict[bytes, int] = {}
    for name in store.own_names(CATALOG_FOLDER):
        piece = _read(store, name)
        if piece is not None and 0 < piece.count <= _MOST_BYTES // _PIECE_BYTES:
            found.setdefault(piece.mark, {})[piece.number] = name
            counts[piece.mark] = piece.count
    for mark, names in found.items():
        if set(names) == set(range(counts[mark])):
            with into.open("xb") as file:
                for number in range(counts[mark]):
                    piece = _read(store, names[number])
                    if piece is None:
                        return False
                    file.write(piece.data)
            return True
    return False


def _read(store: Store, name: str) -> _Piece | None:
    """A part of a copy; None where it is not intact."""
    file = f"{CATALOG_FOLDER}/{name}"
    with contextlib.suppress(DamageError, NotInPlaceError):
        return unpacked(store.read_sealed(FileKind.CATALOG, file), _Piece, file, tr("a part of a catalog"))
    return None
