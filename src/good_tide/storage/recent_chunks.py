"""Chunks that were read a moment ago, kept in memory."""

from __future__ import annotations

import threading
from collections import OrderedDict

from good_tide.core.identifiers import ChunkId

_MOST_BYTES = 32 * 1024 * 1024
_LARGEST = 4 * 1024 * 1024


class RecentChunks:
    """The plain bytes of the chunks that were read last. Threads may use it at once."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._chunks: OrderedDict[ChunkId, bytes] = OrderedDict()
        self._bytes = 0

    def get(self, identity: ChunkId) -> bytes | None:
        """A chunk, if it is kept."""
        with self._lock:
            found = self._chunks.get(identity)
            if found is not None:
                self._chunks.move_to_end(identity)
            return found

    def keep(self, identity: ChunkId, plain: bytes) -> None:
        """Keep a chunk, unless it is a large one."""
        if len(plain) > _LARGEST:
            return
        with self._lock:
            if identity not in self._chunks:
                self._chunks[identity] = plain
                self._bytes += len(plain)
            while self._bytes > _MOST_BYTES:
                self._bytes -= len(self._chunks.popitem(last=False)[1])

    def clear(self) -> None:
        """Keep nothing."""
        with self._lock:
            self._chunks.clear()
            self._bytes = 0
