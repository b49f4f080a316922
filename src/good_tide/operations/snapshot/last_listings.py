"""The listings of the last snapshot, as far as the store has them still."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable

from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import chunk_of
from good_tide.core.pages import Page
from good_tide.operations.snapshot.sightings import Sightings, stamped_pages
from good_tide.operations.snapshot.unchanged import Was
from good_tide.storage.content import content_ids
from good_tide.storage.store import Store
from good_tide.storage.writer import WriteSession

_MOST_THERE = 1000


class LastListings:
    """Reads listings, and says what of that which they name the store has.

    :param sightings: what was seen of each folder when its listing was made.
    """

    def __init__(self, store: Store, session: WriteSession, sightings: Sightings) -> None:
        self._store, self._session, self._sightings = store, session, sightings
        self._there: set[bytes] = set()
        """Identities of chunks, some together, that the store has."""

    def pages(self, was: Was) -> list[Page]:
        """The pages of a folder's listing, without any that the store has lost: what they name is read again.
        One that is still in memory is stored again."""
        found: list[Page] = []
        for identity in was.pages:
            with contextlib.suppress(DamageError):
                found.append(self._store.page(identity))
                if not self.has_all(chunk_of(identity)):
                    self._session.put_page(self._store.read_chunk(chunk_of(identity)))
        stamps = self._sightings.stamps_of(was.path, was.pages) if len(found) == len(was.pages) else None
        return found if stamps is None else stamped_pages(found, stamps)

    def has_all(self, identities: bytes) -> bool:
        """As the store's ``has_all``. Folders side by side refer to the same few chunks; while nothing is
        damaged, those that were there a moment ago are not asked after again."""
        if self._store.damage.packs:
            return self._store.has_all(identities)
        if identities not in self._there:
            if not self._store.has_all(identities):
                return False
            if len(self._there) >= _MOST_THERE:
                self._there.clear()
            self._there.add(identities)
        return True

    def lost(self, known: Iterable[Entry]) -> set[bytes]:
        """The names of files whose content, or a part of it, the store has lost: they are read again."""
        return {
            entry.name
            for entry in known
            if entry.kind is Kind.FILE and not self._store.has_all(content_ids(entry))
        }
