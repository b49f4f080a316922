"""Key slots of an existing store: who can open it, and how that is changed. No data is rewritten."""

from __future__ import annotations

import secrets
from typing import Literal

import msgspec

from good_tide.core.errors import PersonError, WrongPassphraseError
from good_tide.core.passphrases import check_passphrase
from good_tide.core.translation import tr
from good_tide.crypto.seals import StoreKeys
from good_tide.crypto.slots import STRONG, Cost, new_recovery_key, parse_recovery_key, unwrap, wrap
from good_tide.storage.header import (
    SLOT_FOLDER,
    header_binding,
    named_slots,
    with_copies,
    write_slot,
)
from good_tide.storage.place import Place


class SlotFacts(msgspec.Struct, frozen=True):
    """One way to open a store. ``number`` counts from 1 in the order shown; ``name`` is its file's."""

    number: int
    name: str
    kind: Literal["passphrase", "recovery", "open"]
    hint: str


def list_slots(place: Place) -> list[SlotFacts]:
    """The ways to open a store."""
    slots = sorted(named_slots(place).items(), key=lambda item: (item[1].kind, item[0]))
    return [SlotFacts(number, name, slot.kind, slot.hint) for number, (name, slot) in enumerate(slots, 1)]


def change_passphrase(
    place: Place, keys: StoreKeys, old: str, new: str, hint: str = "", cost: Cost = STRONG
) -> None:
    """Put a new passphrase in place of the one given. Given the recovery key, it replaces every passphrase.

    The new slot is durable before an old one goes; the old words open nothing afterwards.

    Raises:
        WrongPassphraseError: ``old`` opens no slot.
        PersonError: the new one cannot be used.
    """
    secret = _secret(keys)
    check_passphrase(new, hint)
    binding = header_binding(place)
    slots = named_slots(place)
    replaced = [name for name, slot in slots.items() if slot.kind == "passphrase"]
    if parse_recovery_key(old) is None:
        replaced = [name for name in replaced if _opens(place, name, old)]
        if not replaced:
            raise WrongPassphraseError(
                tr("The old passphrase does not open this store"),
                tr("Type it again, or give the recovery key"),
            )
    write_slot(with_copies(place), wrap("passphrase", new, secret, binding, cost, hint), binding)
    for name in replaced:
        with_copies(place).remove(f"{SLOT_FOLDER}/{name}.json")


def _opens(place: Place, name: str, words: str) -> bool:
    try:
        unwrap([named_slots(place)[name]], words, header_binding(place))
    except WrongPassphraseError:
        return False
    return True


def add_passphrase(place: Place, keys: StoreKeys, new: str, hint: str = "", cost: Cost = STRONG) -> None:
    """Add a further passphrase."""
    check_passphrase(new, hint)
    binding = header_binding(place)
    write_slot(with_copies(place), wrap("passphrase", new, _secret(keys), binding, cost, hint), binding)


def add_recovery(place: Place, keys: StoreKeys, cost: Cost = STRONG) -> str:
    """Add a recovery key and return it; those there were still open the store until they are revoked."""
    key = new_recovery_key()
    digits = parse_recovery_key(key)
    assert digits is not None
    binding = header_binding(place)
    write_slot(with_copies(place), wrap("recovery", digits, _secret(keys), binding, cost), binding)
    return key


def revoke(place: Place, number: int) -> SlotFacts:
    """Remove a way to open the store; at least one stays.

    Raises:
        PersonError: there is no such slot, or it is the last, or the last passphrase.
    """
    slots = list_slots(place)
    slot = next((one for one in slots if one.number == number), None)
    if slot is None:
        raise PersonError(
            tr("There is no slot {number}").format(number=number),
            tr("This store has {slots}; see “store slots”").format(slots=len(slots)),
        )
    if len(slots) == 1:
        raise PersonError(
            tr("This is the only way to open the store"), tr("Add a passphrase or a recovery key first")
        )
    if slot.kind == "passphrase" and all(one.kind != "passphrase" or one is slot for one in slots):
        raise PersonError(
            tr("This is the only passphrase of the store: the jobs that use it could not open it any more"),
            tr("Change the passphrase instead, with “good-tide store passphrase”"),
        )
    with_copies(place).remove(f"{SLOT_FOLDER}/{slot.name}.json")
    return slot


def _secret(keys: StoreKeys) -> bytes:
    if not keys.encrypted:
        raise PersonError(
            tr("This store is not encrypted, so it has no passphrase"),
            tr("Make an encrypted store and carry the snapshots over"),
        )
    return keys.secret + keys.identity


def share_identities(one: StoreKeys, other: StoreKeys) -> bool:
    """Whether two stores share the identities of their chunks."""
    return secrets.compare_digest(one.identity, other.identity)
