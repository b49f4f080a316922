"""Listings that wait for their chunks.

A folder's page names the chunks of its files and the pages of its sub-folders, and those are known only after
other threads have hashed them. Finished folders therefore wait in a queue, children before their parents, and
are written as soon as everything at the front is known. At most one block of small files is open at a time,
so the queue is short.
"""

from __future__ import annotations

import abc
from collections import deque
from collections.abc import Callable, Sequence
from operator import attrgetter
from typing import NamedTuple

from good_tide.core.entries import NO_STAT, NOTHING_EXTRA, Entry, Extent, ExtentLike, Extra, Kind, Stat
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.core.pages import encode_page, paginate
from good_tide.storage.content import Part
from good_tide.storage.writer import Ticket, WriteSession


class LateEntry:
    """A folder, or a file above the small size: what it refers to is known only when its turn comes."""

    __slots__ = ("extra", "name", "stat")

    def __init__(self, name: bytes, stat: Stat, extra: Extra) -> None:
        self.name, self.stat, self.extra = name, stat, extra

    @property
    def parts(self) -> Sequence[ExtentLike]:
        """What a file lies in."""
        return ()

    @abc.abstractmethod
    def entry(self) -> Entry:
        """The final entry."""


class LateFolder(LateEntry):
    """A folder.

    :param child: its own draft.
    """

    __slots__ = ("child",)

    def __init__(
        self, name: bytes, child: FolderDraft, stat: Stat = NO_STAT, extra: Extra = NOTHING_EXTRA
    ) -> None:
        super().__init__(name, stat, extra)
        self.child = child

    def entry(self) -> Entry:
        return Entry(self.name, Kind.FOLDER, self.stat, extents=self.child.extents(), extra=self.extra)


class LateContent(NamedTuple):
    """The content of a file above the small size: what it lies in, its digest, and the entry that the file
    has in the last snapshot."""

    parts: Sequence[ExtentLike]
    digest: ContentDigest
    before: Entry | None


class LateFile(LateEntry):
    """A file above the small size."""

    __slots__ = ("content",)

    def __init__(self, name: bytes, content: LateContent, stat: Stat, extra: Extra) -> None:
        super().__init__(name, stat, extra)
        self.content = content

    @property
    def parts(self) -> Sequence[ExtentLike]:
        return self.content.parts

    def entry(self) -> Entry:
        parts, digest, before = self.content
        if before is not None and _where(before.extents) == _where(parts):
            # Files of earlier versions have a digest of another kind, which stays as long as the content
            # does.
            digest = before.digest
        return Entry(self.name, Kind.FILE, self.stat, digest, tuple(parts), self.extra)

    @property
    def is_changed(self) -> bool:
        """Whether its content is not that of the last snapshot."""
        before = self.content.before
        return before is None or self.entry().digest != before.digest


def _where(extents: Sequence[ExtentLike]) -> list[tuple[ChunkId | None, int, int]]:
    return [(one.chunk, one.offset, one.length) for one in extents]


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

    def __init__(self, session: WriteSession, note: Callable[[bytes, Sequence[bytes]], None]) -> None:
        self._session, self._note = session, note
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
        self.changed_files += isinstance(late, LateFile) and late.is_changed
        return late.entry()
