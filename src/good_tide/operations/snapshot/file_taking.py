"""Taking in files."""

from __future__ import annotations

import os
import time
from collections.abc import Callable

import msgspec

from good_tide.core.entries import Entry, Kind, Stat
from good_tide.core.translation import tr
from good_tide.crypto.seals import StoreKeys
from good_tide.operations.snapshot.listing_drafts import DraftQueue, LateEntry
from good_tide.operations.snapshot.resume_log import PiecesNote, ResumeLog
from good_tide.operations.snapshot.run_notes import RunNotes
from good_tide.operations.snapshot.small_files import UNTRUSTED_NS, SmallFiles
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
from good_tide.storage.chunker import Chunker
from good_tide.storage.content import SMALL_FILE_BYTES, FileStreamer, Part, small_digest
from good_tide.storage.writer import WriteSession

_TRIES = 3
"""How often a file that changes while it is read is read."""
_LONG_FILE_BYTES = 32 * 1024 * 1024
"""Of larger files the pieces are noted as they are read, so that a run that is cut off goes on in the middle
of one."""


class FileTaking:
    """Takes in files one by one: those that are not small, changed while they were read, or have several
    names.

    :param session: takes the chunks.
    :param small: takes the content of small files.
    :param queue: written out as files are read, so that little waits.
    """

    def __init__(
        self,
        keys: StoreKeys,
        session: WriteSession,
        small: SmallFiles,
        queue: DraftQueue,
        log: ResumeLog,
        notes: RunNotes,
    ) -> None:
        self._keys = keys
        self._small, self._queue, self._log, self._notes = small, queue, log, notes
        self._streamer = FileStreamer(Chunker(keys.border_secret), session.put)
        self._links: dict[tuple[int, int], LateEntry | Entry] = {}
        self._trust_before = time.time_ns() - UNTRUSTED_NS

    def file_or_gap(self, item: Found, path: bytes, handle: int, before: Entry | None) -> LateEntry | Entry:
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

    def _file(self, item: Found, path: bytes, folder: int, before: Entry | None) -> LateEntry | Entry:
        """Read a file, again if it changed meanwhile."""
        info = item.info
        linked = (info.st_dev, info.st_ino)
        if info.st_nlink > 1 and linked in self._links:
            return self._further_link(item.name, self._links[linked])
        self._notes.current = path
        handle = open_file(item.text, folder)
        try:
            for _ in range(_TRIES):
                content, parts = self._content(handle, info, path + b"/" + item.name)
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
        entry: LateEntry | Entry
        if content is None:
            stat = self._stat_as_read(info, sum(part.length for part in parts))
            entry = LateEntry(
                item.name,
                Kind.FILE,
                parts,
                stat=stat,
                extra=extra,
                before=None if before is None else before.digest,
            )
        else:
            stat = self._stat_as_read(info, len(content))
            entry = self._small.entry(
                item.name, content, small_digest(self._keys, content), stat, extra, before
            )
        self._notes.count_file(entry.stat.size)
        if info.st_nlink > 1:
            self._links[linked] = entry
        self._notes.report(tr("Reading"))
        return entry

    def _further_link(self, name: bytes, first: LateEntry | Entry) -> LateEntry | Entry:
        self._notes.count_file(first.stat.size)
        if isinstance(first, LateEntry):
            return LateEntry(
                name, first.kind, first.parts, stat=first.stat, extra=first.extra, before=first.before
            )
        return msgspec.structs.replace(first, name=name)

    def _stat_as_read(self, info: os.stat_result, length: int) -> Stat:
        """Metadata with the size of what was read, and no change time where that could deceive."""
        trusted = (
            self._trust_before - info.st_ctime_ns > 0 or time.time_ns() - info.st_ctime_ns > UNTRUSTED_NS
        )
        stat = stat_of(info, trusted)
        return stat if stat.size == length else msgspec.structs.replace(stat, size=length)

    def _content(self, handle: int, info: os.stat_result, path: bytes) -> tuple[bytes | None, list[Part]]:
        """Read an open file once: the bytes of a small file, or None and the parts of a larger one.

        ``info.st_size`` bytes are expected; it may have become longer or shorter.
        """
        if info.st_size <= SMALL_FILE_BYTES:
            content = os.read(handle, info.st_size + 1)
            if len(content) == info.st_size or (len(content) <= SMALL_FILE_BYTES and not os.read(handle, 1)):
                return content, []
            info = os.fstat(handle)
        segments = data_segments(handle, info.st_size, info.st_blocks)
        parts: list[Part] = []
        if info.st_size < _LONG_FILE_BYTES:
            self._streamer.stream(handle, segments, info.st_size, self._tick, parts)
        else:
            ahead, noted = (
                self._log.pieces_of(path, stat_of(info)),
                PiecesNote(self._log, path, stat_of(info), parts),
            )
            self._streamer.stream(handle, segments, info.st_size, self._ticking(noted), parts, ahead)
        if sum(part.length for part in parts) <= SMALL_FILE_BYTES:
            return os.pread(handle, SMALL_FILE_BYTES, 0), []
        return None, parts

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
