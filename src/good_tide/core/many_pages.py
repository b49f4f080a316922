"""Many pages at once, by columns: no object is made of what is in them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from good_tide.core.columns import Column, decode_tables
from good_tide.core.entries import Extra
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import CHUNK_ID_BYTES, DIGEST_BYTES, ChunkId, PageId, page_id
from good_tide.core.pages import HOLE, Page, checked_counts
from good_tide.core.translation import tr


class ManyPages:
    """What is in some pages, one after the other.

    :ivar counts: how many entries each page has. :ivar names: of all entries.
    :ivar kinds: a letter each. :ivar sizes: in bytes. :ivar modified: ns since 1970 UTC.
    :ivar digests: of all entries, empty but for files.

    Raises:
        DamageError: by making one, when a page contradicts itself.
    """

    def __init__(self, pages: Sequence[Page]) -> None:
        self._pages = pages
        self.counts = [len(page.names) for page in pages]
        self.names = [name for page in pages for name in page.names]
        self.kinds = "".join([page.kinds for page in pages])
        size, modified, pieces = decode_tables(
            [(one.size, one.modified, one.extent_counts) for one in (page.wire for page in pages)],
            self.counts,
        ).reshape(3, -1)
        if len(size) and int(size.min()) < 0:
            raise DamageError(tr("A folder listing holds numbers that cannot be"))
        self.sizes, self.modified = size.tolist(), modified.tolist()
        self._digests()
        self._extents(checked_counts(pieces))

    def _digests(self) -> None:
        for page in self._pages:
            if len(page.wire.digests) != page.kinds.count("f") * DIGEST_BYTES:
                raise DamageError(tr("A folder listing contradicts itself"))
        joined = b"".join([page.wire.digests for page in self._pages])
        own = iter([joined[at : at + DIGEST_BYTES] for at in range(0, len(joined), DIGEST_BYTES)])
        self.digests = [next(own) if kind == "f" else b"" for kind in self.kinds]

    def _extents(self, pieces: Column) -> None:
        ends = np.cumsum(pieces)
        self._pieces, self._first = pieces, ends - pieces
        last_of = np.cumsum(self.counts)
        upto = np.concatenate([[0], ends])[np.concatenate([[0], last_of])]
        totals = np.diff(upto)
        wires = [page.wire for page in self._pages]
        chunks, self._offsets, self._lengths = decode_tables(
            [(one.extent_chunks, one.extent_offsets, one.extent_lengths) for one in wires], totals.tolist()
        ).reshape(3, -1)
        known = [len(one.chunks) // CHUNK_ID_BYTES for one in wires]
        before = np.cumsum(known) - known
        if any(len(one.chunks) % CHUNK_ID_BYTES for one in wires):
            raise DamageError(tr("A folder listing contradicts itself"))
        if len(chunks) and (
            min(chunks.min(), self._offsets.min(), self._lengths.min()) < 0
            or bool((chunks > np.repeat(known, totals)).any())
        ):
            raise DamageError(tr("A folder listing points outside its own tables"))
        self._chunks = np.where(chunks == HOLE, -1, chunks - 1 + np.repeat(before, totals))
        ids = b"".join([one.chunks for one in wires])
        self._ids = [ids[at : at + CHUNK_ID_BYTES] for at in range(0, len(ids), CHUNK_ID_BYTES)]

    def extras(self) -> dict[int, Extra]:
        """What few entries have, by their numbers.

        Raises:
            DamageError: it cannot be read.
        """
        found: dict[int, Extra] = {}
        at = 0
        for page, count in zip(self._pages, self.counts, strict=True):
            if page.has_extras:
                found |= {at + own: extra for own, extra in page.extras.items() if 0 <= own < count}
            at += count
        return found

    def wholes(self, most: int) -> tuple[list[bytes | None], list[int | None]]:
        """For each file of up to ``most`` bytes that lies in one piece, chunk and offset; None for all
        others."""
        files = np.frombuffer(self.kinds.encode("ascii"), dtype=np.uint8) == ord("f")
        one = files & (self._pieces == 1) & (np.array(self.sizes, dtype=np.int64) <= most)
        at = np.where(one, self._first, 0)
        if not len(self._chunks):
            return [None] * len(self.names), [None] * len(self.names)
        ids = self._ids
        chunks = [
            ids[number] if number >= 0 else None for number in np.where(one, self._chunks[at], -1).tolist()
        ]
        offsets = [
            own if here else None for own, here in zip(self._offsets[at].tolist(), one.tolist(), strict=True)
        ]
        return chunks, offsets

    def folders(self) -> dict[int, tuple[PageId, ...]]:
        """The pages of the listing of each folder, by its number among the entries.

        Raises:
            DamageError: one lies where no page can.
        """
        kinds = np.frombuffer(self.kinds.encode("ascii"), dtype=np.uint8)
        found = {}
        for number in np.flatnonzero(kinds == ord("d")).tolist():
            begin = int(self._first[number])
            found[number] = tuple(
                page_id(ChunkId(self._ids[chunk]), offset, length)
                for chunk, offset, length in zip(
                    *(
                        column[begin : begin + int(self._pieces[number])].tolist()
                        for column in (self._chunks, self._offsets, self._lengths)
                    ),
                    strict=True,
                )
                if chunk >= 0
            )
        return found
