"""Pages: the stored form of a folder's listing, by columns.

A listing is cut into pages at names whose checksum says so, so that one changed file in a folder of 100,000
writes one page anew and not the whole listing. ``docs/format.md`` ("Page") gives the bytes.
"""

from __future__ import annotations

import copy
import zlib
from collections.abc import Iterator, Sequence
from functools import cached_property
from itertools import pairwise

import msgspec
import numpy as np

from good_tide.core.columns import Column, decode_column, decode_columns, encode_columns, signed
from good_tide.core.entries import NOTHING_EXTRA, Entry, Extent, Extra, Kind, Stat
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import CHUNK_ID_BYTES, DIGEST_BYTES, ChunkId, ContentDigest, PageId, page_id
from good_tide.core.translation import tr

_PAGE_MEAN = 512
PAGE_MAXIMUM = 4096
_MOST_EXTENTS = 1 << 23
"""Extents of all entries of a page: files of some six TiB. Their columns take 200 MiB, and a page that says
more is refused before."""
_NO_EXTRAS = b"\x80"
"""A MessagePack map without keys."""
HOLE = 0
"""Extent column value of a hole; chunk ``i`` of the page's table is ``i + 1``."""


class Wire(msgspec.Struct, array_like=True, frozen=True):
    """A page as MessagePack: an array in this order."""

    count: int
    names: bytes
    kinds: bytes
    mode: bytes
    uid: bytes
    gid: bytes
    size: bytes
    modified: bytes
    changed_after: bytes
    inode: bytes
    digests: bytes
    extent_counts: bytes
    extent_chunks: bytes
    extent_offsets: bytes
    extent_lengths: bytes
    chunks: bytes
    extras: msgspec.Raw


_encoder = msgspec.msgpack.Encoder()
_decoder = msgspec.msgpack.Decoder(Wire)
_extras_decoder = msgspec.msgpack.Decoder(dict[int, Extra])
_UNREADABLE = (msgspec.MsgspecError, UnicodeDecodeError, RecursionError)


class Page:
    """A decoded page: columns at once, entries when asked for."""

    def __init__(self, data: bytes, rooted: bool = False) -> None:
        """Decode ``data``, already authenticated. With ``rooted``, names are absolute paths (a snapshot's
        folders).

        Raises:
            DamageError: the bytes are not a page, or hold names that no folder can hold.
        """
        self.data = data
        try:
            wire = _decoder.decode(data)
        except _UNREADABLE as error:
            raise DamageError(tr("A folder listing cannot be read ({error})").format(error=error)) from error
        count = wire.count
        if count > PAGE_MAXIMUM or (count > 0 and wire.names.count(b"\0") != count - 1):
            raise DamageError(tr("A folder listing contradicts itself"))
        self.names: list[bytes] = wire.names.split(b"\0") if count else []
        self.kinds = wire.kinds.decode("ascii", "replace")
        if count < 0 or len(self.names) != count or len(self.kinds) != count or set(self.kinds) - set("fdlx"):
            raise DamageError(tr("A folder listing contradicts itself"))
        _check_names(self.names, rooted)
        self.wire = wire
        self._stamped = False

    @cached_property
    def stats(self) -> Column:
        """Metadata, a row an entry: mode, uid, gid, size, modified, changed, inode.

        Raises:
            DamageError: the columns are none.
        """
        return self._checked_stats(decode_columns(self._stat_columns(), len(self.names)))

    def _stat_columns(self) -> list[bytes]:
        wire = self.wire
        return [wire.mode, wire.uid, wire.gid, wire.size, wire.modified, wire.changed_after, wire.inode]

    def _checked_stats(self, columns: Column) -> Column:
        stats = columns.T.copy()
        stats[:, 5] += stats[:, 4]
        if len(stats):
            least, most = stats.min(axis=0).tolist(), stats.max(axis=0).tolist()
            if min(least[:4]) < 0 or most[0] > 0o7777 or max(most[1:3]) >= 1 << 32:
                raise DamageError(tr("A folder listing holds numbers that cannot be"))
        return stats

    @property
    def has_extras(self) -> bool:
        """Whether any entry has something that few have."""
        return bytes(self.wire.extras) != _NO_EXTRAS

    @cached_property
    def extras(self) -> dict[int, Extra]:
        """What few entries have, by their numbers.

        Raises:
            DamageError: it cannot be read, or holds what no file system has.
        """
        raw = bytes(self.wire.extras)
        if _map_length(raw) > len(self.names):
            raise DamageError(tr("A folder listing contradicts itself"))
        try:
            found = _extras_decoder.decode(raw)
        except _UNREADABLE as error:
            raise DamageError(tr("A folder listing cannot be read ({error})").format(error=error)) from error
        for extra in found.values():
            if b"\0" in extra.target or any(b"\0" in name or not name for name, _ in extra.attributes):
                raise DamageError(tr("A folder listing holds a link or attribute that cannot be"))
        return found

    def with_stamps(self, stamps: Sequence[int]) -> Page:
        """The same page with change times and inodes that are kept beside it: both of each entry in turn."""
        page = copy.copy(self)
        page.stats = self.stats.copy()
        page.stats[:, 5:] = signed(stamps).reshape(-1, 2)
        page._stamped = True
        return page

    def has_stats(self, seen: Column) -> bool:
        """Whether its metadata are exactly these rows (as ``stats``): compared as they are stored, without
        decoding, where all are stored."""
        if self._stamped:
            return bool((self.stats == seen).all())
        rows = seen.T.copy()
        rows[5] -= rows[4]
        return encode_columns(rows) == self._stat_columns()

    @property
    def chunk_ids(self) -> bytes:
        """Identities of all chunks that the page names, one after the other: contents, and pages of
        sub-folders."""
        return self.wire.chunks

    def folder_pages(self) -> list[PageId]:
        """Pages of the sub-folders' listings, without making entries of all that is in the page.

        Raises:
            DamageError: the page contradicts itself.
        """
        return [page for pages in self.sub_folders().values() for page in pages]

    def sub_folders(self) -> dict[int, list[PageId]]:
        """The pages of each sub-folder's listing, by the number of its entry.

        Raises:
            DamageError: the page contradicts itself.
        """
        if "d" not in self.kinds:
            return {}
        counts = self._extent_counts()
        extents = self._extents(int(counts.sum()))
        begins = np.cumsum(counts) - counts
        found = {}
        for position in np.flatnonzero(
            np.frombuffer(self.kinds.encode("ascii"), dtype=np.uint8) == ord("d")
        ).tolist():
            begin = int(begins[position])
            own = extents[begin : begin + int(counts[position])]
            found[position] = [
                page_id(extent.chunk, extent.offset, extent.length)
                for extent in own
                if extent.chunk is not None
            ]
        return found

    def references(self) -> tuple[Column, Column]:
        """Each stored extent as the number of its entry, and that of its chunk among ``chunk_ids``.

        Raises:
            DamageError: the page contradicts itself.
        """
        counts = self._extent_counts()
        chunks = decode_column(self.wire.extent_chunks, int(counts.sum()))
        owners = np.repeat(np.arange(len(counts)), counts)
        if len(chunks) and (chunks.min() < 0 or chunks.max() > len(self.wire.chunks) // CHUNK_ID_BYTES):
            raise DamageError(tr("A folder listing points outside its own tables"))
        stored = chunks != HOLE
        return owners[stored], chunks[stored] - 1

    def stored_sizes(self) -> Column:
        """Bytes of each entry that are no holes; of one that lies in one piece, its size.

        Raises:
            DamageError: the page contradicts itself.
        """
        counts, sizes = self._extent_counts(), self.stats[:, 3].copy()
        if not len(counts) or counts.max() < 2:
            return sizes
        total = int(counts.sum())
        chunks = decode_column(self.wire.extent_chunks, total)
        lengths = decode_column(self.wire.extent_lengths, total)
        stored = np.zeros(len(counts), dtype=np.int64)
        np.add.at(stored, np.repeat(np.arange(len(counts)), counts), np.where(chunks == HOLE, 0, lengths))
        return np.where(counts > 1, stored, sizes)

    def _extent_counts(self) -> Column:
        return checked_counts(decode_column(self.wire.extent_counts, len(self.names)))

    def entries(self) -> list[Entry]:
        """All entries, in the order of their names' bytes."""
        wire = self.wire
        if "stats" in self.__dict__:
            counts = self._extent_counts().tolist()
        else:  # in one go with the metadata
            table = decode_columns([*self._stat_columns(), wire.extent_counts], len(self.names))
            self.stats = self._checked_stats(table[:-1])
            counts = checked_counts(table[-1]).tolist()
        extents = self._extents(sum(counts))
        files = self.kinds.count(Kind.FILE)
        if len(wire.digests) != files * DIGEST_BYTES:
            raise DamageError(tr("A folder listing contradicts itself"))
        result: list[Entry] = []
        extras = self.extras
        at = digest_at = 0
        for position, (name, letter, numbers) in enumerate(
            zip(self.names, self.kinds, self.stats.tolist(), strict=True)
        ):
            digest = b""
            if letter == "f":
                digest = wire.digests[digest_at : digest_at + DIGEST_BYTES]
                digest_at += DIGEST_BYTES
            own = tuple(extents[at : at + counts[position]])
            at += counts[position]
            extra = extras.get(position, NOTHING_EXTRA)
            result.append(Entry(name, Kind(letter), Stat(*numbers), ContentDigest(digest), own, extra))
        return result

    def _extents(self, count: int) -> list[Extent]:
        wire = self.wire
        table: list[ChunkId | None] = [None]
        if len(wire.chunks) % CHUNK_ID_BYTES:
            raise DamageError(tr("A folder listing contradicts itself"))
        table += [
            ChunkId(wire.chunks[at : at + CHUNK_ID_BYTES])
            for at in range(0, len(wire.chunks), CHUNK_ID_BYTES)
        ]
        columns = wire.extent_chunks, wire.extent_offsets, wire.extent_lengths
        chunks, offsets, lengths = found = decode_columns(columns, count)
        if count and (found.min() < 0 or chunks.max() >= len(table)):
            raise DamageError(tr("A folder listing points outside its own tables"))
        return [
            Extent(table[chunk], offset, length)
            for chunk, offset, length in zip(chunks.tolist(), offsets.tolist(), lengths.tolist(), strict=True)
        ]


def checked_counts(counts: Column) -> Column:
    """How many extents each entry has.

    Raises:
        DamageError: that cannot be.
    """
    if len(counts) and (
        not 0 <= int(counts.min()) <= int(counts.max()) <= _MOST_EXTENTS or int(counts.sum()) > _MOST_EXTENTS
    ):
        raise DamageError(tr("A folder listing contradicts itself"))
    return counts


def _map_length(packed: bytes) -> int:
    """How many keys a MessagePack map has, by its first bytes."""
    first = packed[0]
    if first & 0xF0 == 0x80:
        return first & 0x0F
    return int.from_bytes(packed[1 : {0xDE: 3, 0xDF: 5}.get(first, 1)], "big")


def encode_page(entries: Sequence[Entry], stamped: bool = True) -> bytes:
    """The bytes of a page. ``entries`` are in the order of their names' bytes, without two of one name.

    :param stamped: with change times and inodes; they are 0 otherwise, that of a change time the time of
        modification.
    """
    table: dict[ChunkId, int] = {}
    numbers: list[tuple[int, ...]] = []
    pieces: list[tuple[int, int, int]] = []
    extras: dict[int, Extra] = {}
    for position, entry in enumerate(entries):
        stat, extents = entry.stat, entry.extents
        numbers.append(
            (
                stat.mode,
                stat.uid,
                stat.gid,
                stat.size,
                stat.modified,
                stat.changed - stat.modified if stamped else 0,
                stat.inode if stamped else 0,
                len(extents),
            )
        )
        for extent in extents:
            chunk = extent.chunk
            pieces.append(
                (
                    HOLE if chunk is None else table.setdefault(chunk, len(table) + 1),
                    extent.offset,
                    extent.length,
                )
            )
        if entry.extra is not NOTHING_EXTRA:
            extras[position] = entry.extra
    stats = encode_columns(np.array(numbers, dtype=np.int64).reshape(-1, 8).T)
    parts = encode_columns(np.array(pieces, dtype=np.int64).reshape(-1, 3).T)
    return _encoder.encode(
        (
            len(entries),
            b"\0".join([entry.name for entry in entries]),
            "".join([entry.kind for entry in entries]).encode("ascii"),
            *stats[:7],
            b"".join([entry.digest for entry in entries]),
            stats[7],
            *parts,
            b"".join(table),
            extras,
        )
    )


def paginate(entries: Sequence[Entry]) -> Iterator[Sequence[Entry]]:
    """Cut a sorted listing into pages at borders that depend on names only; one empty page for an empty
    folder."""
    for begin, end in page_borders([entry.name for entry in entries]):
        yield entries[begin:end]


def page_borders(names: Sequence[bytes]) -> Iterator[tuple[int, int]]:
    """Begin and end of each page of a listing, by its sorted names."""
    start = 0
    if len(names) > _PAGE_MEAN:
        for position, name in enumerate(names):
            here = position + 1 - start
            if here >= PAGE_MAXIMUM or zlib.crc32(name) % _PAGE_MEAN == 0:
                yield start, position + 1
                start = position + 1
    if start < len(names) or not names:
        yield start, len(names)


def _check_names(names: Sequence[bytes], rooted: bool) -> None:
    """Refuse names that could lead out of a folder, stand for it, or appear twice."""
    for name in names:
        if rooted:
            bad = not name.startswith(b"/") or any(part in (b".", b"..") for part in name.split(b"/"))
        else:
            bad = not name or b"/" in name or name in (b".", b"..")
        if bad:
            raise DamageError(tr("A folder listing holds a name that cannot be: {name!r}").format(name=name))
    if any(before >= after for before, after in pairwise(names)):
        raise DamageError(tr("A folder listing is out of order"))
