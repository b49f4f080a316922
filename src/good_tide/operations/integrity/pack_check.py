"""Reading a pack back: all of its chunks, and its parity."""

from __future__ import annotations

from typing import NamedTuple

from good_tide.core.errors import DamageError, Harm
from good_tide.core.progress import Control
from good_tide.storage.damage import Damaged
from good_tide.storage.index import location_in
from good_tide.storage.packed import pack_file
from good_tide.storage.packs import PackTable
from good_tide.storage.store import Store


class PackCheck(NamedTuple):
    """What reading a pack back showed: bytes of chunks that were read, and what is wrong with which chunk."""

    read: int
    damage: list[tuple[int, DamageError]]


def check_pack(store: Store, table: PackTable, control: Control) -> PackCheck:
    """Read a pack back. What parity can mend is put right, and is no damage.

    Raises:
        PlaceError: the disk gives nothing any more. StoppedError: the person stopped it.
    """
    read, damage, beyond = 0, [], False
    if table.size:
        try:
            store.packs.put_parity_right(table)
        except DamageError:
            beyond = True  # which of its chunks are damaged is seen next
    for number in range(len(table)):
        control.checkpoint()
        try:
            _read(store, table, number)
            read += table.stored_length(number)
        except DamageError as error:
            damage.append((number, error))
    if beyond and not damage:  # the pack is to be written anew while it can still be read
        store.damage.add([Damaged(pack_file(table.pack), Harm.CHANGED)])
    return PackCheck(read, damage)


def _read(store: Store, table: PackTable, number: int) -> None:
    """Read a chunk of a pack. Where what it leans on is damaged, of which is told, its seal is looked at.

    Raises:
        DamageError: it is not whole.
    """
    location = location_in(table, number)
    try:
        leans_on = store.leans_on(location)
    except DamageError:
        store.packs.prepared(table, number)
        return
    store.packs.chunk(table.chunk_id(number), location, leans_on)
