"""Listings that wait for their chunks.

A folder's page names the chunks of its files and the pages of its sub-folders, and those are known only after
other threads have hashed them. Finished folders therefore wait in a queue, children before their parents, and
are written as soon as everything at the front is known. At most one block of small files is open at a time,
so the queue is short.
"""

from __future__ import annotations

import abc
from collections import Counter, deque
from collections.abc import Callable, Iterable, Sequence
from operator import attrgetter
from typing import NamedTuple

from good_tide.core.entries import (
    NO_STAT,
    NOTHING_EXTRA,
    Entry,
    Extent,
    ExtentLike,
    Extra,
    Kind,
    Stat,
    page_extents,
)
from good_tide.core.identifiers import ChunkId, ContentDigest, PageId, chunk_of, page_id
from good_tide.core.pages import Page, encode_page, paginate
from good_tide.operations.snapshot.sightings import NO_STAMPS, packed_stamps
from good_tide.storage.blocks import nearest_first
from good_tide.storage.content import Part
from good_tide.storage.writer import Ticket, WriteSession

_JOINED_BYTES = 512 * 1024
"""Listings of so many bytes are joined into a chunk."""
_MOST_HELD_ENTRIES = 50_000
"""Folders with so many entries wait at most, as they are in memory."""


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
    """A folder of the snapshot being made. ``pages`` is None until its listing is written.

    :param size: about how many entries it will have.
    """

    __slots__ = ("before", "entries", "look", "near", "pages", "path", "size", "stamps", "tickets", "unread")

    def __init__(self, pages: tuple[PageId, ...] | None = None, path: bytes = b"", size: int = 0) -> None:
        self.size = size
        self.entries: list[LateEntry | Entry] = []
        self.tickets: set[Ticket] = set()
        self.before: tuple[bytes, PageId] | None = None
        """The listing in the last snapshot, if it is of one page: its bytes, and where they lie."""
        self.near: tuple[ChunkId, ...] = ()
        """The chunks in which its listing lay in the last snapshot."""
        self.pages, self.path = pages, path
        self.look = b""
        """What the folder looked like, as ``sightings.packed_look``."""
        self.stamps = NO_STAMPS
        """As ``sightings.packed_stamps``, once its entries are final."""
        self.unread = 0
        """Batches of its files that are not yet taken in."""

    def add(self, entry: LateEntry | Entry) -> None:
        """Add an entry, in any order."""
        self.entries.append(entry)
        self.refers_to(entry.parts if isinstance(entry, LateEntry) else entry.extents)

    def refers_to(self, parts: Iterable[ExtentLike]) -> None:
        """Wait until the chunks of these are known."""
        for part in parts:
            if isinstance(part, Part) and part.ticket is not None:
                self.tickets.add(part.ticket)

    def extents(self) -> tuple[Extent, ...]:
        """What the parent's entry says: one extent a page."""
        return page_extents(self.pages or ())

    @property
    def waits(self) -> bool:
        """Whether the listing of a folder inside is not written yet."""
        return any(isinstance(one, LateFolder) and one.child.pages is None for one in self.entries)

    def listing(self, final: Callable[[LateEntry], Entry]) -> list[bytes]:
        """The pages of its listing, when all that they refer to is known; what they were made of is no longer
        kept.

        :param final: gives the entry of a late one.
        """
        entries = [final(entry) if isinstance(entry, LateEntry) else entry for entry in self.entries]
        entries.sort(key=attrgetter("name"))
        self.stamps = packed_stamps(
            [number for entry in entries for number in (entry.stat.changed, entry.stat.inode)]
        )
        if any(not entry.stat.changed or entry.extra.unsteady for entry in entries):
            self.look = b""
        self.entries, self.tickets = [], set()
        return [encode_page(page, stamped=False) for page in paginate(entries)]

    @property
    def ready(self) -> bool:
        """Whether all its files are read and their chunks known."""
        return not self.unread and all(ticket.chunk is not None for ticket in self.tickets)


def draft_after(
    path: bytes, size: int, pages: Sequence[Page], before: Sequence[PageId], look: bytes = b""
) -> FolderDraft:
    """The draft of a folder of which an earlier snapshot has a listing.

    :param size: about how many entries it will have. :param pages: those of the listing that can be read, and
        ``before``: the identities of all.
    """
    draft = FolderDraft(path=path, size=size)
    draft.look = look
    draft.near = tuple(dict.fromkeys(map(chunk_of, before)))
    if len(pages) == len(before) == 1:
        draft.before = pages[0].data, before[0]
    return draft


class DraftQueue:
    """Writes folders' pages in the order they were finished.

    Listings of one page are joined into chunks. As a folder names the chunk that the listings inside it lie
    in, it waits until that is written.

    :param note: told of each folder's path, pages and stamps.
    :param listed: told of each folder whose listing was handed to the store.
    :param joins: whether the store's format knows listings that share a chunk.
    """

    def __init__(
        self,
        session: WriteSession,
        note: Callable[[bytes, Sequence[bytes], bytes], None],
        listed: Callable[[FolderDraft], None],
        joins: bool,
    ) -> None:
        self._session, self._note, self._listed, self._joins = session, note, listed, joins
        self._waiting: deque[FolderDraft] = deque()
        self.waiting_entries = 0
        """Entries of folders that wait for what their files lie in."""
        self._held: list[FolderDraft] = []
        """Ready folders with one inside whose listing is not written yet."""
        self._held_entries = 0
        self._joined: list[tuple[FolderDraft, bytes]] = []
        self._joined_bytes = 0
        self.changed_files = 0
        """Files above the small size whose content is not that of the last snapshot."""

    def finished(self, draft: FolderDraft) -> None:
        """Take in a folder whose entries are complete, after all its sub-folders."""
        self._waiting.append(draft)
        self.waiting_entries += draft.size
        self.drain()

    def drain(self) -> None:
        """Write what can be written."""
        while self._waiting and self._waiting[0].ready:
            draft = self._waiting.popleft()
            self.waiting_entries -= draft.size
            self._take(draft)

    def finish(self) -> None:
        """Write everything, when all chunks are known."""
        self.drain()
        while self._joined:
            self._write_joined()

    def _take(self, draft: FolderDraft) -> None:
        if not draft.waits:
            self._write(draft)
            return
        self._held.append(draft)
        self._held_entries += draft.size
        if self._held_entries > _MOST_HELD_ENTRIES:
            self._write_joined()

    def _write(self, draft: FolderDraft) -> None:
        pages = draft.listing(self._final)
        self._note(draft.path, pages, draft.stamps)
        before, draft.before = draft.before, None
        if len(pages) > 1 or not self._joins:
            # Of a long listing most pages are those of the last one, which the store knows by their content.
            draft.pages = tuple(
                PageId(self._session.put_page(page, draft.near[at : at + 1] or draft.near[-1:]))
                for at, page in enumerate(pages)
            )
            self._listed(draft)
        elif before is not None and pages[0] == before[0]:
            draft.pages = (before[1],)
            self._listed(draft)
        else:
            self._joined.append((draft, pages[0]))
            self._joined_bytes += len(pages[0])
            if self._joined_bytes >= _JOINED_BYTES:
                self._write_joined()

    def _write_joined(self) -> None:
        """Write the listings that were collected, and what waited for them."""
        joined, self._joined, self._joined_bytes = self._joined, [], 0
        if not joined:
            return
        near: Counter[ChunkId] = Counter()
        for draft, page in joined:
            for one in draft.near:
                near[one] += len(page)
        chunk = self._session.put_page(b"".join(page for _, page in joined), nearest_first(near))
        at = 0
        for draft, page in joined:
            draft.pages = (page_id(chunk, at, len(page)),)
            self._listed(draft)
            at += len(page)
        held, self._held, self._held_entries = self._held, [], 0
        for draft in held:
            self._take(draft)

    def _final(self, late: LateEntry) -> Entry:
        self.changed_files += isinstance(late, LateFile) and late.is_changed
        return late.entry()
