"""Lost chunks put together again from the files as they are now: the same content has the same identity."""

from __future__ import annotations

import os
import stat
from collections.abc import Collection
from typing import NamedTuple

from good_tide.core.entries import Entry
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.crypto.seals import StoreKeys
from good_tide.storage.content import SMALL_FILE_BYTES, small_digest

_MOST_PLACES = 4
"""So many files are tried for one piece of a chunk."""


class _Place(NamedTuple):
    """Where a piece of a chunk may be found: a path, and the bytes before it in the file.

    :param digest: that of the whole file, of a small one; None otherwise.
    """

    path: bytes
    at: int
    digest: ContentDigest | None


class LiveFiles:
    """What is known of where the content of lost chunks came from.

    :param lost: the chunks.
    """

    def __init__(self, keys: StoreKeys, lost: Collection[ChunkId]) -> None:
        self._keys, self._lost = keys, lost
        self._pieces: dict[ChunkId, dict[tuple[int, int], list[_Place]]] = {}

    def take(self, entry: Entry, path: bytes) -> None:
        """Take in a file, as some snapshot has it, that needs a lost chunk."""
        at = 0
        small = entry.stat.size <= SMALL_FILE_BYTES and len(entry.extents) == 1
        for extent in entry.extents:
            if extent.chunk is not None and extent.chunk in self._lost:
                pieces = self._pieces.setdefault(extent.chunk, {})
                places = pieces.setdefault((extent.offset, extent.length), [])
                place = _Place(path, at, entry.digest if small else None)
                if len(places) < _MOST_PLACES and place not in places:
                    places.append(place)
            at += extent.length

    def content(self, chunk: ChunkId, length: int) -> bytes | None:
        """The plain bytes of a lost chunk, ``length`` of them; None when the files no longer have them
        all."""
        content = bytearray()
        for (offset, size), places in sorted(self._pieces.get(chunk, {}).items()):
            if offset > len(content):
                return None
            if offset + size > len(content):
                piece = next(filter(None, (self._read(place, size) for place in places)), None)
                if piece is None:
                    continue
                content += piece[len(content) - offset :]
        whole = bytes(content)
        return whole if len(whole) == length and self._keys.chunk_id(whole) == chunk else None

    def _read(self, place: _Place, size: int) -> bytes | None:
        """Bytes of a file, if it is one, and a small one is as it was."""
        try:
            handle = os.open(place.path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError:
            return None
        try:
            if not stat.S_ISREG(os.fstat(handle).st_mode):
                return None
            data = os.pread(handle, size, place.at)
            if place.digest is not None and small_digest(self._keys, data) != place.digest:
                return None
            return data if len(data) == size else None
        except OSError:
            return None
        finally:
            os.close(handle)
