"""Pins: snapshots that thinning never touches, with a label. Each is a small sealed file in the store, so
that every machine heeds it."""

from __future__ import annotations

import contextlib

import msgspec

from good_tide.core.errors import NotInPlaceError, PersonError
from good_tide.core.identifiers import SnapshotId
from good_tide.core.translation import tr
from good_tide.core.words import number_words
from good_tide.storage.decoding import unpacked
from good_tide.storage.envelope import FileKind, file_name_bytes
from good_tide.storage.store import Store

LONGEST_LABEL = 200
PIN_FOLDER = "pins"
_OWNER = "pin-"


class Pin(msgspec.Struct, frozen=True):
    """A pinned snapshot by its name."""

    snapshot: SnapshotId
    label: str = ""


def read_pins(store: Store) -> dict[str, Pin]:
    """All pins, by the names of their files.

    Raises:
        DamageError: one cannot be read; nothing may be released before it is known what it says.
    """
    found = {}
    for name in store.own_names(PIN_FOLDER):
        with contextlib.suppress(NotInPlaceError):
            found[name] = read_pin(store, name)
    return found


def read_pin(store: Store, name: str) -> Pin:
    """The pin of a file of this name.

    Raises:
        DamageError: it cannot be read. NotInPlaceError: it has gone.
    """
    file = f"{PIN_FOLDER}/{name}"
    known = unpacked(store.read_sealed(FileKind.PIN, file), Pin, file, "a pin")
    file_name_bytes(known.snapshot, file)
    return known


def pin(store: Store, snapshot: SnapshotId, label: str = "") -> None:
    """Pin a snapshot, in place of a pin that it has.

    Raises:
        PersonError: the label is too long to be shown.
        PlaceError: the disk does not take it.
    """
    if len(label) > LONGEST_LABEL:
        raise PersonError(
            tr("A label of {label} characters is too long").format(label=number_words(len(label))),
            tr("Keep it under {LONGEST_LABEL}").format(LONGEST_LABEL=LONGEST_LABEL),
        )
    before = [name for name, known in read_pins(store).items() if known.snapshot == snapshot]
    store.write_sealed(FileKind.PIN, PIN_FOLDER, msgspec.msgpack.encode(Pin(snapshot, label)), _OWNER)
    for old in before:
        store.place.remove(f"{PIN_FOLDER}/{old}")


def unpin(store: Store, snapshot: SnapshotId) -> bool:
    """Take a snapshot's pin away; whether it had one."""
    found = [name for name, known in read_pins(store).items() if known.snapshot == snapshot]
    for name in found:
        store.place.remove(f"{PIN_FOLDER}/{name}")
    return bool(found)
