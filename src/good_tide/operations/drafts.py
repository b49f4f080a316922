"""Listings that wait for their chunks.

A folder's page names the chunks of its files and the pages of its sub-folders, and those are known only after other
threads have hashed them. Finished folders therefore wait in a queue, children before their parents, and are written
as soon as everything at the front is known. At most one block of small files is open at a time, so the queue is short.
"""

from __future__ import annotations

from collections import deque

import msgspec

from good_tide.core.entries import NOTHING_EXTRA, NO_STAT, Entry, Extent, Extra, Kind, Stat
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.core.pages import encode_page, paginate
from good_tide.storage.content import Part, listed_digest
from good_tide.storage.writer import WriteSession
from good_tide.crypto.seals import StoreKeys


class FolderDraft:
    """A folder of the snapshot being made. ``pages`` is None until its listing is written."""

    __slots__ = ("entries", "pages")

    def __init__(self, pages: tuple[ChunkId, ...] | None = None) -> None:
        self.entries: list[EntryDraft | Entry] = []
        self.pages = pages

    def extents(self) -> tuple[Extent, ...]:
        """What the parent's entry says: one extent a page."""
        return tuple(Extent(page, 0, 0) for page in self.pages or ())


class EntryDraft(msgspec.Struct, gc=False):
    """An entry whose content is on its way. ``digest`` None: made of the parts when they are known."""

    name: bytes
    kind: Kind
    stat: Stat = NO_STAT
    digest: ContentDigest | None = ContentDigest(b"")
    parts: list[Part] = []
    child: FolderDraft | None = None
    extra: Extra = NOTHING_EXTRA

    @property
    def ready(self) -> bool:
        """Whether everything it refers to is known."""
        if self.child is not None:
            return self.child.pages is not None
        return all(part.ticket is None or part.ticket.chunk is not None for part in self.parts)

    def entry(self, keys: StoreKeys) -> Entry:
        """The final entry."""
        extents = self.child.extents() if self.child is not None else tuple([part.extent() for part in self.parts])
        digest = listed_digest(keys, extents) if self.digest is None else self.digest
        return Entry(self.name, self.kind, self.stat, digest, extents, self.extra)


class DraftQueue:
    """Writes folders' pages in the order they were finished."""

    def __init__(self, session: WriteSession, keys: StoreKeys) -> None:
        self._session, self._keys = session, keys
        self._waiting: deque[FolderDraft] = deque()

    def finished(self, draft: FolderDraft) -> None:
        """Take in a folder whose entries are complete, after all its sub-folders."""
        draft.entries.sort(key=lambda entry: entry.name)
        self._waiting.append(draft)
        self.drain()

    def drain(self) -> None:
        """Write what can be written."""
        while self._waiting and all(entry.ready for entry in self._waiting[0].entries if isinstance(entry, EntryDraft)):
            self._write(self._waiting.popleft())

    def _write(self, draft: FolderDraft) -> None:
        entries = [self.final(entry) for entry in draft.entries]
        draft.pages = tuple(self._session.put_page(encode_page(page)) for page in paginate(entries))
        draft.entries = []

    def final(self, entry: EntryDraft | Entry) -> Entry:
        """An entry whose parts are all known."""
        return entry.entry(self._keys) if isinstance(entry, EntryDraft) else entry
