"""Pages of which all is known but where their contents lie: made in two parts, so that the second, which
waits for the store, is small. Together they are the bytes that ``encode_page`` makes."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import msgspec

from good_tide.core.columns import encode_columns, encode_short
from good_tide.core.entries import Extra
from good_tide.core.identifiers import ChunkId
from good_tide.core.pages import HOLE, PAGE_MAXIMUM

SIZE_COLUMN = 3
"""Which of the columns has the sizes."""

FILE, FOLDER, NOTHING = ord("f"), ord("d"), ord("-")
"""What an entry lies in: a file with content in pieces, a folder in pages; a link, a file without content and
what is left out in nothing."""

_FEW = 24
"""Columns of up to so many numbers are encoded one by one."""
_NOT_STAMPED = encode_short([]), encode_short([])
"""The columns of change times and inodes where there are none."""
_PAGE_HEAD = b"\xdc\x00\x11"
"""How MessagePack begins an array of the 17 parts of a page."""

_encode = msgspec.msgpack.Encoder().encode

Piece = tuple[ChunkId | None, int, int]
"""Chunk, offset and length; of a hole no chunk."""


class Listed(msgspec.Struct, array_like=True):
    """A page without what its entries lie in.

    :param begin: its bytes up to there. :param end: what few have beyond the ordinary, by their numbers.
    :param lies: of each entry ``FILE``, ``FOLDER`` or ``NOTHING``.
    :param files: how many are ``FILE``.
    :param counts: the column of how many pieces each entry has, where every file lies in one and there are no
        folders. :param lengths: that of their lengths.
    :param folders: names of the folders in it.
    """

    begin: bytes
    end: dict[int, Extra]
    lies: bytes
    files: int
    counts: bytes
    lengths: bytes
    folders: list[bytes]


def listed(
    names: Sequence[bytes],
    kinds: bytes,
    sizes: Sequence[int],
    columns: Sequence[bytes],
    digests: Sequence[bytes],
    extras: dict[int, Extra],
) -> Listed:
    """All that can be made of a page before it is known where its contents lie.

    :param kinds: a letter each, as ``Kind``.
    :param columns: mode, uid, gid, size and time of modification, encoded.
    :param digests: of the files, in order. :param extras: what few have, by their numbers.
    """
    count = len(names)
    parts = count, b"\0".join(names), kinds, *columns, *_NOT_STAMPED, b"".join(digests)
    begin = _PAGE_HEAD + _encode(parts)[1:]
    if kinds.count(b"f") == count and 0 not in sizes:
        return Listed(begin, extras, kinds, count, _ones(count), columns[SIZE_COLUMN], [])
    lies = bytes(
        [
            kind if kind == FOLDER or (kind == FILE and size) else NOTHING
            for kind, size in zip(kinds, sizes, strict=True)
        ]
    )
    files = lies.count(FILE)
    if FOLDER in lies:
        folders = [name for name, kind in zip(names, kinds, strict=True) if kind == FOLDER]
        return Listed(begin, extras, lies, files, b"", b"", folders)
    counts = _column([one == FILE for one in lies])
    lengths = _column([size for one, size in zip(lies, sizes, strict=True) if one == FILE])
    return Listed(begin, extras, lies, files, counts, lengths, [])


def page_of_one_chunk(page: Listed, chunk: ChunkId | None, offsets: bytes) -> bytes:
    """The bytes of a page without folders, each of whose files lies in one piece of the same chunk.

    :param chunk: None where it has no files with content.
    :param offsets: the column of where each piece begins.
    """
    ones = _ones(page.files)
    return page.begin + _encode((page.counts, ones, offsets, page.lengths, chunk or b"", page.end))[1:]


def page_of_pieces(page: Listed, pieces: Sequence[Sequence[Piece]]) -> bytes:
    """The bytes of a page.

    :param pieces: of each of its files with content and of its folders, in order.
    """
    own = iter(pieces)
    counts = [0 if one == NOTHING else len(next(own)) for one in page.lies]
    flat = [piece for found in pieces for piece in found]
    table: dict[ChunkId, int] = {}
    chunks = [HOLE if chunk is None else table.setdefault(chunk, len(table) + 1) for chunk, _, _ in flat]
    parts = (
        _column(counts),
        _column(chunks),
        _column([offset for _, offset, _ in flat]),
        _column([length for _, _, length in flat]),
        b"".join(table),
        page.end,
    )
    return page.begin + _encode(parts)[1:]


def _column(numbers: Sequence[int]) -> bytes:
    return encode_short(numbers) if len(numbers) <= _FEW else encode_columns([numbers])[0]


@lru_cache(maxsize=PAGE_MAXIMUM)
def _ones(count: int) -> bytes:
    return _column([1] * count)
