"""Doomed packs: those that a sweep found unneeded. Writers that begin later do not build on them; they are
deleted when no earlier writer is left. ``docs/format.md`` ("Doomed lists") gives the files."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated

import msgspec

from good_tide.core.errors import DamageError, NotInPlaceError
from good_tide.core.identifiers import NAME_BYTES, PackId
from good_tide.core.translation import tr
from good_tide.storage.decoding import unpacked
from good_tide.storage.envelope import FileKind
from good_tide.storage.store import Store

DOOMED_FOLDER = "doomed"
_PackName = Annotated[bytes, msgspec.Meta(min_length=NAME_BYTES, max_length=NAME_BYTES)]


def read_doomed(store: Store) -> dict[str, frozenset[PackId]]:
    """All doomed lists by their names. One that vanishes meanwhile was carried out.

    One that cannot be read is passed over: whoever writes does not say that it is heeded, so that no sweep
    carries it out, even one that can read it.

    Raises:
        PlaceError: the disk gives nothing any more.
    """
    found: dict[str, frozenset[PackId]] = {}
    for name in store.own_names(DOOMED_FOLDER):
        file = f"{DOOMED_FOLDER}/{name}"
        try:
            packs = unpacked(
                store.read_sealed(FileKind.DOOMED, file), list[_PackName], file, tr("a list of packs")
            )
            found[name] = frozenset(PackId(pack) for pack in packs)
        except NotInPlaceError:
            continue
        except DamageError as error:
            store.damage.note(error)
    return found


def write_doomed(store: Store, packs: Iterable[PackId], owner: str) -> str:
    """Write a doomed list; returns its name.

    Raises:
        PlaceError: the disk does not take it.
    """
    return store.write_sealed(
        FileKind.DOOMED, DOOMED_FOLDER, msgspec.msgpack.encode(sorted(packs)), owner
    ).name
