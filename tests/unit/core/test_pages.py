"""Values and rules, without files."""

from __future__ import annotations

import contextlib
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.entries import Entry, Extent, Extra, Kind, Stat
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.core.pages import Page, encode_page, paginate

names = st.binary(min_size=1, max_size=12).filter(
    lambda name: b"/" not in name and b"\0" not in name and name not in (b".", b"..")
)


extents = st.builds(
    Extent,
    st.none() | st.binary(min_size=32, max_size=32).map(ChunkId),
    st.integers(0, 2**40),
    st.integers(0, 2**40),
)


stats = st.builds(
    Stat,
    st.integers(0, 0o7777),
    *[st.integers(0, 2**32 - 1)] * 2,
    st.integers(0, 2**60),
    *[st.integers(-(2**60), 2**60)] * 2,
    st.integers(0, 2**62),
)


extras = st.builds(
    Extra,
    st.binary(max_size=9).filter(lambda target: b"\0" not in target),
    st.lists(st.tuples(names, st.binary(max_size=4)), max_size=2).map(tuple),
    st.none() | st.tuples(st.integers(0, 9), st.integers(0, 9)),
    st.booleans(),
)


def entry(name: bytes, kind: Kind, stat: Stat, parts: tuple[Extent, ...], extra: Extra) -> Entry:
    digest = ContentDigest(bytes(16)) if kind is Kind.FILE else ContentDigest(b"")
    return Entry(name, kind, stat, digest, parts, extra)


entries = st.lists(
    st.builds(entry, names, st.sampled_from(Kind), stats, st.lists(extents, max_size=3).map(tuple), extras),
    max_size=12,
    unique_by=lambda one: one.name,
).map(lambda found: sorted(found, key=lambda one: one.name))


class PageTest(unittest.TestCase):
    @settings(deadline=None)
    @given(entries)
    def test_what_was_encoded_comes_back(self, listing: list[Entry]) -> None:
        self.assertEqual(Page(encode_page(listing)).entries(), listing)

    @settings(deadline=None)
    @given(entries, st.data())
    def test_changed_bytes_are_damage_or_another_listing_but_nothing_else(
        self, listing: list[Entry], data: st.DataObject
    ) -> None:
        raw = bytearray(encode_page(listing))
        at = data.draw(st.integers(0, len(raw) - 1))
        raw[at] ^= data.draw(st.integers(1, 255))
        with contextlib.suppress(DamageError):
            Page(bytes(raw)).entries()

    @given(entries, st.data())
    def test_metadata_are_the_same_when_and_only_when_every_number_is(
        self, listing: list[Entry], data: st.DataObject
    ) -> None:
        page = Page(encode_page(listing))
        seen = page.stats.copy()
        self.assertTrue(page.has_stats(seen))
        if listing:
            row, column = data.draw(st.integers(0, len(listing) - 1)), data.draw(st.integers(0, 6))
            seen[row, column] ^= 1 << data.draw(st.integers(0, 62))
            self.assertFalse(page.has_stats(seen))

    def test_names_that_lead_elsewhere_are_refused(self) -> None:
        for bad in (b"..", b".", b"", b"a/b", b"/etc"):
            with self.subTest(bad), self.assertRaises(DamageError):
                Page(encode_page([Entry(bad, Kind.LINK)]))
        with self.assertRaises(DamageError):
            Page(encode_page([Entry(b"/a/../b", Kind.FOLDER)]), rooted=True)
        with self.assertRaises(DamageError):
            Page(encode_page([Entry(b"b", Kind.LINK), Entry(b"a", Kind.LINK)]))
        with self.assertRaises(DamageError):
            Page(encode_page([Entry(b"a", Kind.LINK), Entry(b"a", Kind.LINK)]))

    def test_one_changed_name_changes_one_page_of_a_large_folder(self) -> None:
        listing = [Entry(b"file %06d" % number, Kind.LINK) for number in range(20_000)]
        before = {encode_page(page) for page in paginate(listing)}
        after = {
            encode_page(page)
            for page in paginate(
                sorted([*listing, Entry(b"file 010000a", Kind.LINK)], key=lambda one: one.name)
            )
        }
        self.assertGreater(len(before), 10)
        self.assertLessEqual(len(after - before), 2)
