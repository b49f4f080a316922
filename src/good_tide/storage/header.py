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
    Harm,
    NotInPlaceError,
    PassphraseNeededError,
    PersonError,
    PlaceError,
    StoreTooNewError,
)
from good_tide.core.identifiers import FORMAT_VERSION, StoreId
from good_tide.core.passphrases import check_passphrase
from good_tide.core.translation import tr
from good_tide.core.words import number_words, printable
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
from good_tide.storage.copies import COPY_FOLDER, Doubled, doubled_names, read_copy
from good_tide.storage.features import KNOWN_FEATURES, NEW_FEATURES
from good_tide.storage.place import TEMPORARY, Place, StorePlace
from good_tide.storage.readme import README_TEXT
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


class Header(msgspec.Struct, frozen=True):
    """What is known of a store without a passphrase. ``parity``: its packs get parity; since version 2."""

    format: int
    store: StoreId
    encrypted: bool
    features: tuple[str, ...] = ()
    parity: bool = False


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
    parity: bool = True,
) -> NewStore:
    """Make a store in a place, which may be there if it is empty or holds a store that was half made. Nothing
    is removed or written over but what a store in the making left there.

    :param passphrase: None for a store without encryption.
    :param twin: keys of a store with which the new one shares the identities of chunks, so that snapshots are
        carried between them without being chunked anew.
    :param parity: its packs get parity, with which what a disk loses of them can be mended.

    Raises:
        PersonError: the place holds something else, the passphrase is empty, or the hint gives it away.
            PlaceError: the disk does not take it.
    """
    if passphrase is not None:
        check_passphrase(passphrase, hint)
    where.make()
    _clear_half_made(where.files())
    place = Doubled(where.files())
    store = StoreId(secrets.token_hex(16))
    header = Header(FORMAT_VERSION, store, passphrase is not None, NEW_FEATURES, parity)
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
    _write(place, README_FILE, README_TEXT.encode())
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
            ours = _read_small(place, name).startswith((README_TEXT[:40].encode(), recovery_script()[:60]))
        elif name == SLOT_FOLDER:
            ours = place.holds_only_files(name) and all(
                _is_of_header(place, f"{name}/{slot}", making.header) for slot in place.names(name)
            )
        elif name == COPY_FOLDER:
            begin = f"{SLOT_FOLDER}/"
            ours = all(
                copy.startswith(begin) and _is_of_header(place, f"{name}/{copy}", making.header)
                for copy in place.names(name)
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
    """Whether a file of a key slot belongs to a header."""
    with contextlib.suppress(*_UNREADABLE):
        return msgspec.json.decode(_read_small(place, slot), type=_SlotFile).header == binding
    return False


def _clear_half_made(place: Place) -> None:
    """Make room for a new store: take away what one that was half made left.

    Raises:
        PersonError: there is a store, or anything else.
    """
    if HEADER_FILE in place.things():
        raise PersonError(
            tr("{title} already holds a store").format(title=place.title),
            tr("Use it, or choose another folder"),
        )
    other = in_the_way(place)
    if other:
        raise PersonError(
            tr("{title} is not empty: {fsencode} is in it").format(
                title=place.title, fsencode=printable(os.fsencode(other))
            ),
            tr("Choose an empty or a new folder for the store"),
        )
    for slot in doubled_names(place, SLOT_FOLDER):
        Doubled(place).remove(f"{SLOT_FOLDER}/{slot}")
    place.clear_temporary("new-")


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
        return Doubled(where.files()).size(HEADER_FILE) >= 0
    except PlaceError:
        return False


def read_header(place: Place) -> Header:
    """What a store says of itself in the clear.

    Raises:
        PlaceError: no store, half a store, or one of a newer version.
        DamageError: the header cannot be read.
    """
    return _header_and_bytes(place)[0]


def _header_and_bytes(place: Place) -> tuple[Header, bytes]:
    """The header that key slots belong to, or that can be read: the file itself, or else its second copy."""
    copy = read_copy(place, HEADER_FILE, _HEADER_LIMIT)
    try:
        data = place.read(HEADER_FILE, 0, _HEADER_LIMIT)
        header = _parse_header(data, place.title)
        if copy is None or copy == data or header.format == 1 or _slots_of(place, data, header):
            return header, data
    except StoreTooNewError:
        if copy is None or not _slots_of(place, copy, _parse_header(copy, place.title)):
            raise
    except (PlaceError, DamageError) as error:
        if copy is None:
            raise _no_header(place) if isinstance(error, NotInPlaceError) else error from None
    assert copy is not None
    return _parse_header(copy, place.title), copy


def _no_header(place: Place) -> GoodTideError:
    """Why there is no header in a place, and no second copy of it."""
    if (place.names(SLOT_FOLDER) or _read_small(place, MAKING_FILE)) and not place.names("snapshots"):
        return PlaceError(
            tr("The store in {title} was not made to the end").format(title=place.title),
            tr("Create it again in the same folder"),
        )
    if place.names("snapshots"):
        return DamageError(
            tr("{HEADER_FILE} is missing from the store in {title}").format(
                HEADER_FILE=HEADER_FILE, title=place.title
            ),
            tr("Bring it back from a copy of the store"),
            HEADER_FILE,
            Harm.MISSING,
        )
    return PlaceError(
        tr("There is no store in {title}").format(title=place.title),
        tr("Check the folder and whether its disk is connected"),
    )


def _parse_header(data: bytes, title: str) -> Header:
    try:
        header = msgspec.json.decode(data, type=Header)
    except _UNREADABLE as error:
        raise DamageError(
            tr("{HEADER_FILE} in {title} cannot be read ({error})").format(
                HEADER_FILE=HEADER_FILE, title=title, error=error
            ),
            tr("Bring it back from a copy of the store"),
            HEADER_FILE,
        ) from error
    if header.format <= FORMAT_VERSION and not STORE_ID.fullmatch(header.store):
        raise DamageError(
            tr("{HEADER_FILE} in {title} names no store").format(HEADER_FILE=HEADER_FILE, title=title),
            tr("Bring it back from a copy of the store"),
            HEADER_FILE,
        )
    unknown = sorted(set(header.features) - KNOWN_FEATURES)
    if header.format > FORMAT_VERSION or unknown:
        raise StoreTooNewError(
            tr(
                "The store in {title} was made by a newer version of Good Tide (format {format}; this one"
                " reads up to {FORMAT_VERSION})"
            ).format(
                title=title, format=" ".join([str(header.format), *unknown]), FORMAT_VERSION=FORMAT_VERSION
            ),
            tr("Install that version to use it"),
        )
    return header


def with_copies(place: Place) -> Place:
    """The place of a store, which keeps second copies if the store has any.

    Raises:
        PlaceError: no store. DamageError: the header cannot be read.
    """
    return Doubled(place) if not isinstance(place, Doubled) and read_header(place).format > 1 else place


def header_binding(place: Place) -> bytes:
    """What ties slots to the store's header."""
    return hashlib.sha256(_header_and_bytes(place)[1]).digest()


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
    header, data = _header_and_bytes(place)
    slots = _slots_of(place, data, header)
    if not slots:
        raise DamageError(
            tr("No key slot of the store in {title} is intact, or {HEADER_FILE} was changed").format(
                title=place.title, HEADER_FILE=HEADER_FILE
            ),
            tr("Bring {HEADER_FILE} and the folder {SLOT_FOLDER} back from a copy of the store").format(
                HEADER_FILE=HEADER_FILE, SLOT_FOLDER=SLOT_FOLDER
            ),
            SLOT_FOLDER,
        )
    return slots


def _slots_of(place: Place, data: bytes, header: Header) -> dict[str, Slot]:
    """The intact key slots that belong to a header, ``data`` in bytes: the files themselves, or else their
    second copies where the store has any."""
    binding, has_copies = hashlib.sha256(data).hexdigest(), header.format > 1
    slots: dict[str, Slot] = {}
    names = doubled_names(place, SLOT_FOLDER) if has_copies else place.names(SLOT_FOLDER)
    if len(names) > _MOST_SLOTS:
        raise DamageError(
            tr("The store in {title} has {names} key slots, where {MOST_SLOTS} are the most").format(
                title=place.title, names=number_words(len(names)), MOST_SLOTS=_MOST_SLOTS
            ),
            tr(
                "Somebody has put them there: look into its folder {SLOT_FOLDER}, and move away what is"
                " younger than the store"
            ).format(SLOT_FOLDER=SLOT_FOLDER),
            SLOT_FOLDER,
        )
    for name in names:
        file = f"{SLOT_FOLDER}/{name}"
        slot = _slot(_read_small(place, file), binding)
        if slot is None and has_copies:
            slot = _slot(read_copy(place, file, _HEADER_LIMIT) or b"", binding)
        if slot is not None:
            slots[name.removesuffix(".json")] = slot
    return slots


def is_slot(data: bytes, binding: str) -> bool:
    """Whether bytes are an intact key slot of the header with a binding, in hexadecimal digits."""
    return _slot(data, binding) is not None


def _slot(data: bytes, binding: str) -> Slot | None:
    """The slot in a file; None if it is damaged, or belongs to another header."""
    with contextlib.suppress(*_UNREADABLE):
        file = msgspec.json.decode(data, type=_SlotFile)
        if file.header == binding and file.check == _slot_check(file.slot):
            return file.slot
    return None


def unlock(place: Place, passphrase: str | None) -> tuple[Header, StoreKeys]:
    """Open a store's keys with its passphrase or recovery key.

    Raises:
        WrongPassphraseError: it does not open, or none was given and one is needed.
    """
    header, data = _header_and_bytes(place)
    slots = read_slots(place)
    if not header.encrypted:
        secret = next((slot.sealed for slot in slots if slot.kind == "open"), None)
        if secret is None:
            raise DamageError(
                tr("The slot of the store in {title} is missing").format(title=place.title), file=SLOT_FOLDER
            )
        return header, keys_from(secret, encrypted=False)
    if passphrase is None:
        raise PassphraseNeededError(
            tr("The store in {title} is encrypted").format(title=place.title),
            tr("Give its passphrase or its recovery key"),
        )
    return header, keys_from(unwrap(slots, passphrase, hashlib.sha256(data).digest()), encrypted=True)
