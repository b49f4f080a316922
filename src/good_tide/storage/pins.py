"""Pins: snapshots that thinning never touches, with a label. Each is a small sealed file in the store, so that every machine heeds it."""

from __future__ import annotations

import secrets

import msgspec

from good_tide.core.errors import DamageError, NotInPlaceError, PersonError
from good_tide.core.identifiers import NAME_BYTES
from good_tide.storage.envelope import FileKind, open_whole, seal_whole
from good_tide.storage.store import Store, file_name_bytes

LONGEST_LABEL = 200
_FOLDER = "pins"
_OWNER = "pin-"


class Pin(msgspec.Struct, frozen=True):
    """A pinned snapshot by its name."""

    snapshot: str
    label: str = ""


def read_pins(store: Store) -> dict[str, Pin]:
    """All pins, by the names of their files.

    Raises:
        DamageError: one cannot be read; nothing may be released before it is known what it says.
    """
    found = {}
    for name in store.place.names(_FOLDER):
        file = f"{_FOLDER}/{name}"
        try:
            plain = open_whole(store.keys, FileKind.PIN, file_name_bytes(name, file), store.place.read(file), file)
            found[name] = msgspec.msgpack.decode(plain, type=Pin)
        except NotInPlaceError:
            continue
        except msgspec.MsgspecError as error:
            raise DamageError(f"{file} is no pin", "Run verify on this store", file) from error
    return found


def pin(store: Store, snapshot: str, label: str = "") -> None:
    """Pin a snapshot, in place of a pin that it has.

    Raises:
        PersonError: the label is too long to be shown.
        PlaceError: the disk does not take it.
    """
    if len(label) > LONGEST_LABEL:
        raise PersonError(f"A label of {len(label):,} characters is too long", f"Keep it under {LONGEST_LABEL}")
    before = [name for name, known in read_pins(store).items() if known.snapshot == snapshot]
    name = secrets.token_bytes(NAME_BYTES)
    with store.place.create(f"{_FOLDER}/{name.hex()}", _OWNER) as file:
        file.write(seal_whole(store.keys, FileKind.PIN, name, msgspec.msgpack.encode(Pin(snapshot, label))))
        file.commit()
    for old in before:
        store.place.remove(f"{_FOLDER}/{old}")


def unpin(store: Store, snapshot: str) -> bool:
    """Take a snapshot's pin away; whether it had one."""
    found = [name for name, known in read_pins(store).items() if known.snapshot == snapshot]
    for name in found:
        store.place.remove(f"{_FOLDER}/{name}")
    return bool(found)
