"""Who may read a store, and how that is changed (``storage.keyslots``)."""

from __future__ import annotations

from pathlib import Path

from good_tide.storage import keyslots
from good_tide.storage.keyslots import SlotFacts
from good_tide.storage.place import LocalPlace
from good_tide.storage.store import Store

__all__ = ["SlotFacts", "add_passphrase", "add_recovery", "change_passphrase", "list_slots", "revoke"]


def list_slots(folder: Path) -> list[SlotFacts]:
    """The ways to open the store in a directory; no passphrase is needed."""
    return keyslots.list_slots(LocalPlace(folder))


def change_passphrase(store: Store, old: str, new: str, hint: str = "") -> None:
    """Put a new passphrase in place of the old one."""
    keyslots.change_passphrase(store.place, store.keys, old, new, hint)


def add_passphrase(store: Store, new: str, hint: str = "") -> None:
    """Add a further passphrase."""
    keyslots.add_passphrase(store.place, store.keys, new, hint)


def add_recovery(store: Store) -> str:
    """Add a recovery key and return it."""
    return keyslots.add_recovery(store.place, store.keys)


def revoke(store: Store, number: int) -> SlotFacts:
    """Remove a way to open the store; at least one stays."""
    return keyslots.revoke(store.place, number)
