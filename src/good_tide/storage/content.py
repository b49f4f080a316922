"""From a file's bytes to chunks: streaming large files through few buffers."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from types import TracebackType
from typing import Protocol, Self

import blake3
import numpy as np

from good_tide.core.entries import Entry, ExtentLike
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.crypto.seals import SMALL_PREFIX, StoreKeys
from good_tide.storage.chunker import Chunker
from good_tide.storage.writer import Ticket

SMALL_FILE_BYTES = 64 * 1024
"""Files up to this size are batched into blocks."""

_ONE_READ_BYTES = 1024 * 1024
_BUFFER_BYTES = 12 * 1024 * 1024
_BUFFERS = 3

Put = Callable[[memoryview, Callable[[], None]], Ticket]
"""Takes a chunk, and what to call when its bytes are no longer needed."""


class PutNear(Protocol):
    """As ``Put``, and takes the chunks that hold something much like it."""

    def __call__(
        self, plain: memoryview, done: Callable[[], None], *, near: Sequence[ChunkId] = ()
    ) -> Ticket: ...


_HOLE_ID = bytes(32)
_LARGE_PREFIX = b"P"
_HASHED_BYTES = 1024 * 1024
_ZEROS = memoryview(bytes(_HASHED_BYTES))


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
    """Content digest that earlier versions gave to a file above ``SMALL_FILE_BYTES``: over its extents' chunk
    identities and lengths."""
    return keys.digest(
        b"L"
        + b"".join((extent.chunk or _HOLE_ID) + extent.length.to_bytes(8, "little") for extent in extents)
    )


def small_digest(keys: StoreKeys, content: bytes) -> ContentDigest:
    """Content digest of a file up to ``SMALL_FILE_BYTES``: over its bytes."""
    return keys.digest(SMALL_PREFIX + content)


class ContentHasher:
    """Makes the content digest of a file above ``SMALL_FILE_BYTES``, which does not depend on how it is cut:
    over the BLAKE3 digest of each MiB, 32 zero bytes for one of zeros. ``docs/format.md`` ("Page")."""

    def __init__(self) -> None:
        self._digests: list[bytes] = []
        self._open = blake3.blake3()
        self._size = 0
        self._zeros = True

    def update(self, data: memoryview) -> None:
        """The next bytes."""
        while len(data):
            piece, data = data[: _HASHED_BYTES - self._size], data[_HASHED_BYTES - self._size :]
            zeros = self._zeros and piece[0] == 0 and piece == _ZEROS[: len(piece)]
            if not zeros:
                if self._zeros:
                    self._open.update(_ZEROS[: self._size])
                self._open.update(piece)
            self._zeros, self._size = zeros, self._size + len(piece)
            self._end(_HASHED_BYTES)

    def zeros(self, length: int) -> None:
        """The next bytes are so many zeros."""
        while length and (self._size or length < _HASHED_BYTES):
            piece = _ZEROS[: min(length, _HASHED_BYTES - self._size)]
            self.update(piece)
            length -= len(piece)
        self._digests.append(bytes(32 * (length // _HASHED_BYTES)))
        self.update(_ZEROS[: length % _HASHED_BYTES])

    def _end(self, least: int) -> None:
        """End the MiB that is open, if it has as many bytes."""
        if self._size >= least:
            self._digests.append(bytes(32) if self._zeros else self._open.digest())
            self._open, self._size, self._zeros = blake3.blake3(), 0, True

    def digest(self, keys: StoreKeys) -> ContentDigest:
        """The digest of all that there was."""
        self._end(1)
        return keys.digest(_LARGE_PREFIX + b"".join(self._digests))


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


class _HashingApart:
    """A content digest that is made in another thread, in order."""

    def __init__(self, thread: ThreadPoolExecutor) -> None:
        self._thread, self._hasher = thread, ContentHasher()
        self._failure: BaseException | None = None

    def update(self, data: memoryview, done: Callable[[], None] | None = None) -> None:
        """The next bytes; ``done`` is called when they are no longer needed."""
        self._ask(lambda: self._hasher.update(data), done or _nothing)

    def zeros(self, length: int) -> None:
        """The next bytes are so many zeros."""
        self._ask(lambda: self._hasher.zeros(length), _nothing)

    def _ask(self, act: Callable[[], None], done: Callable[[], None]) -> None:
        def ended(future: Future[None]) -> None:
            if not future.cancelled() and future.exception() is not None:
                self._failure = self._failure or future.exception()
            done()

        self._thread.submit(act).add_done_callback(ended)

    def digest(self, keys: StoreKeys) -> ContentDigest:
        """The digest of all that there was."""
        made = self._thread.submit(self._hasher.digest, keys).result()
        if self._failure is not None:
            raise self._failure
        return made


class Sink(Protocol):
    """Takes the chunks of one file, in their order."""

    def take(self, view: memoryview, done: Callable[[], None]) -> None:
        """The next chunk; ``done`` is called when its bytes are no longer needed."""

    def hole(self, length: int) -> None:
        """The next bytes are zeros that are not there."""

    def end(self) -> None:
        """There is no more."""


class WholeChunks:
    """Stores each chunk of a file whole.

    :param put: takes each chunk's bytes and a function to call when they are no longer needed.
    :param parts: what the content lies in; grows as it is read.
    """

    def __init__(self, put: Put, parts: list[Part]) -> None:
        self._put, self._parts = put, parts

    def take(self, view: memoryview, done: Callable[[], None]) -> None:
        self._parts.append(Part(self._put(view, done), 0, len(view)))

    def hole(self, length: int) -> None:
        self._parts.append(Part(None, 0, length))

    def end(self) -> None:
        pass


class FileStreamer:
    """Cuts large files into chunks, reading ahead of the threads that work on them. A context manager."""

    def __init__(self, chunker: Chunker, keys: StoreKeys) -> None:
        self._chunker, self._keys = chunker, keys
        self._hashing = ThreadPoolExecutor(1, thread_name_prefix="digest")
        self._free = threading.Condition()
        self._buffers: list[_Buffer] = []

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._hashing.shutdown(wait=True, cancel_futures=True)

    def stream(
        self,
        handle: int,
        segments: Sequence[tuple[int, int]],
        size: int,
        tick: Callable[[int], None],
        sink: Sink,
        ahead: int = 0,
    ) -> ContentDigest:
        """Hand the content of an open file of ``size`` bytes to ``sink``, holes between ``segments``
        included; its digest.

        Stops early when the file has become shorter; the caller notices by comparing metadata. ``tick`` is
        given the bytes read each time.

        :param ahead: bytes at the file's beginning, whole chunks, that the store has, of a file without
            holes; they are only hashed. Chunk borders depend on what lies before them in their own chunk
            only, so that the rest is cut as if all had been read.
        """
        hasher, at = _HashingApart(self._hashing), 0
        if ahead:
            for begin in range(0, ahead, _ONE_READ_BYTES):
                piece = os.pread(handle, min(_ONE_READ_BYTES, ahead - begin), begin)
                hasher.update(memoryview(piece))
                tick(len(piece))
            at, segments = ahead, [(ahead, size)]
        for begin, end in segments:
            if begin > at:
                sink.hole(begin - at)
                hasher.zeros(begin - at)
            at = begin + self._segment(handle, begin, end, sink, hasher, tick)
            if at < end:
                size = at
                break
        if at < size:
            sink.hole(size - at)
            hasher.zeros(size - at)
        sink.end()
        return hasher.digest(self._keys)

    def _segment(
        self,
        handle: int,
        begin: int,
        end: int,
        sink: Sink,
        hasher: _HashingApart,
        tick: Callable[[int], None],
    ) -> int:
        """Chunk ``begin..end`` of a file; returns how many bytes there were."""
        if end - begin <= _ONE_READ_BYTES:
            content = os.pread(handle, end - begin, begin)
            tick(len(content))
            hasher.update(memoryview(content))
            self._chunks(np.frombuffer(content, dtype=np.uint8), memoryview(content), True, sink, None)
            return len(content)
        position, carried = begin, memoryview(b"")
        while True:
            buffer = self._take_buffer()
            view = memoryview(buffer.memory)
            view[: len(carried)] = carried
            fresh = filled = len(carried)
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
            buffer.lend()
            hasher.update(view[fresh:filled], buffer.release_memory)
            used = self._chunks(np.frombuffer(view[:filled], dtype=np.uint8), view, at_end, sink, buffer)
            carried = memoryview(bytes(view[used:filled]))
            buffer.release_memory()
            if at_end:
                return position - begin

    def _chunks(
        self,
        data: np.ndarray[tuple[int], np.dtype[np.uint8]],
        view: memoryview,
        at_end: bool,
        sink: Sink,
        buffer: _Buffer | None,
    ) -> int:
        at = 0
        for length in self._chunker.lengths(data, at_end):
            if buffer is not None:
                buffer.lend()
            sink.take(view[at : at + length], _nothing if buffer is None else buffer.release_memory)
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


def lies_in_pieces(entry: Entry) -> bool:
    """Whether a file above ``SMALL_FILE_BYTES`` lies in parts of chunks, so that not the chunks' identities
    alone say what its content is."""
    return entry.stat.size > SMALL_FILE_BYTES and any(extent.offset for extent in entry.extents)


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
