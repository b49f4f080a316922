"""Who may read a store, and how that is changed (``storage.keyslots``): each change is noted."""

from __future__ import annotations

from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.stores.opening import Store
from good_tide.operations.stores.users import job_using
from good_tide.storage import keyslots
from good_tide.storage.keyslots import SlotFacts
from good_tide.storage.place import StorePlace

__all__ = ["SlotFacts", "add_passphrase", "add_recovery_key", "change_passphrase", "list_slots", "revoke"]


def list_slots(where: StorePlace) -> list[SlotFacts]:
    """The ways to open the store in a place; no passphrase is needed."""
    return keyslots.list_slots(where.files())


def change_passphrase(context: Context, store: Store, old: str, new: str, hint: str = "") -> str:
    """Put a new passphrase in place of the old one. Returns what became of it, in words.

    Raises:
        GoodTideError: the old one does not open it, or the new one cannot be used.
    """
    keyslots.change_passphrase(store.place, store.keys, old, new, hint)
    return _noted(context, store, tr("The passphrase was changed; the old one no longer opens the store"))


def add_passphrase(context: Context, store: Store, new: str, hint: str = "") -> str:
    """Add a further passphrase. Returns what became of it, in words.

    Raises:
        GoodTideError: it cannot be used.
    """
    keyslots.add_passphrase(store.place, store.keys, new, hint)
    return _noted(context, store, tr("A further passphrase was added"))


def add_recovery_key(context: Context, store: Store) -> tuple[str, str]:
    """Add a recovery key. Returns it, and what became of it in words."""
    key = keyslots.add_recovery(store.place, store.keys)
    return key, _noted(context, store, tr("A new recovery key was made"))


def revoke(context: Context, store: Store, number: int) -> str:
    """Remove a way to open the store; at least one stays. Returns what became of it, in words.

    Raises:
        PersonError: there is none of that number, or it is the last.
    """
    gone = keyslots.revoke(store.place, number)
    kind = tr("recovery key") if gone.kind == "recovery" else "passphrase"
    return _noted(
        context,
        store,
        tr("The {kind} number {number} no longer opens the store").format(kind=kind, number=gone.number),
    )


def _noted(context: Context, store: Store, words: str) -> str:
    context.journal.add("note", job_using(context, store), f"{words}: {store.place.title}")
    return words
