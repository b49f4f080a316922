"""Passphrases that were typed while the agent runs; kept in memory only."""

from __future__ import annotations

import threading

from good_tide.core.errors import PersonError
from good_tide.core.identifiers import StoreId


class TypedPassphrases:
    """What was typed for each store, whichever job asked for it. Threads may use it at once."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._typed: dict[StoreId, str] = {}

    def keep(self, store: StoreId, passphrase: str) -> None:
        """A passphrase that opens a store."""
        with self._lock:
            self._typed[store] = passphrase

    def known(self, store: StoreId) -> str | None:
        with self._lock:
            return self._typed.get(store)

    def ask(self, where: str, hint: str | None) -> str | None:
        """Nobody is asked: the window says that the store is locked, and the person unlocks it there."""
        return None

    def unreadable(self, error: PersonError) -> None:
        """A passphrase file that cannot be read has nothing: the person is asked in the window."""
