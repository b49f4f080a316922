"""A store's header and key slots: making a store, recognising one, unlocking it."""

from __future__ import annotations

import binascii
import contextlib
import hashlib
import os
import re
import secrets
from typing import Literal, NamedTuple

import msgspec

from good_tide.core.errors import (
    DamageError,
    GoodTideError,
    NotInPlaceError,
    PersonError,
    PlaceError,
    WrongPassphraseError,
)
from good_tide.core.identifiers import FORMAT_VERSION, StoreId
from good_tide.core.passphrases import gives_away
from good_tide.core.words import printable
from good_tide.crypto.seals import StoreKeys
from good_tide.crypto.slots import (
    STRONG,
    Cost,
    Slot,
    keys_from,
    new_recovery_key,
    new_secrets,
    open_slot,
    parse_recovery_key,
    unwrap,
    wrap,
)
from good_tide.storage.place import TEMPORARY, Place, StorePlace
from good_tide.storage.recovery_script import SCRIPT_FILE, recovery_script

HEADER_FILE = "store.json"
SLOT_FOLDER = "keys"
README_FILE = "README.txt"
MAKING_FILE = "store.making"
"""Lies in a directory from before anything else is written until the store is made. What it says is the proof
that the rest is ours."""

_HEADER_LIMIT = 64 * 1024
_MOST_SLOTS = 64
"""More key slots than anybody has made: somebody wants passphrases to be tried without an end."""
_UNREADABLE = (msgspec.MsgspecError, UnicodeDecodeError, RecursionError, binascii.Error)
"""What reading JSON that somebody else made up may raise."""
STORE_ID = re.compile("[0-9a-f]{32}")
_LONGEST_PASSPHRASE = 1000

_README = """This folder is a Good Tide store: point-in-time snapshots of somebody's files.

Do not change, rename or delete anything in it by hand: every file is needed.

To look into it and take files out, install Good Tide and point it at this folder.
Without Good Tide: the script recover.py needs only Python 3.9 or newer, with the packages "cryptography" and
"zstandard". It lists and extracts every snapshot:

    python3 recover.py --store THIS_FOLDER list
    python3 recover.py --store THIS_FOLDER extract SNAPSHOT TARGET_FOLDER

It asks for the passphrase, or for the recovery key that was shown when this store was made.

A copy of the script lies in this folder. Whoever could write to this disk could have changed it.
If that may be so, run another copy: any machine with Good Tide writes one with
"good-tide store recovery-script FILE", and it is in the program's source as
src/good_tide/storage/recover.py. "good-tide verify" says whether the copy here is the true one.
"""


class Header(msgspec.Struct, frozen=True):
    """What is known of a store without a passphrase."""

    format: int
    store: StoreId
    encrypted: bool
    features: tuple[str, ...] = ()


class _SlotFile(msgspec.Struct, frozen=True):
    """A slot on disk. ``header`` and ``check`` are SHA-256, so that damage is told from a wrong
    passphrase."""

    slot: Slot
    header: str
    check: str


class _Making(msgspec.Struct, frozen=True):
    """What a store in the making says: that it is one, and the binding of the header that it will get."""

    making: Literal["a Good Tide store"]
    header: str


class NewStore(NamedTuple):
    """What making a store gives: its header, its keys, and the recovery key to be written down (None if
    open)."""

    header: Header
    keys: StoreKeys
    recovery_key: str | None


def create_store(
    where: StorePlace,
    passphrase: str | None,
    hint: str = "",
    cost: Cost = STRONG,
    twin: StoreKeys | None = None,
) -> NewStore:
    """Make a store in a place, which may be there if it is empty or holds a store that was half made. Nothing
    is removed or written over but what a store in the making left there.

    :param passphrase: None for a store without encryption.
    :param twin: keys of a store with which the new one shares the identities of chunks, so that snapshots are
        carried between them without being chunked anew.

    Raises:
        PersonError: the place holds something else, the passphrase is empty, or the hint gives it away.
            PlaceError: the disk does not take it.
    """
    if passphrase is not None:
        check_passphrase(passphrase, hint)
    where.make()
    place = where.files()
    _clear_half_made(place)
    header = Header(
        format=FORMAT_VERSION, store=StoreId(secrets.token_hex(16)), encrypted=passphrase is not None
    )
    header_bytes = msgspec.json.format(msgspec.json.encode(header), indent=1) + b"\n"
    binding = hashlib.sha256(header_bytes).digest()
    making = _Making("a Good Tide store", binding.hex())
    with place.create(MAKING_FILE, "new-") as file:
        file.write(msgspec.json.encode(making) + b"\n")
        file.commit()
    secret, recovery_key = new_secrets(None if twin is None else twin.identity), None
    if passphrase is None:
        slots = [open_slot(secret)]
    else:
        recovery_key = new_recovery_key()
        digits = parse_recovery_key(recovery_key)
        assert digits is not None
        slots = [
            wrap("passphrase", passphrase, secret, binding, cost, hint),
            wrap("recovery", digits, secret, binding, cost),
        ]
    _write(place, README_FILE, _README.encode())
    _write(place, SCRIPT_FILE, recovery_script())
    for slot in slots:
        write_slot(place, slot, binding)
    with place.create(HEADER_FILE, "new-") as file:
        file.write(header_bytes)
        file.commit(exclusive=True)
    place.remove(MAKING_FILE)
    return NewStore(header, keys_from(secret, header.encrypted), recovery_key)


def in_the_way(place: Place) -> str:
    """The name of something in a place that keeps a store from being made there; empty when nothing does.
    What the making of a store left that was cut off does not: it is known by what ``store.making`` says, and
    by being what is written then.

    Raises:
        PlaceError: it cannot be looked into.
    """
    present = place.things()
    empty = present == [TEMPORARY] and place.holds_only_files(TEMPORARY) and not place.names(TEMPORARY)
    if not present or empty:
        return ""
    making = _making(place)
    if making is None:
        return present[0]
    for name in present:
        if name in (README_FILE, SCRIPT_FILE):
            ours = _read_small(place, name).startswith((_README[:40].encode(), recovery_script()[:60]))
        elif name == SLOT_FOLDER:
            ours = place.holds_only_files(name) and all(
                _is_of_header(place, slot, making.header) for slot in place.names(name)
            )
        elif name == TEMPORARY:
            ours = place.holds_only_files(name) and all(left.startswith("new-") for left in place.names(name))
        else:
            ours = name == MAKING_FILE
        if not ours:
            return name
    return ""


def _making(place: Place) -> _Making | None:
    """What a store in the making says of itself; None where there is none."""
    with contextlib.suppress(GoodTideError, *_UNREADABLE):
        return msgspec.json.decode(place.read(MAKING_FILE, 0, _HEADER_LIMIT), type=_Making)
    return None


def _read_small(place: Place, name: str) -> bytes:
    try:
        return place.read(name, 0, _HEADER_LIMIT)
    except PlaceError:
        return b""


def _is_of_header(place: Place, slot: str, binding: str) -> bool:
    with contextlib.suppress(*_UNREADABLE):
        return (
            msgspec.json.decode(_read_small(place, f"{SLOT_FOLDER}/{slot}"), type=_SlotFile).header == binding
        )
    return False


def _clear_half_made(place: Place) -> None:
    """Make room for a new store: take away what one that was half made left.

    Raises:
        PersonError: there is a store, or anything else.
    """
    if HEADER_FILE in place.things():
        raise PersonError(f"{place.title} already holds a store", "Use it, or choose another folder")
    other = in_the_way(place)
    if other:
        raise PersonError(
            f"{place.title} is not empty: {printable(os.fsencode(other))} is in it",
            "Choose an empty or a new folder for the store",
        )
    for slot in place.names(SLOT_FOLDER):
        place.remove(f"{SLOT_FOLDER}/{slot}")
    place.clear_temporary("new-")


def check_passphrase(passphrase: str, hint: str) -> None:
    """Refuse a passphrase that is none, is longer than anybody types, or that its hint gives away.

    Raises:
        PersonError: one of these.
    """
    if not passphrase:
        raise PersonError(
            "The passphrase is empty", "Choose several words, or ask for a store without encryption"
        )
    if len(passphrase) > _LONGEST_PASSPHRASE:
        raise PersonError(
            f"The passphrase has {len(passphrase):,} characters",
            f"Choose one of at most {_LONGEST_PASSPHRASE:,}, so that it can be typed again",
        )
    if gives_away(hint, passphrase):
        raise PersonError(
            "The hint contains the passphrase",
            "Choose a hint that only helps someone who knows it; it can be read by everybody",
        )


def _write(place: Place, name: str, data: bytes) -> None:
    with place.create(name, "new-") as file:
        file.write(data)
        file.commit()


def write_slot(place: Place, slot: Slot, binding: bytes) -> str:
    """Add a key slot under a random name, which is returned."""
    file = _SlotFile(slot=slot, header=binding.hex(), check=_slot_check(slot))
    name = secrets.token_hex(4)
    _write(
        place, f"{SLOT_FOLDER}/{name}.json", msgspec.json.format(msgspec.json.encode(file), indent=1) + b"\n"
    )
    return name


def _slot_check(slot: Slot) -> str:
    return hashlib.sha256(msgspec.json.encode(slot)).hexdigest()


def holds_store(where: StorePlace) -> bool:
    """Whether there is a store in a place."""
    try:
        return where.files().size(HEADER_FILE) >= 0
    except PlaceError:
        return False


def read_header(place: Place) -> Header:
    """What a store says of itself in the clear.

    Raises:
        PlaceError: no store, half a store, or one of a newer version.
        DamageError: the header cannot be read.
    """
    return _parse_header(_header_bytes(place), place.title)


def _header_bytes(place: Place) -> bytes:
    try:
        return place.read(HEADER_FILE, 0, _HEADER_LIMIT)
    except NotInPlaceError:
        if (place.names(SLOT_FOLDER) or _read_small(place, MAKING_FILE)) and not place.names("snapshots"):
            raise PlaceError(
                f"The store in {place.title} was not made to the end", "Create it again in the same folder"
            ) from None
        if place.names("snapshots"):
            raise DamageError(
                f"{HEADER_FILE} is missing from the store in {place.title}",
                "Bring it back from a copy of the store",
                HEADER_FILE,
            ) from None
        raise PlaceError(
            f"There is no store in {place.title}", "Check the folder and whether its disk is connected"
        ) from None


def _parse_header(data: bytes, title: str) -> Header:
    try:
        header = msgspec.json.decode(data, type=Header)
    except _UNREADABLE as error:
        raise DamageError(
            f"{HEADER_FILE} in {title} cannot be read ({error})",
            "Bring it back from a copy of the store",
            HEADER_FILE,
        ) from error
    if header.format <= FORMAT_VERSION and not STORE_ID.fullmatch(header.store):
        raise DamageError(
            f"{HEADER_FILE} in {title} names no store", "Bring it back from a copy of the store", HEADER_FILE
        )
    if header.format > FORMAT_VERSION or header.features:
        raise PlaceError(
            f"The store in {title} was made by a newer version of Good Tide (format {header.format}; this one"
            f" reads up to {FORMAT_VERSION})",
            "Install that version to use it",
        )
    return header


def header_binding(place: Place) -> bytes:
    """What ties slots to the store's header."""
    return hashlib.sha256(_header_bytes(place)).digest()


def read_slots(place: Place) -> list[Slot]:
    """The key slots that are intact and belong to the header.

    Raises:
        DamageError: there is none.
    """
    return list(named_slots(place).values())


def named_slots(place: Place) -> dict[str, Slot]:
    """The key slots that are intact and belong to the header, by their names.

    Raises:
        DamageError: there is none.
    """
    binding = header_binding(place).hex()
    slots: dict[str, Slot] = {}
    names = place.names(SLOT_FOLDER)
    if len(names) > _MOST_SLOTS:
        raise DamageError(
            f"The store in {place.title} has {len(names):,} key slots, where {_MOST_SLOTS} are the most",
            f"Somebody has put them there: look into its folder {SLOT_FOLDER}, and move away what is younger"
            " than the store",
            SLOT_FOLDER,
        )
    for name in names:
        with contextlib.suppress(*_UNREADABLE):
            file = msgspec.json.decode(_read_small(place, f"{SLOT_FOLDER}/{name}"), type=_SlotFile)
            if file.header == binding and file.check == _slot_check(file.slot):
                slots[name.removesuffix(".json")] = file.slot
    if not slots:
        raise DamageError(
            f"No key slot of the store in {place.title} is intact, or {HEADER_FILE} was changed",
            f"Bring {HEADER_FILE} and the folder {SLOT_FOLDER} back from a copy of the store",
            SLOT_FOLDER,
        )
    return slots


def unlock(place: Place, passphrase: str | None) -> tuple[Header, StoreKeys]:
    """Open a store's keys with its passphrase or recovery key.

    Raises:
        WrongPassphraseError: it does not open, or none was given and one is needed.
    """
    data = _header_bytes(place)
    header, slots = _parse_header(data, place.title), read_slots(place)
    if not header.encrypted:
        secret = next((slot.sealed for slot in slots if slot.kind == "open"), None)
        if secret is None:
            raise DamageError(f"The slot of the store in {place.title} is missing", file=SLOT_FOLDER)
        return header, keys_from(secret, encrypted=False)
    if passphrase is None:
        raise WrongPassphraseError(
            f"The store in {place.title} is encrypted", "Give its passphrase or its recovery key"
        )
    return header, keys_from(unwrap(slots, passphrase, hashlib.sha256(data).digest()), encrypted=True)


def slot_hint(slots: list[Slot]) -> str:
    """The hint of the passphrase slot, empty without one."""
    return next((slot.hint for slot in slots if slot.kind == "passphrase"), "")
