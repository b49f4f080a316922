"""Values and rules, without files."""

from __future__ import annotations

import contextlib
import unittest

import msgspec
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.columns import decode_column, encode_columns
from good_tide.core.comparing import compare_lines
from good_tide.core.entries import Entry, Extent, Extra, Kind, Stat
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import ChunkId, ContentDigest, MachineId
from good_tide.core.pages import Page, encode_page, paginate
from good_tide.core.progress import WorkKind
from good_tide.core.records import Machine, SnapshotRecord
from good_tide.core.selection import parse_period, parse_time
from good_tide.core.status import JobFacts, Mood, StoreState, status
from good_tide.core.words import duration_words, iso, iso_all, printable, size_words, time_words
from tests.base import HOUR, T0, GoodTideTest

int64 = st.integers(-(2**63), 2**63 - 1)
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


class ColumnTest(unittest.TestCase):
    @given(st.lists(int64, max_size=40))
    def test_what_was_encoded_comes_back(self, values: list[int]) -> None:
        column = encode_columns([values])[0]
        self.assertEqual(decode_column(column, len(values)).tolist(), values)

    def test_steady_values_take_few_bytes(self) -> None:
        column = encode_columns(np.arange(1000, dtype=np.int64).reshape(1, -1) + 10**18)[0]
        self.assertLessEqual(len(column), 8001)
        self.assertEqual(encode_columns([[7] * 1000])[0][0], 1)

    def test_wrong_lengths_are_damage(self) -> None:
        for name, data, count in (
            ("empty", b"", 1),
            ("nine planes", b"\x09" + bytes(9), 1),
            ("cut", b"\x02\0\0\0", 2),
            ("long", b"\x01\0\0", 1),
        ):
            with self.subTest(name), self.assertRaises(DamageError):
                decode_column(data, count)


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


class SelectionTest(GoodTideTest):
    def test_a_time_names_the_whole_of_what_it_says(self) -> None:
        noon = parse_time("2026-11-17T12:00+01:00")
        for text, length in (
            ("2026-11-17T12:00:00.123456789+01:00", 1),
            ("2026-11-17T12:00:00.5+01:00", 10**8),
            ("2026-11-17T12:00:00+01:00", 10**9),
            ("2026-11-17T12:00+01:00", 60 * 10**9),
            ("2026-11-17T12+01:00", HOUR),
            ("2026-11-17", 24 * HOUR),
            ("2026-10-25", 25 * HOUR),
            ("2026-02", 28 * 24 * HOUR),
            ("20261117T120000Z", 10**9),
        ):
            with self.subTest(text):
                begin, end = parse_period(text)
                self.assertEqual((begin, end - begin), (parse_time(text), length))
        self.assertEqual(parse_period("2026-11-17T12:00:00.123456789+01:00")[0], noon + 123_456_789)

    def test_printed_times_name_only_themselves(self) -> None:
        times = [T0, T0 + 1, T0 + 999_999_999, T0 + 10**9, T0 + 5 * 10**9 + 7]
        for moment, text in zip(times, iso_all(times), strict=True):
            begin, end = parse_period(text)
            self.assertEqual([one for one in times if begin <= one < end], [moment], text)
        self.assertEqual(iso_all([T0 + 7]), [iso(T0)], "to the second, where that is enough")

    def test_local_time_follows_daylight_saving(self) -> None:
        summer, winter = parse_time("2026-10-24T12:00"), parse_time("2026-10-25T12:00")
        self.assertEqual(winter - summer, 25 * HOUR)


class WordsTest(GoodTideTest):
    def test_words(self) -> None:
        cases = (
            (size_words(14541), "14.2 KiB"),
            (size_words(0), "0 B"),
            (size_words(1023), "1023 B"),
            (duration_words(7500), "2 h 5 min"),
            (duration_words(59), "59 s"),
            (time_words(T0, T0 + HOUR), "today 16:13"),
            (time_words(T0, T0 + 24 * HOUR), "yesterday 16:13"),
            (time_words(T0, T0 + 72 * HOUR), "Mon 21 Sep, 16:13"),
            (printable(b"a\nb\xff"), "a\\nb\\xff"),
        )
        for shown, expected in cases:
            self.assertEqual(shown, expected)

    def test_difference(self) -> None:
        found = compare_lines(["a", "b", "x", "d"], ["a", "b", "c", "d"])
        self.assertEqual(found.lines, ((" ", "a"), (" ", "b"), ("-", "c"), ("+", "x"), (" ", "d")))
        self.assertEqual((found.changed, found.total), (1, 4))
        folded = compare_lines(
            [str(number) for number in range(50)] + ["new"], [str(number) for number in range(50)]
        )
        self.assertIn(("…", "48"), folded.lines)

    def test_status_is_never_better_than_the_facts(self) -> None:
        well = status(JobFacts(state=StoreState.READY, disk="Pier", last=T0, by_hand=True, free=10), T0 + 60)
        self.assertIs(well.mood, Mood.WELL)
        for state, last, gaps, now, mood in (
            (StoreState.READY, T0, 3, T0, Mood.ATTENTION),
            (StoreState.READY, T0, 0, T0 + 24 * 8 * HOUR, Mood.ATTENTION),
            (StoreState.AWAY, T0, 0, T0, Mood.ATTENTION),
            (StoreState.LOCKED, 0, 0, T0, Mood.ATTENTION),
            (StoreState.DAMAGED, 0, 0, T0, Mood.HARM),
            (StoreState.EMPTY, 0, 0, T0, Mood.ATTENTION),
            (StoreState.NO_JOB, 0, 0, T0, Mood.ATTENTION),
        ):
            with self.subTest(state=state, gaps=gaps):
                facts = JobFacts(
                    state=state,
                    disk="Pier",
                    last=last,
                    gaps=gaps,
                    away_since=T0 if state is StoreState.AWAY else 0,
                )
                self.assertIs(status(facts, now).mood, mood)
        self.assertIn(
            "paused",
            status(
                JobFacts(state=StoreState.READY, last=T0, working=WorkKind.SNAPSHOT, work_paused=True), T0
            ).sentence,
        )

    def test_records_survive_messagepack(self) -> None:
        record = SnapshotRecord(T0, Machine(MachineId("m"), "n"), b"roots", owners={"u0": "root"})
        self.assertEqual(msgspec.msgpack.decode(msgspec.msgpack.encode(record), type=SnapshotRecord), record)
