"""Reading what a restore needs next while it writes what came before."""

from __future__ import annotations

import contextlib
from collections import OrderedDict, deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from types import TracebackType
from typing import Self

from good_tide.core.errors import GoodTideError
from good_tide.core.identifiers import ChunkId
from good_tide.storage.store import Store

_AHEAD_CHUNKS = 12
_KEPT_BYTES = 48 * 1024 * 1024
"""Plain bytes of chunks that are kept for what comes: a file that changed a little many times lies in pieces
of many, by turns."""


class ReadAhead:
    """Reads chunks in other threads.

    :param coming: those that will be needed, in their order.
    """

    def __init__(self, store: Store, coming: Iterator[ChunkId]) -> None:
        self._store = store
        self.keys = store.keys
        self._pool = ThreadPoolExecutor(2, thread_name_prefix="read")
        self._coming = coming
        self._queue: deque[ChunkId] = deque()
        """Chunks that are being read, in their order."""
        self._reading: dict[ChunkId, Future[bytes]] = {}
        self._kept: OrderedDict[ChunkId, bytes] = OrderedDict()
        self._kept_bytes = 0

    def get(self, chunk: ChunkId) -> bytes:
        """The plain bytes of a chunk; cheap if asked for in the order of the steps."""
        data = self._kept.get(chunk)
        if data is not None:
            self._kept.move_to_end(chunk)
            return data
        self._fill()
        while chunk in self._reading:
            first = self._queue.popleft()
            if first == chunk:
                return self._keep(first)
            with contextlib.suppress(GoodTideError):  # of a file that was given up
                self._keep(first)
        return self._store.read_chunk(chunk)

    def _keep(self, chunk: ChunkId) -> bytes:
        """Take over what was read, and let go what was not asked for longest."""
        data = self._reading.pop(chunk).result()
        self._kept[chunk] = data
        self._kept_bytes += len(data)
        while self._kept_bytes > _KEPT_BYTES and len(self._kept) > 1:
            self._kept_bytes -= len(self._kept.popitem(last=False)[1])
        return data

    def _fill(self) -> None:
        while len(self._queue) < _AHEAD_CHUNKS:
            chunk = next(self._coming, None)
            if chunk is None:
                return
            if chunk not in self._reading and chunk not in self._kept:
                self._queue.append(chunk)
                self._reading[chunk] = self._pool.submit(self._store.read_chunk, chunk)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._pool.shutdown(wait=True, cancel_futures=True)
