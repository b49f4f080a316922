"""Reading what a restore needs next while it writes what came before."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from types import TracebackType
from typing import Self

from good_tide.core.identifiers import ChunkId
from good_tide.operations.restore.plan import Step
from good_tide.storage.store import Store

_AHEAD_CHUNKS = 12


class ReadAhead:
    """Reads the chunks that the coming steps need, in other threads."""

    def __init__(self, store: Store, steps: Sequence[Step]) -> None:
        self._store = store
        self.keys = store.keys
        self._pool = ThreadPoolExecutor(2, thread_name_prefix="read")
        self._coming = self._needed(steps)
        self._queue: deque[tuple[ChunkId, Future[bytes]]] = deque()
        self._last: tuple[ChunkId, bytes] | None = None

    @staticmethod
    def _needed(steps: Sequence[Step]) -> Iterator[ChunkId]:
        last: ChunkId | None = None
        for step in steps:
            if step.payload:
                for extent in step.entry.extents:
                    if extent.chunk is not None and extent.chunk != last:
                        last = extent.chunk
                        yield last

    def get(self, chunk: ChunkId) -> bytes:
        """The plain bytes of a chunk; cheap if asked for in the order of the steps."""
        if self._last is not None and self._last[0] == chunk:
            return self._last[1]
        self._fill()
        while (
            self._queue and self._queue[0][0] != chunk and any(waiting == chunk for waiting, _ in self._queue)
        ):
            self._queue.popleft()
            self._fill()
        if self._queue and self._queue[0][0] == chunk:
            data = self._queue.popleft()[1].result()
        else:
            data = self._store.read_chunk(chunk)
        self._last = (chunk, data)
        return data

    def _fill(self) -> None:
        while len(self._queue) < _AHEAD_CHUNKS:
            chunk = next(self._coming, None)
            if chunk is None:
                return
            self._queue.append((chunk, self._pool.submit(self._store.read_chunk, chunk)))

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._pool.shutdown(wait=True, cancel_futures=True)
