"""Listings that wait for their chunks.

A folder's page names the chunks of its files and the pages of its sub-folders, and those are known only after
other threads have hashed them. Finished folders therefore wait in a queue, children before their parents, and
are written as soon as everything at the front is known. At most one block of small files is open at a time,
so the queue is short.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from operator import attrgetter

from good_tide.core.entries import NO_STAT, NOTHING_EXTRA, Entry, Extent, ExtentLike, Extra, Kind, Stat
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.core.pages import encode_page, paginate
from good_tide.crypto.seals import StoreKeys
from good_tide.storage.content import Part, listed_digest
from good_tide.storage.writer import Ticket, WriteSession


class LateEntry:
    """A folder, or a file above the small size: what it refers to is known only when its turn comes.

    :param parts: a file's content; its digest is made of them.
    :param child: a folder's own draft.
    :param before: the digest the file had in the last snapshot.
    """

    __slots__ = ("before", "child", "extra", "kind", "name", "parts", "stat")

    def __init__(
        self,
        name: bytes,
        kind: Kind,
        parts: Sequence[ExtentLike] = (),
        child: FolderDraft | None = None,
        stat: Stat = NO_STAT,
        extra: Extra = NOTHING_EXTRA,
        before: ContentDigest | None = None,
    ) -> None:
        self.name, self.kind, self.parts, self.child, self.stat, self.extra = (
            name,
            kind,
            parts,
            child,
            stat,
            extra,
        )
        self.before = before

    def entry(self, keys: StoreKeys) -> Entry:
        """The final entry."""
        if self.child is not None:
            return Entry(self.name, self.kind, self.stat, extents=self.child.extents(), extra=self.extra)
        return Entry(
            self.name, self.kind, self.stat, listed_digest(keys, self.parts), tuple(self.parts), self.extra
        )


class FolderDraft:
    """A folder of the snapshot being made. ``pages`` is None until its listing is written."""

    __slots__ = ("entries", "pages", "path", "tickets", "unread")

    def __init__(self, pages: tuple[ChunkId, ...] | None = None, path: bytes = b"") -> None:
        self.entries: list[LateEntry | Entry] = []
        self.tickets: set[Ticket] = set()
        self.pages, self.path = pages, path
        self.unread = 0
        """Batches of its files that are not yet taken in."""

    def add(self, entry: LateEntry | Entry) -> None:
        """Add an entry, in any order."""
        self.entries.append(entry)
        for part in entry.parts if isinstance(entry, LateEntry) else entry.extents:
            if isinstance(part, Part) and part.ticket is not None:
                self.tickets.add(part.ticket)

    def extents(self) -> tuple[Extent, ...]:
        """What the parent's entry says: one extent a page."""
        return tuple(Extent(page, 0, 0) for page in self.pages or ())

    @property
    def ready(self) -> bool:
        """Whether all its files are read and their chunks known."""
        return not self.unread and all(ticket.chunk is not None for ticket in self.tickets)


class DraftQueue:
    """Writes folders' pages in the order they were finished.

    :param note: told of each folder's path and pages.
    """

    def __init__(
        self, session: WriteSession, keys: StoreKeys, note: Callable[[bytes, Sequence[bytes]], None]
    ) -> None:
        self._session, self._keys, self._note = session, keys, note
        self._waiting: deque[FolderDraft] = deque()
        self.changed_files = 0
        """Files above the small size whose content is not that of the last snapshot."""

    def finished(self, draft: FolderDraft) -> None:
        """Take in a folder whose entries are complete, after all its sub-folders."""
        self._waiting.append(draft)
        self.drain()

    def drain(self) -> None:
        """Write what can be written."""
        while self._waiting and self._waiting[0].ready:
            self._write(self._waiting.popleft())

    def _write(self, draft: FolderDraft) -> None:
        entries = [self._final(entry) if isinstance(entry, LateEntry) else entry for entry in draft.entries]
        entries.sort(key=attrgetter("name"))
        pages = [encode_page(page) for page in paginate(entries)]
        self._note(draft.path, pages)
        draft.pages = tuple(self._session.put_page(page) for page in pages)
        draft.entries, draft.tickets = [], set()

    def _final(self, late: LateEntry) -> Entry:
        entry = late.entry(self._keys)
        self.changed_files += entry.kind is Kind.FILE and entry.digest != late.before
        return entry
