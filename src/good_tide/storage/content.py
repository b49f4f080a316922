"""From a file's bytes to chunks: streaming large files through few buffers, and batching small ones into
blocks."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Sequence

import numpy as np

from good_tide.core.entries import Entry, ExtentLike
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.crypto.seals import SMALL_PREFIX, StoreKeys
from good_tide.storage.chunker import Chunker
from good_tide.storage.writer import Ticket, WriteSession

SMALL_FILE_BYTES = 64 * 1024
"""Files up to this size are batched into blocks."""

_ONE_READ_BYTES = 1024 * 1024
_BUFFER_BYTES = 12 * 1024 * 1024
_BUFFERS = 3
_BLOCK_MINIMUM = 256 * 1024
_BLOCK_MAXIMUM = 1024 * 1024
_BLOCK_END = 64
"""After the minimum, a block ends at a file whose digest's first byte says so: one in this many."""

_HOLE_ID = bytes(32)


class Part:
    """A piece of a file's content whose chunk may not be known yet. ``ticket`` None is a hole."""

    __slots__ = ("length", "offset", "ticket")

    def __init__(self, ticket: Ticket | None, offset: int, length: int) -> None:
        self.ticket, self.offset, self.length = ticket, offset, length

    @property
    def chunk(self) -> ChunkId | None:
        """The chunk, as soon as it is known."""
        return None if self.ticket is None else self.ticket.chunk


def listed_digest(keys: StoreKeys, extents: Sequence[ExtentLike]) -> ContentDigest:
    """Content digest of a file above ``SMALL_FILE_BYTES``: over its extents' chunk identities and lengths."""
    return keys.digest(
        b"L"
        + b"".join((extent.chunk or _HOLE_ID) + extent.length.to_bytes(8, "little") for extent in extents)
    )


def small_digest(keys: StoreKeys, content: bytes) -> ContentDigest:
    """Content digest of a file up to ``SMALL_FILE_BYTES``: over its bytes."""
    return keys.digest(SMALL_PREFIX + content)


class BlockBuilder:
    """Collects small files into blocks of up to 1 MiB.

    Block ends depend on the files' contents only, so that the same files in the same order give the same
    blocks again, on this machine or another.
    """

    def __init__(self, session: WriteSession) -> None:
        self._session = session
        self._pieces: list[bytes] = []
        self._size = 0
        self._ticket = Ticket()

    def add(self, content: bytes, digest: ContentDigest) -> Part:
        """Take in a whole small file."""
        if self._size + len(content) > _BLOCK_MAXIMUM:
            self.flush()
        part = Part(self._ticket, self._size, len(content))
        self._pieces.append(content)
        self._size += len(content)
        if self._size >= _BLOCK_MINIMUM and digest[0] % _BLOCK_END == 0:
            self.flush()
        return part

    def flush(self) -> None:
        """End the open block, if there is one."""
        if self._pieces:
            self._session.put(b"".join(self._pieces), ticket=self._ticket)
            self._pieces, self._size, self._ticket = [], 0, Ticket()


class _Buffer:
    """A reusable stretch of memory, free when nobody works on slices of it any more."""

    def __init__(self, free: threading.Condition) -> None:
        self.memory = bytearray(_BUFFER_BYTES)
        self._free = free
        self.users = 0

    def lend(self) -> None:
        with self._free:
            self.users += 1

    def release_memory(self) -> None:
        with self._free:
            self.users -= 1
            self._free.notify_all()


class FileStreamer:
    """Cuts large files into chunks, reading ahead of the threads that work on them.

    :param put: takes each chunk's bytes and a function to call when they are no longer needed.
    """

    def __init__(self, chunker: Chunker, put: Callable[[memoryview, Callable[[], None]], Ticket]) -> None:
        self._chunker, self._put = chunker, put
        self._free = threading.Condition()
        self._buffers: list[_Buffer] = []

    def stream(
        self,
        handle: int,
        segments: Sequence[tuple[int, int]],
        size: int,
        tick: Callable[[int], None],
        parts: list[Part],
        ahead: Sequence[tuple[int, ChunkId]] = (),
    ) -> list[Part]:
        """The parts of an open file of ``size`` bytes, holes between ``segments`` included; ``parts`` grows
        as it is read.

        Stops early when the file has become shorter; the caller notices by comparing metadata. ``tick`` is
        given the bytes read each time.

        :param ahead: lengths and chunks of pieces at the file's beginning that the store has; they are not
            read again. Chunk borders depend on what lies before them in their own chunk only, so that the
            rest is cut as if all had been read.
        """
        at = 0
        if ahead and list(segments) == [(0, size)]:
            for length, chunk in ahead:
                ticket = Ticket()
                ticket.chunk = chunk
                parts.append(Part(ticket, 0, length))
                at += length
            tick(at)
            segments = [(at, size)]
        for begin, end in segments:
            if begin > at:
                parts.append(Part(None, 0, begin - at))
            read = self._segment(handle, begin, end, parts, tick)
            at = begin + read
            if at < end:
                return parts
        if at < size:
            parts.append(Part(None, 0, size - at))
        return parts

    def _segment(
        self, handle: int, begin: int, end: int, parts: list[Part], tick: Callable[[int], None]
    ) -> int:
        """Chunk ``begin..end`` of a file; returns how many bytes there were."""
        if end - begin <= _ONE_READ_BYTES:
            content = os.pread(handle, end - begin, begin)
            tick(len(content))
            self._chunks(np.frombuffer(content, dtype=np.uint8), memoryview(content), True, parts, None)
            return len(content)
        position, carried = begin, memoryview(b"")
        while True:
            buffer = self._take_buffer()
            view = memoryview(buffer.memory)
            view[: len(carried)] = carried
            filled = len(carried)
            carried.release()
            while filled < len(view) and position < end:
                got = os.preadv(
                    handle, [view[filled : filled + min(len(view) - filled, end - position)]], position
                )
                if not got:
                    end = position
                    break
                filled, position = filled + got, position + got
                tick(got)
            at_end = position >= end
            used = self._chunks(np.frombuffer(view[:filled], dtype=np.uint8), view, at_end, parts, buffer)
            carried = memoryview(bytes(view[used:filled]))
            buffer.release_memory()
            if at_end:
                return position - begin

    def _chunks(
        self,
        data: np.ndarray[tuple[int], np.dtype[np.uint8]],
        view: memoryview,
        at_end: bool,
        parts: list[Part],
        buffer: _Buffer | None,
    ) -> int:
        at = 0
        for length in self._chunker.lengths(data, at_end):
            if buffer is not None:
                buffer.lend()
            done = _nothing if buffer is None else buffer.release_memory
            parts.append(Part(self._put(view[at : at + length], done), 0, length))
            at += length
        return at

    def _take_buffer(self) -> _Buffer:
        """A free buffer, lent to the caller."""
        with self._free:
            while True:
                for buffer in self._buffers:
                    if buffer.users == 0:
                        buffer.users = 1
                        return buffer
                if len(self._buffers) < _BUFFERS:
                    self._buffers.append(_Buffer(self._free))
                else:
                    self._free.wait()


def _nothing() -> None:
    """Bytes of their own need no giving back."""


def content_ids(entry: Entry) -> bytes:
    """The identities of the chunks that a file's content lies in, one after the other."""
    return b"".join(extent.chunk for extent in entry.extents if extent.chunk is not None)


def read_whole(store_read: Callable[[ChunkId], bytes], extents: Sequence[ExtentLike], limit: int) -> bytes:
    """Up to ``limit`` bytes from the front of a file's content."""
    pieces: list[bytes] = []
    left = limit
    for extent in extents:
        if left <= 0:
            break
        length = min(extent.length, left)
        piece = (
            bytes(length)
            if extent.chunk is None
            else store_read(extent.chunk)[extent.offset : extent.offset + length]
        )
        pieces.append(piece)
        left -= length
    return b"".join(pieces)


def read_stretch(
    store_read: Callable[[ChunkId], bytes], extents: Sequence[ExtentLike], begin: int, length: int
) -> bytes:
    """Bytes of a file's content from ``begin`` on; fewer when it ends before."""
    pieces: list[bytes] = []
    at, end = 0, begin + length
    for extent in extents:
        first, last = max(begin, at), min(end, at + extent.length)
        if first < last:
            offset = extent.offset + first - at
            pieces.append(
                bytes(last - first)
                if extent.chunk is None
                else store_read(extent.chunk)[offset : offset + last - first]
            )
        at += extent.length
    return b"".join(pieces)
