"""Reading files of the past at any place, with bounded memory: chunks are kept for a while, and those that
come next are read ahead when a file is read from the beginning on."""

from __future__ import annotations

import contextlib
import functools
import threading
from bisect import bisect_right
from collections import OrderedDict
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from itertools import accumulate, islice

from good_tide.core.entries import ExtentLike
from good_tide.core.identifiers import ChunkId

KEPT_BYTES = 96 * 1024 * 1024
"""Plain bytes of chunks that are kept at most, for all who read."""
_AHEAD_BYTES = 12 * 1024 * 1024
_AHEAD_CHUNKS = 8
"""A file that changed a little many times lies in pieces of many chunks."""
_READERS = 3


_FOLLOWING = 3


def nothing_follows(chunk: ChunkId, most: int) -> list[ChunkId]:
    """Nothing is known of what lies behind a chunk."""
    return []


class ChunkCache:
    """Chunks that were read, and that are being read ahead.

    :param read: reads one.
    :param patience: seconds that a chunk may take.
    :param following: the chunks that lie behind one in the store.
    """

    def __init__(
        self,
        read: Callable[[ChunkId], bytes],
        patience: float,
        following: Callable[[ChunkId, int], list[ChunkId]] = nothing_follows,
    ) -> None:
        self._read, self._patience, self._following = read, patience, following
        self._newest: ChunkId | None = None
        self._expected: list[ChunkId] = []
        """What lies behind the chunk that was asked for last."""
        self._pool = ThreadPoolExecutor(_READERS, thread_name_prefix="read")
        self._guard = threading.Lock()
        self._kept: OrderedDict[ChunkId, Future[bytes]] = OrderedDict()
        self._sizes: dict[ChunkId, int] = {}
        self._bytes = 0
        self._stuck: Future[bytes] | None = None
        """What the disk did not answer: until it does, nobody else waits for it."""

    def get(self, chunk: ChunkId) -> bytes:
        """The plain bytes of a chunk.

        Raises:
            TimeoutError: the disk does not answer. GoodTideError: it cannot be read.
        """
        if self._stuck is not None and not self._stuck.done():
            raise TimeoutError
        coming = self._coming(chunk)
        if chunk != self._newest:
            self._follow(chunk)
        elif coming.done() and not coming.exception():
            return coming.result()
        try:
            data = coming.result(self._patience)
        except BaseException as error:
            self._stuck = coming if isinstance(error, TimeoutError) else None
            with self._guard:
                if self._kept.get(chunk) is coming:
                    self._let_go(chunk)
            raise
        with self._guard:
            self._trim(chunk)
        return data

    def _follow(self, chunk: ChunkId) -> None:
        """Whoever reads all files of a folder asks for one chunk after the other as they lie in the store:
        those behind are read ahead."""
        in_order = chunk in self._expected
        self._newest, self._expected = chunk, self._following(chunk, _FOLLOWING)
        if in_order:
            for one in self._expected:
                self.ahead(one)

    def _arrived(self, chunk: ChunkId, coming: Future[bytes]) -> None:
        """Count what was read, whether or not somebody asks for it: who reads the beginnings of many files
        leaves behind what was read ahead for each."""
        with self._guard:
            if self._kept.get(chunk) is not coming:
                return
            if coming.cancelled() or coming.exception() is not None:
                self._let_go(chunk)
                return
            self._sizes[chunk] = len(coming.result())
            self._bytes += self._sizes[chunk]
            self._trim(chunk)

    def ahead(self, chunk: ChunkId) -> None:
        """Begin to read a chunk that will be asked for."""
        with contextlib.suppress(RuntimeError):  # it is being closed
            self._coming(chunk)

    def _coming(self, chunk: ChunkId) -> Future[bytes]:
        with self._guard:
            found = self._kept.get(chunk)
            if found is not None:
                self._kept.move_to_end(chunk)
                return found
            found = self._kept[chunk] = self._pool.submit(self._read, chunk)
        found.add_done_callback(functools.partial(self._arrived, chunk))  # at once, if it is done
        return found

    def _trim(self, but: ChunkId) -> None:
        if self._bytes <= KEPT_BYTES:
            return
        for chunk in list(self._kept):
            if self._bytes <= KEPT_BYTES:
                return
            if chunk != but and self._kept[chunk].done():
                self._let_go(chunk)

    def _let_go(self, chunk: ChunkId) -> None:
        self._kept.pop(chunk, None)
        self._bytes -= self._sizes.pop(chunk, 0)

    def close(self) -> None:
        """End the threads; what they are in the middle of is not waited for."""
        self._pool.shutdown(wait=False, cancel_futures=True)


class OpenFile:
    """A file of the past that somebody reads."""

    def __init__(self, extents: Sequence[ExtentLike], cache: ChunkCache) -> None:
        self._extents, self._cache = extents, cache
        self._ends = list(accumulate(extent.length for extent in extents))
        self._next = 0
        self._ahead_of = -1
        """Behind this extent everything was read ahead."""

    def read(self, size: int, offset: int) -> bytes:
        """Up to ``size`` bytes from ``offset`` on.

        Raises:
            TimeoutError: the disk does not answer. GoodTideError: a part is lost.
        """
        pieces: list[bytes] = []
        at, sequential = offset, offset == self._next
        number = bisect_right(self._ends, at)
        end = min(offset + size, self._ends[-1] if self._ends else 0)
        if sequential and number != self._ahead_of:
            self._ahead_of = number
            self._read_ahead(number)
        while at < end:
            extent, begin = self._extents[number], self._ends[number] - self._extents[number].length
            first = at - begin
            length = min(extent.length - first, end - at)
            if extent.chunk is None:
                pieces.append(bytes(length))
            else:
                place = extent.offset + first
                pieces.append(self._cache.get(extent.chunk)[place : place + length])
            at += length
            number += 1
        self._next = end
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def _read_ahead(self, number: int) -> None:
        ahead = 0
        chunks: set[ChunkId] = set()
        for extent in islice(self._extents, number + 1, None):
            if ahead >= _AHEAD_BYTES or len(chunks) >= _AHEAD_CHUNKS:
                return
            ahead += extent.length
            if extent.chunk is not None:
                chunks.add(extent.chunk)
                self._cache.ahead(extent.chunk)
