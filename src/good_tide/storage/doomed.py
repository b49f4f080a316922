"""Doomed packs: those that a sweep found unneeded. Writers that begin later do not build on them; they are deleted when no earlier writer
is left. ``docs/format.md`` ("Doomed lists") gives the files."""

from __future__ import annotations

import secrets
from collections.abc import Iterable

import msgspec

from good_tide.core.errors import DamageError, NotInPlaceError
from good_tide.core.identifiers import NAME_BYTES, PackId
from good_tide.storage.envelope import FileKind, open_whole, seal_whole
from good_tide.storage.store import Store, file_name_bytes

DOOMED_FOLDER = "doomed"


def read_doomed(store: Store) -> dict[str, frozenset[PackId]]:
    """All doomed lists by their names. One that vanishes meanwhile was carried out.

    Raises:
        DamageError: a list cannot be read; nobody may write or sweep before it is known what it says.
    """
    found: dict[str, frozenset[PackId]] = {}
    for name in store.place.names(DOOMED_FOLDER):
        file = f"{DOOMED_FOLDER}/{name}"
        try:
            plain = open_whole(store.keys, FileKind.DOOMED, file_name_bytes(name, file), store.place.read(file), file)
            found[name] = frozenset(PackId(pack) for pack in msgspec.msgpack.decode(plain, type=list[bytes]))
        except NotInPlaceError:
            continue
        except msgspec.MsgspecError as error:
            raise DamageError(f"{file} is no list of packs", "Run verify on this store", file) from error
    return found


def write_doomed(store: Store, packs: Iterable[PackId], owner: str) -> str:
    """Write a doomed list; returns its name.

    Raises:
        PlaceError: the disk does not take it.
    """
    name = secrets.token_bytes(NAME_BYTES)
    with store.place.create(f"{DOOMED_FOLDER}/{name.hex()}", owner) as file:
        file.write(seal_whole(store.keys, FileKind.DOOMED, name, msgspec.msgpack.encode(sorted(packs))))
        file.commit()
    return name.hex()
