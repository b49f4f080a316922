"""Small files, and pieces of files, joined into blocks."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Mapping, Sequence
from itertools import accumulate
from types import MappingProxyType
from typing import NamedTuple

from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.storage.content import Part
from good_tide.storage.writer import Ticket, WriteSession

_BLOCK_MINIMUM = 256 * 1024
BLOCK_MAXIMUM = 1024 * 1024
_BLOCK_END = 64
"""After the minimum, a block ends at a file whose digest's first byte says so: one in this many."""

_LITTLE = 32
"""One part in so many of what is near is not looked for."""

Near = Mapping[ChunkId, int]
"""Chunks that hold something much like a new one, and how many bytes of it."""
NOTHING_NEAR: Near = MappingProxyType({})


def nearest_first(near: Counter[ChunkId]) -> list[ChunkId]:
    """The chunks near a new one, those with most of it first, but for the last ones that hold little of it:
    with each that it leans on there is one more that it can be lost with."""
    found: list[ChunkId] = []
    total = left = sum(near.values())
    for chunk, size in near.most_common():
        if found and left * _LITTLE <= total:
            break
        found.append(chunk)
        left -= size
    return found


class Laid(NamedTuple):
    """Files that were laid into a block, side by side: how many, and where the first of them begins."""

    ticket: Ticket
    files: int
    offset: int


class BlockBuilder:
    """Collects small files, and pieces of files, into blocks of up to 1 MiB, or ``most`` bytes.

    Block ends depend on the files' contents only, so that the same files in the same order give the same
    blocks again, on this machine or another.
    """

    def __init__(self, session: WriteSession, most: int = BLOCK_MAXIMUM) -> None:
        self._session, self._most = session, most
        self._pieces: list[bytes] = []
        self._near: Counter[ChunkId] = Counter()
        """Chunks with earlier versions of what is in the block, and how many bytes of them."""
        self._size = 0
        self._ticket = Ticket()

    def add(self, content: bytes, digest: ContentDigest, near: Near = NOTHING_NEAR) -> Part:
        """Take in a whole small file.

        :param near: the chunks in which its earlier version lies, and how many bytes of it in each.
        """
        part = self.add_piece(content, near)
        if self._size >= _BLOCK_MINIMUM and _may_end(digest):
            self.flush()
        return part

    def add_all(self, contents: Sequence[bytes], digests: Sequence[bytes]) -> list[Laid]:
        """Take in whole small files that have no earlier version, as ``add`` would one after the other."""
        ends = list(accumulate(map(len, contents)))
        borders = [at for at, digest in enumerate(digests) if _may_end(digest)]
        laid: list[Laid] = []
        at = begin = 0
        """The next file, and how many bytes the files before it have."""
        while at < len(contents):
            ahead = begin - self._size
            fits = bisect_right(ends, self._most + ahead, at)
            if fits == at and self._size:
                self.flush()
                continue
            enough = bisect_left(ends, _BLOCK_MINIMUM + ahead, at)
            border = bisect_left(borders, enough)
            end = max(fits, at + 1)
            ended = border < len(borders) and borders[border] < end
            if ended:
                end = borders[border] + 1
            laid.append(Laid(self._ticket, end - at, self._size))
            self._pieces += contents[at:end]
            self._size += ends[end - 1] - begin
            at, begin = end, ends[end - 1]
            if ended:
                self.flush()
        return laid

    def add_piece(self, content: bytes, near: Near = NOTHING_NEAR) -> Part:
        """Take in a piece of a file, which does not end a block. ``near``: as for ``add``."""
        if self._size + len(content) > self._most:
            self.flush()
        part = Part(self._ticket, self._size, len(content))
        self._pieces.append(content)
        self._size += len(content)
        if near:
            self._near.update(near)
        return part

    def flush(self) -> None:
        """End the open block, if there is one."""
        if self._pieces:
            near = nearest_first(self._near)
            self._session.put(b"".join(self._pieces), ticket=self._ticket, near=near)
            self._pieces, self._size, self._ticket = [], 0, Ticket()
            self._near.clear()


def _may_end(digest: bytes) -> bool:
    """Whether a block that is large enough ends at a file with this digest."""
    return digest[0] % _BLOCK_END == 0
