"""Key slots: the store's secrets, wrapped so that a passphrase or a recovery key opens them."""

from __future__ import annotations

import hashlib
import secrets
import unicodedata
from typing import Literal

import msgspec
from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.argon2 import Argon2id

from good_tide.core.errors import DamageError, WrongPassphraseError
from good_tide.core.translation import tr
from good_tide.crypto.seals import SECRET_BYTES, StoreKeys, derive

_ALPHABET = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
"""Base 32 without I, L, O and U, which are read as 1, 1, 0 and V when somebody types them."""

_LEAST_SALT = 8
"""Bytes of salt that Argon2id needs."""
_RECOVERY_DIGITS = 36
"""33 digits of 5 random bits (165 bits) and 3 check digits, in six groups of six."""


class Cost(msgspec.Struct, frozen=True):
    """Cost of Argon2id: memory in KiB, passes over it, lanes."""

    memory_kib: int = 64 * 1024
    passes: int = 3
    lanes: int = 2

    @property
    def work(self) -> int:
        """Memory in KiB times passes; four million take about four seconds of one processor."""
        return self.memory_kib * self.passes

    @property
    def bearable(self) -> bool:
        """Whether it makes sense, and takes no more memory and time than any slot may."""
        return (
            8 * self.lanes <= self.memory_kib <= _MOST_KIB
            and 1 <= self.lanes <= _MOST_LANES
            and 0 < self.work <= _MOST_WORK
        )


STRONG = Cost()
_MOST_KIB, _MOST_LANES = 1024 * 1024, 16
_MOST_WORK, _MOST_TOGETHER = 4 * _MOST_KIB, 12 * _MOST_KIB
"""``Cost.work`` of one slot, and of all that are tried, the cheapest first."""


class Slot(msgspec.Struct, frozen=True, kw_only=True):
    """One way to open a store, as stored in ``keys/``. ``kind`` open: ``sealed`` holds the secrets as they
    are."""

    kind: Literal["passphrase", "recovery", "open"]
    sealed: bytes
    salt: bytes = b""
    cost: Cost = STRONG
    hint: str = ""


def new_secrets(identity: bytes | None = None) -> bytes:
    """Fresh random secrets for a store: 32 bytes to seal with, 32 bytes for identities, unless those are
    given."""
    return secrets.token_bytes(SECRET_BYTES) + (identity or secrets.token_bytes(SECRET_BYTES))


def keys_from(secret: bytes, encrypted: bool) -> StoreKeys:
    """The keys made of a store's unwrapped secrets.

    Raises:
        DamageError: they have another length than secrets have.
    """
    if len(secret) != 2 * SECRET_BYTES:
        raise DamageError(
            tr("The secrets in a key slot have an impossible length"),
            tr("Bring the store's folder keys back from a copy"),
        )
    return StoreKeys(secret[:SECRET_BYTES], secret[SECRET_BYTES:], encrypted)


def wrap(
    kind: Literal["passphrase", "recovery"],
    words: str,
    secret: bytes,
    binding: bytes,
    cost: Cost,
    hint: str = "",
) -> Slot:
    """A slot that opens with ``words``. ``binding`` ties it to the store's header, so that neither can be
    exchanged."""
    salt = secrets.token_bytes(16)
    key = _stretch(words, salt, cost)
    return Slot(
        kind=kind, sealed=AESGCM(key).encrypt(bytes(12), secret, binding), salt=salt, cost=cost, hint=hint
    )


def open_slot(secret: bytes) -> Slot:
    """The slot of a store without encryption."""
    return Slot(kind="open", sealed=secret)


def unwrap(slots: list[Slot], words: str, binding: bytes) -> bytes:
    """The store's secrets, by the first slot that opens with ``words``.

    Raises:
        WrongPassphraseError: none does.
        DamageError: a slot asks for more memory or time than any slot may.
    """
    recovery, refused, work = parse_recovery_key(words), False, 0
    for slot in sorted(slots, key=lambda one: one.cost.work):
        typed = recovery if slot.kind == "recovery" else words
        if slot.kind == "open" or typed is None:
            continue
        work += slot.cost.work
        if not slot.cost.bearable or len(slot.salt) < _LEAST_SALT or work > _MOST_TOGETHER:
            refused = True
            continue
        try:
            return AESGCM(_stretch(typed, slot.salt, slot.cost)).decrypt(bytes(12), slot.sealed, binding)
        except InvalidTag:
            continue
    if refused:
        raise DamageError(
            tr(
                "A key slot asks for more memory or time than any slot may, and no other opens with this"
                " passphrase"
            ),
            tr(
                "Bring the store's folder keys back from a copy, or use another passphrase or the"
                " recovery key"
            ),
        )
    raise WrongPassphraseError(
        tr("The passphrase does not open this store"),
        tr("Check capitals and keyboard layout, look at the hint, or use the recovery key"),
    )


def new_recovery_key() -> str:
    """A random recovery key as a person writes it down: six groups of six characters."""
    digits = "".join(secrets.choice(_ALPHABET) for _ in range(_RECOVERY_DIGITS - 3))
    whole = digits + _check_digits(digits)
    return "-".join(whole[at : at + 6] for at in range(0, _RECOVERY_DIGITS, 6))


def parse_recovery_key(typed: str) -> str | None:
    """The digits of a recovery key however it was typed (case, spaces, dashes, confused letters), or None if
    it is none."""
    digits = "".join(character for character in typed.upper() if character.isalnum())
    digits = digits.translate(str.maketrans("ILOU", "110V"))
    if len(digits) != _RECOVERY_DIGITS or set(digits) - set(_ALPHABET):
        return None
    return digits if digits.endswith(_check_digits(digits[:-3])) else None


def _check_digits(digits: str) -> str:
    value = int.from_bytes(hashlib.sha256(digits.encode()).digest()[:2], "big")
    return "".join(_ALPHABET[value >> shift & 31] for shift in (10, 5, 0))


def _stretch(words: str, salt: bytes, cost: Cost) -> bytes:
    if not cost.bearable:
        raise DamageError(tr("A key slot asks for more memory or time than any slot may"))
    material = unicodedata.normalize("NFC", words).encode()
    stretched = Argon2id(
        salt=salt, length=SECRET_BYTES, iterations=cost.passes, lanes=cost.lanes, memory_cost=cost.memory_kib
    ).derive(material)
    return derive(stretched, b"slot")


def slot_hint(slots: list[Slot]) -> str:
    """The hint of the passphrase slot, empty without one."""
    return next((slot.hint for slot in slots if slot.kind == "passphrase"), "")
