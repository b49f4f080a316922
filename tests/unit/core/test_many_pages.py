"""Many pages at once hold what each of them holds."""

from __future__ import annotations

import unittest

import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.entries import NOTHING_EXTRA, Entry, Extent, Extra, Kind, Stat
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.core.many_pages import ManyPages
from good_tide.core.pages import Page, encode_page

LARGEST_WHOLE = 5000
CHUNKS = [ChunkId(bytes([number]) * 32) for number in range(5)]
extents = st.lists(
    st.builds(Extent, st.none() | st.sampled_from(CHUNKS), st.integers(0, 2**32 - 1), st.integers(0, 9000)),
    max_size=3,
).map(tuple)


@st.composite
def listings(draw: st.DrawFn) -> list[Entry]:
    found = []
    for number in range(draw(st.integers(0, 12))):
        kind = draw(st.sampled_from(Kind))
        digest = ContentDigest(bytes([number]) * 16 if kind is Kind.FILE else b"")
        extra = draw(st.sampled_from([NOTHING_EXTRA, Extra(target=b"x"), Extra(reason="gone")]))
        stat = Stat(0o600, 1, 2, draw(st.integers(0, 9000)), draw(st.integers(-(2**60), 2**60)))
        found.append(Entry(b"%d" % (100 + number), kind, stat, digest, draw(extents), extra))
    return found


class ManyPagesTest(unittest.TestCase):
    @settings(deadline=None)
    @given(st.lists(listings(), min_size=1, max_size=6))
    def test_they_hold_what_each_holds(self, each: list[list[Entry]]) -> None:
        many = ManyPages([Page(encode_page(listing)) for listing in each])
        entries = [entry for listing in each for entry in listing]
        self.assertEqual(many.counts, [len(listing) for listing in each])
        self.assertEqual(many.names, [entry.name for entry in entries])
        self.assertEqual(many.kinds, "".join([entry.kind for entry in entries]))
        self.assertEqual(many.sizes, [entry.stat.size for entry in entries])
        self.assertEqual(many.modified, [entry.stat.modified for entry in entries])
        self.assertEqual(many.digests, [entry.digest for entry in entries])
        self.assertEqual(
            many.extras(),
            {at: entry.extra for at, entry in enumerate(entries) if entry.extra is not NOTHING_EXTRA},
        )
        self.assertEqual(
            many.folders(), {at: entry.pages for at, entry in enumerate(entries) if entry.kind is Kind.FOLDER}
        )
        self.assertEqual(
            list(zip(*many.wholes(LARGEST_WHOLE), strict=True)),
            [
                (entry.extents[0].chunk, entry.extents[0].offset)
                if entry.kind is Kind.FILE and len(entry.extents) == 1 and entry.stat.size <= LARGEST_WHOLE
                else (None, None)
                for entry in entries
            ],
        )

    @settings(deadline=None)
    @given(st.lists(listings(), min_size=1, max_size=3), st.data())
    def test_changed_bytes_are_damage_or_another_listing_but_nothing_else(
        self, each: list[list[Entry]], data: st.DataObject
    ) -> None:
        pages = [bytearray(encode_page(listing)) for listing in each]
        raw = data.draw(st.sampled_from(pages))
        raw[data.draw(st.integers(0, len(raw) - 1))] ^= data.draw(st.integers(1, 255))
        try:
            many = ManyPages([Page(bytes(page)) for page in pages])
            many.wholes(LARGEST_WHOLE)
            many.folders()
            many.extras()
        except DamageError:
            return
        self.assertEqual(sum(many.counts), len(many.names))

    def test_what_a_page_says_of_entries_that_it_has_not_is_said_of_none(self) -> None:
        page = msgspec.msgpack.decode(encode_page([Entry(b"a", Kind.LINK), Entry(b"b", Kind.LINK)]))
        page[-1] = {-1: Extra(target=b"x"), 2: Extra(target=b"y")}
        pages = [Page(encode_page([Entry(b"c", Kind.LINK)])), Page(msgspec.msgpack.encode(page))]
        self.assertEqual(ManyPages(pages).extras(), {})
        self.assertEqual([entry.extra for entry in pages[1].entries()], [NOTHING_EXTRA, NOTHING_EXTRA])

    def test_a_folder_that_lies_where_no_page_can_is_damage(self) -> None:
        for own in (Extent(CHUNKS[0], 2**32, 9), Extent(CHUNKS[0], 0, 2**32)):
            folder = Entry(b"a", Kind.FOLDER, extents=(own,))
            page = Page(encode_page([folder]))
            for ask in (ManyPages([page]).folders, page.sub_folders, lambda folder=folder: folder.pages):
                with self.subTest(own=own), self.assertRaises(DamageError):
                    ask()
