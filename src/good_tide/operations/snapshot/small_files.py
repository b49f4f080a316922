"""Small files on their way into a snapshot: read in batches, known contents recognised, the others joined
into blocks."""

from __future__ import annotations

import contextlib
import time
from collections import deque
from collections.abc import Callable, Sequence
from types import TracebackType
from typing import NamedTuple, Self

from good_tide.core.clock import SECOND
from good_tide.core.entries import NOTHING_EXTRA, Entry, Extent, ExtentLike, Extra, Kind, Stat
from good_tide.core.errors import DamageError, NotInPlaceError
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.operations.snapshot.known_contents import KnownContents, PageContents
from good_tide.operations.snapshot.listing_drafts import FolderDraft, LateEntry
from good_tide.operations.snapshot.read_ahead import Batch, ReadAhead
from good_tide.source.folders import Found, stat_of
from good_tide.storage.blocks import NOTHING_NEAR, BlockBuilder
from good_tide.storage.content import SMALL_FILE_BYTES, content_ids
from good_tide.storage.fine import earlier_version, small_in_pieces
from good_tide.storage.store import Store
from good_tide.storage.writer import WriteSession

_BATCH_BYTES = 4 * 1024 * 1024
_BATCH_FILES = 1000
_AHEAD_BYTES = 32 * 1024 * 1024
_AHEAD_BATCHES = 24
"""Each batch holds a directory handle open."""

UNTRUSTED_NS = 2 * SECOND
"""A file changed more recently than this when it is read could change again without its change time showing
it (exFAT keeps two seconds, ext4 a few milliseconds); it is read again by the next run."""

StoredSmall = Callable[[ContentDigest], Extent | None]
"""Where a small file with some content lies in the store already, if the local catalog knows."""


class Before(NamedTuple):
    """What the last snapshot has of a file: its entry, and that of the file whose content it may share; the
    same where there is one."""

    own: Entry | None
    like: Entry | None


NOTHING_BEFORE = Before(None, None)

Fresh = tuple[Found, Before]
"""A small file to be read, and what the last snapshot has of it."""


class _Pending(NamedTuple):
    batch: Batch
    files: Sequence[Fresh]
    path: bytes
    draft: FolderDraft
    begun: int


class SmallFiles:
    """All small files of one run. A context manager.

    :param careful: reads one file that was not as its folder's listing showed it: the file, its folder's path
        and handle, and what the last snapshot has of it.
    """

    def __init__(
        self,
        store: Store,
        session: WriteSession,
        stored: StoredSmall | None,
        careful: Callable[[Found, bytes, int, Before], LateEntry | Entry],
    ) -> None:
        self._store, self._stored, self._careful = store, stored, careful
        self._reader = ReadAhead(store.keys)
        self._blocks = BlockBuilder(session)
        self._known = KnownContents()
        self._pending: deque[_Pending] = deque()
        self._ahead = 0
        self.files = self.bytes = self.changed = 0
        """What was taken in: files, their bytes, and those with other content than in the last snapshot."""

    def read(self, draft: FolderDraft, path: bytes, folder: int, files: Sequence[Fresh]) -> None:
        """Have small files of an open folder read; their entries are added to ``draft``, now or later."""
        begin = size = 0
        for at, (item, _) in enumerate(files):
            size += item.info.st_size
            if size >= _BATCH_BYTES or at + 1 - begin >= _BATCH_FILES:
                self._read(draft, path, folder, files[begin : at + 1])
                begin, size = at + 1, 0
        if begin < len(files):
            self._read(draft, path, folder, files[begin:])

    def _read(self, draft: FolderDraft, path: bytes, folder: int, files: Sequence[Fresh]) -> None:
        begun = time.time_ns()
        expected = [
            (item.name, item.info.st_size, item.info.st_mtime_ns, item.info.st_ctime_ns, item.info.st_ino)
            for item, _ in files
        ]
        batch = self._reader.read(folder, expected)
        draft.unread += 1
        self._ahead += batch.bytes
        self._pending.append(_Pending(batch, files, path, draft, begun))
        while self._pending and (
            self._pending[0].batch.done or self._ahead > _AHEAD_BYTES or len(self._pending) > _AHEAD_BATCHES
        ):
            self._take_in(self._pending.popleft())

    def take_new(
        self, digests: Sequence[bytes], contents: Sequence[bytes], pages: Sequence[int]
    ) -> list[PageContents]:
        """What the contents of new files lie in, by their digests, page by page. What was asked for before
        comes first: equal files in equal order make equal blocks.

        :param pages: how many of them each page has.
        """
        self._take_in_all()
        new = self._known.new(digests)
        if self._stored is not None:
            new = [at for at in new if not self._was_stored(ContentDigest(digests[at]), contents[at])]
        if len(new) < len(digests):
            mine, own = [digests[at] for at in new], [contents[at] for at in new]
        else:
            mine, own = list(digests), list(contents)
        if mine:
            self._known.note_laid(mine, own, self._blocks.add_all(own, mine))
        return self._known.of_pages(digests, pages)

    def _was_stored(self, digest: ContentDigest, content: bytes) -> bool:
        """Whether a content is in the store, which is kept then."""
        stored = self._stored_extent(digest, content)
        if stored is not None:
            self._known.note(digest, (stored,))
        return stored is not None

    def count_new(self, files: int, size: int) -> None:
        """So many new files are in, of ``size`` bytes."""
        self.files += files
        self.changed += files
        self.bytes += size

    def _take_in_all(self) -> None:
        while self._pending:
            self._take_in(self._pending.popleft())

    def flush(self) -> None:
        """End the block that is open."""
        self._blocks.flush()

    def finish(self) -> None:
        """Take in everything that was asked for, and end the last block."""
        self._take_in_all()
        self._blocks.flush()

    def _take_in(self, pending: _Pending) -> None:
        batch, files, path, draft, begun = pending
        try:
            found = batch.result(self._store.keys)
            trusted_before = begun - UNTRUSTED_NS
            attributes = found.attributes
            for at, ((item, before), content, digest) in enumerate(
                zip(files, found.contents, found.digests, strict=True)
            ):
                if content is None:
                    draft.add(self._careful(item, path, batch.folder, before))
                    continue
                stat = stat_of(item.info, item.info.st_ctime_ns < trusted_before)
                extra = Extra(attributes=attributes[at]) if at in attributes else NOTHING_EXTRA
                draft.add(self.entry(item.name, content, ContentDigest(digest), stat, extra, before))
                self.files += 1
                self.bytes += stat.size
        finally:
            batch.close()
            self._ahead -= batch.bytes
        draft.unread -= 1

    def entry(
        self,
        name: bytes,
        content: bytes,
        digest: ContentDigest,
        stat: Stat,
        extra: Extra,
        before: Before,
    ) -> Entry:
        """The entry of a small file that was read, its content handed in unless the store has it."""
        own, like = before
        self.changed += own is None or own.digest != digest
        for one in before:
            if one is not None and one.digest == digest and self._store.has_all(content_ids(one)):
                return Entry(name, Kind.FILE, stat, digest, one.extents, extra)
        if not content:
            return Entry(name, Kind.FILE, stat, digest, (), extra)
        parts = self._known.get(digest)
        if parts is None:
            parts = self._parts(digest, content, like)
            self._known.note(digest, parts)
        return Entry(name, Kind.FILE, stat, digest, parts, extra)

    def _parts(self, digest: ContentDigest, content: bytes, like: Entry | None) -> tuple[ExtentLike, ...]:
        """What a content lies in that was not seen before in this run."""
        stored = self._stored_extent(digest, content)
        if stored is not None:
            return (stored,)
        earlier = earlier_version(self._store, like)
        pieces = small_in_pieces(earlier, content, self._blocks) if earlier is not None else None
        if pieces is not None:
            return tuple(pieces)
        near = earlier.near(0, len(content)) if earlier is not None else NOTHING_NEAR
        return (self._blocks.add(content, digest, near),)

    def _stored_extent(self, digest: ContentDigest, content: bytes) -> Extent | None:
        """Where the catalog says that this content lies, if it does."""
        extent = self._stored(digest) if self._stored is not None else None
        if (
            extent is None
            or extent.chunk is None
            or extent.length != len(content)
            or not self._store.has(extent.chunk)
        ):
            return None
        return extent if self._holds(extent, extent.chunk, content) else None

    def _holds(self, extent: Extent, chunk: ChunkId, content: bytes) -> bool:
        """Whether a content really lies there. The catalog is a cache on this machine's disk: were it
        believed, a flipped bit in it would put other bytes into a snapshot. What lies on a disk that is away
        cannot be looked at."""
        if chunk not in self._store.index:
            return True
        with contextlib.suppress(DamageError, NotInPlaceError):
            return self._store.read_chunk(chunk)[extent.offset : extent.offset + extent.length] == content
        return False

    def __enter__(self) -> Self:
        self._reader.__enter__()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for pending in self._pending:
            pending.batch.close()
        self._reader.__exit__(kind, error, trace)


def is_small(item: Found) -> bool:
    """Whether a file can be read in a batch: small, and without further links that could stand for it."""
    return item.kind is Kind.FILE and item.info.st_size <= SMALL_FILE_BYTES and item.info.st_nlink == 1


def are_small(files: Sequence[Found]) -> bool:
    """As ``is_small``, of all of some files."""
    return not files or (
        max([info.st_size for _, _, _, info in files]) <= SMALL_FILE_BYTES
        and max([info.st_nlink for _, _, _, info in files]) == 1
    )
