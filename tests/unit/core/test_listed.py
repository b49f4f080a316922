"""Pages that are made in two parts are those that are made in one."""

from __future__ import annotations

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.columns import encode_columns, encode_short
from good_tide.core.entries import NOTHING_EXTRA, Entry, Extent, Extra, Kind, Stat
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.core.listed import Listed, Piece, listed, page_of_one_chunk, page_of_pieces
from good_tide.core.pages import encode_page

CHUNKS = [ChunkId(bytes([number]) * 32) for number in range(4)]
pieces = st.builds(Extent, st.sampled_from(CHUNKS), st.integers(0, 2**20), st.integers(1, 2**16))
extras = st.sampled_from([NOTHING_EXTRA, Extra(attributes=((b"user.a", b"1"),)), Extra(target=b"../x")])


@st.composite
def listings(draw: st.DrawFn) -> list[Entry]:
    """What a folder that was read can hold."""
    found = []
    for number in range(draw(st.integers(0, 40))):
        kind = draw(st.sampled_from((Kind.FILE, Kind.FILE, Kind.FILE, Kind.FOLDER, Kind.LINK)))
        own: tuple[Extent, ...] = ()
        if kind is not Kind.LINK:
            least = int(kind is Kind.FOLDER)
            own = tuple(draw(st.lists(pieces, min_size=least, max_size=draw(st.sampled_from((1, 1, 3))))))
        size = sum(one.length for one in own) if kind is Kind.FILE else 4096
        digest = ContentDigest(bytes([number]) * 16 if kind is Kind.FILE else b"")
        stat = Stat(draw(st.integers(0, 0o7777)), 1000, 100, size, draw(st.integers(-(2**60), 2**60)))
        found.append(Entry(b"%03d" % number, kind, stat, digest, own, draw(extras)))
    return found


def halved(listing: list[Entry]) -> Listed:
    """The first part of a listing's page."""
    rows = [(one.stat.mode, one.stat.uid, one.stat.gid, one.stat.size, one.stat.modified) for one in listing]
    columns = encode_columns(list(zip(*rows, strict=True)) if rows else [[]] * 5)
    return listed(
        [one.name for one in listing],
        "".join([one.kind for one in listing]).encode(),
        [one.stat.size for one in listing],
        columns,
        [one.digest for one in listing if one.kind is Kind.FILE],
        {at: one.extra for at, one in enumerate(listing) if one.extra is not NOTHING_EXTRA},
    )


class ListedTest(unittest.TestCase):
    @settings(deadline=None)
    @given(listings())
    def test_both_parts_are_the_page(self, listing: list[Entry]) -> None:
        lie: list[list[Piece]] = [
            [(one.chunk, one.offset, one.length) for one in entry.extents]
            for entry in listing
            if entry.extents
        ]
        first = halved(listing)
        self.assertEqual(page_of_pieces(first, lie), encode_page(listing, stamped=False))
        self.assertEqual(
            first.folders, [entry.name for entry in listing if entry.kind is Kind.FOLDER], "names of folders"
        )

    def test_files_side_by_side_in_one_chunk_are_the_page(self) -> None:
        for count in (1, 5, 30, 400):
            for empty in (set(), {0}, set(range(count))):
                with self.subTest(count=count, empty=len(empty)):
                    listing, at, offsets = [], 7, []
                    for number in range(count):
                        size = 0 if number in empty else 10 + number
                        own = (Extent(CHUNKS[1], at, size),) if size else ()
                        offsets += [at] if size else []
                        stat = Stat(0o644, 1, 2, size, 10**18 + number)
                        listing.append(
                            Entry(b"%03d" % number, Kind.FILE, stat, ContentDigest(bytes(16)), own)
                        )
                        at += size
                    page = page_of_one_chunk(
                        halved(listing), CHUNKS[1] if offsets else None, encode_short(offsets)
                    )
                    self.assertEqual(page, encode_page(listing, stamped=False))
