"""Taking in files."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable
from types import TracebackType
from typing import Self

import msgspec

from good_tide.core.entries import NOTHING_EXTRA, Entry, Extra, Kind, Stat
from good_tide.core.identifiers import ContentDigest
from good_tide.core.translation import tr
from good_tide.operations.snapshot.listing_drafts import DraftQueue, LateContent, LateFile
from good_tide.operations.snapshot.resume_log import PiecesNote
from good_tide.operations.snapshot.run_memory import RunMemory
from good_tide.operations.snapshot.run_notes import RunNotes
from good_tide.operations.snapshot.small_files import UNTRUSTED_NS, Before, SmallFiles
from good_tide.source.databases import in_one_state
from good_tide.source.folders import (
    Found,
    data_segments,
    extra_of,
    open_file,
    read_attributes,
    reason_of,
    same_state,
    stat_of,
)
from good_tide.storage.blocks import BlockBuilder
from good_tide.storage.chunker import Chunker
from good_tide.storage.content import (
    SMALL_FILE_BYTES,
    FileStreamer,
    Part,
    Sink,
    WholeChunks,
    lies_in_pieces,
    small_digest,
)
from good_tide.storage.fine import ChangedFile, earlier_version
from good_tide.storage.store import Store
from good_tide.storage.writer import Ticket, WriteSession

_NO_DIGEST = ContentDigest(b"")
_TRIES = 3
"""How often a file that changes while it is read is read."""
_PIECES_BYTES = 64 * 1024
"""Pieces of large files that changed a little are joined into blocks of so many bytes: small ones, as a
version after many changes lies in many of them."""
_LONG_FILE_BYTES = 32 * 1024 * 1024
"""Of larger files the pieces are noted as they are read, so that a run that is cut off goes on in the middle
of one."""


_Read = tuple[bytes | None, list[Part], ContentDigest]
"""The bytes of a small file; or None, and the parts and the digest of a larger one."""


class FileTaking:
    """Takes in files one by one: those that are not small, changed while they were read, or have several
    names. A context manager.

    :param session: takes the chunks.
    :param small: takes the content of small files.
    :param queue: written out as files are read, so that little waits.
    """

    def __init__(
        self,
        store: Store,
        session: WriteSession,
        small: SmallFiles,
        queue: DraftQueue,
        memory: RunMemory,
        notes: RunNotes,
    ) -> None:
        self._store, self._session, self._small, self._queue = store, session, small, queue
        self._cuts, self._log, self._scratch, self._notes = memory.cuts, memory.log, memory.scratch, notes
        self._streamer = FileStreamer(Chunker(store.keys.border_secret), store.keys)
        self._pieces = BlockBuilder(session, _PIECES_BYTES)
        self._links: dict[tuple[int, int], LateFile | Entry] = {}
        self._trust_before = time.time_ns() - UNTRUSTED_NS

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._streamer.__exit__(kind, error, trace)

    def file_or_gap(self, item: Found, path: bytes, handle: int, before: Before) -> LateFile | Entry:
        """A file, or its place in the listing when it cannot be read."""
        try:
            return self._file(item, path, handle, before)
        except OSError as error:
            return self._notes.leave_out(
                item.name, path + b"/" + item.name, reason_of(error), os.strerror(error.errno or 0)
            )

    def read_before(self, item: Found, earlier: Entry, before: Entry | None) -> Entry:
        """A file that a run read which was cut off: its content is in the store."""
        self._notes.note_owner(item.info)
        self._notes.count_file(item.info.st_size)
        self._queue.changed_files += before is None or earlier.digest != before.digest
        if item.info.st_nlink > 1:
            self._links.setdefault((item.info.st_dev, item.info.st_ino), earlier)
        return earlier

    def _file(self, item: Found, path: bytes, folder: int, before: Before) -> LateFile | Entry:
        """Read a file, again if it changed meanwhile."""
        info = item.info
        linked = (info.st_dev, info.st_ino)
        if info.st_nlink > 1 and linked in self._links:
            return self._further_link(item.name, self._links[linked])
        self._notes.current = path
        handle = open_file(item.text, folder)
        try:
            for _ in range(_TRIES):
                content, parts, digest = self._content(handle, info, path + b"/" + item.name, before.like)
                after = os.fstat(handle)
                steady = same_state(info, after)
                if steady:
                    break
                info = after
                os.lseek(handle, 0, os.SEEK_SET)
            else:
                self._notes.note_unsteady(path + b"/" + item.name)
            extra = extra_of(info, read_attributes(handle), unsteady=not steady)
        finally:
            os.close(handle)
        length = sum(part.length for part in parts) if content is None else len(content)
        entry = self._entry(
            item.name, (content, parts, digest), self._stat_as_read(info, length), extra, before
        )
        if info.st_nlink > 1:
            self._links[linked] = entry
        return entry

    def _entry(self, name: bytes, read: _Read, stat: Stat, extra: Extra, before: Before) -> LateFile | Entry:
        """The entry of a file that was read."""
        content, parts, digest = read
        entry: LateFile | Entry
        if content is None:
            own = before.own if before.own is not None and before.own.kind is Kind.FILE else None
            entry = LateFile(name, LateContent(parts, digest, own), stat, extra)
        else:
            entry = self._small.entry(
                name, content, small_digest(self._store.keys, content), stat, extra, before
            )
        self._notes.count_file(stat.size)
        self._notes.report(tr("Reading"))
        return entry

    def apart(self, name: bytes, handle: int, said: tuple[Stat, Extra], before: Before) -> LateFile | Entry:
        """A file whose content is in an open file of another place, to be read from its beginning.

        :param said: its metadata.
        """
        read = self._content(handle, os.fstat(handle), self._notes.current, before.like)
        return self._entry(name, read, *said, before)

    def database(self, item: Found, path: bytes, folder: int, before: Before) -> LateFile | Entry | None:
        """A database that may be written now, in one state, what is in its log taken in. None: it is taken as
        any file."""
        self._notes.current = path
        with contextlib.suppress(OSError), in_one_state(folder, item, self._scratch) as copy:
            if copy is None or item.info.st_nlink > 1:
                return None
            info = os.fstat(copy)
            read = self._content(copy, info, path + b"/" + item.name, before.like)
            handle = open_file(item.text, folder)
            try:
                extra = extra_of(item.info, read_attributes(handle))
            finally:
                os.close(handle)
            stat = msgspec.structs.replace(stat_of(item.info, trusted=False), size=info.st_size)
            return self._entry(item.name, read, stat, extra, before)
        return None

    def emptied_log(self, item: Found, before: Before) -> LateFile | Entry:
        """The log of a database that was taken in one state: nothing is in it any more."""
        stat = msgspec.structs.replace(stat_of(item.info, trusted=False), size=0)
        return self._entry(item.name, (b"", [], _NO_DIGEST), stat, NOTHING_EXTRA, before)

    def _further_link(self, name: bytes, first: LateFile | Entry) -> LateFile | Entry:
        self._notes.count_file(first.stat.size)
        if isinstance(first, LateFile):
            return LateFile(name, first.content, first.stat, first.extra)
        return msgspec.structs.replace(first, name=name)

    def _stat_as_read(self, info: os.stat_result, length: int) -> Stat:
        """Metadata with the size of what was read, and no change time where that could deceive."""
        trusted = (
            self._trust_before - info.st_ctime_ns > 0 or time.time_ns() - info.st_ctime_ns > UNTRUSTED_NS
        )
        stat = stat_of(info, trusted)
        return stat if stat.size == length else msgspec.structs.replace(stat, size=length)

    def _content(self, handle: int, info: os.stat_result, path: bytes, like: Entry | None) -> _Read:
        """Read an open file once: the bytes of a small file, or None, and the parts and the digest of a
        larger one.

        ``info.st_size`` bytes are expected; it may have become longer or shorter.
        """
        if info.st_size <= SMALL_FILE_BYTES:
            content = os.read(handle, info.st_size + 1)
            if len(content) == info.st_size or (len(content) <= SMALL_FILE_BYTES and not os.read(handle, 1)):
                return content, [], _NO_DIGEST
            info = os.fstat(handle)
        parts: list[Part] = []
        segments = data_segments(handle, info.st_size, info.st_blocks)
        known = self._cuts.of(like.digest) if like is not None and lies_in_pieces(like) else ()
        earlier = earlier_version(self._store, like, known)
        sink: Sink = WholeChunks(self._session.put, parts)
        tick: Callable[[int], None] = self._tick
        ahead = 0
        changed = None
        if earlier is not None:
            sink = changed = ChangedFile(self._store, earlier, self._pieces, self._session.put, parts)
        elif info.st_size >= _LONG_FILE_BYTES:
            if segments == [(0, info.st_size)]:
                ahead = self._read_ahead(path, info, parts)
            tick = self._ticking(PiecesNote(self._log, path, stat_of(info), parts))
        digest = self._streamer.stream(handle, segments, info.st_size, tick, sink, ahead)
        if sum(part.length for part in parts) <= SMALL_FILE_BYTES:
            return os.pread(handle, SMALL_FILE_BYTES, 0), [], _NO_DIGEST
        if changed is not None:
            self._notes.note_read(path, info.st_size, changed.new_bytes)
            if any(part.offset for part in parts):
                self._cuts.keep(digest, changed.cuts)
        return None, parts, digest

    def _read_ahead(self, path: bytes, info: os.stat_result, parts: list[Part]) -> int:
        """The parts at a file's beginning that a run took in which was cut off; how many bytes they are."""
        at = 0
        for length, chunk in self._log.pieces_of(path, stat_of(info)):
            ticket = Ticket()
            ticket.chunk = chunk
            parts.append(Part(ticket, 0, length))
            at += length
        return at

    def finish(self) -> None:
        """Hand in what is left of pieces."""
        self._pieces.flush()

    def _tick(self, read: int) -> None:
        self._notes.read_ahead += read
        self._notes.report(tr("Reading"))
        self._notes.checkpoint()
        self._queue.drain()

    def _ticking(self, noted: PiecesNote) -> Callable[[int], None]:
        def tick(read: int) -> None:
            self._tick(read)
            noted.tick()

        return tick
