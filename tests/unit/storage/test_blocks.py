"""Small files joined into blocks: the same blocks, whether they come one by one or many at once."""

from __future__ import annotations

import random
import unittest
from collections import Counter
from collections.abc import Sequence
from typing import cast
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.columns import encode_short
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.operations.snapshot import known_contents
from good_tide.operations.snapshot.known_contents import KnownContents
from good_tide.storage.blocks import BlockBuilder, Laid, nearest_first
from good_tide.storage.content import Part
from good_tide.storage.writer import Ticket, WriteSession

KIB = 1024
files = st.lists(
    st.tuples(
        st.sampled_from((1, 100, KIB, 30 * KIB, 64 * KIB)), st.sampled_from((0, 1, 63, 64, 127, 128, 200))
    ),
    max_size=120,
)


class Blocks:
    """Takes blocks as a session does."""

    def __init__(self) -> None:
        self.taken: dict[Ticket, bytes] = {}

    def put(self, plain: bytes, *, ticket: Ticket, near: Sequence[ChunkId]) -> None:
        self.taken[ticket] = plain


def contents_of(made: list[tuple[int, int]]) -> tuple[list[bytes], list[bytes]]:
    """Contents of these sizes, and digests that begin with these bytes."""
    contents = [
        number.to_bytes(2, "big") * (size // 2) + b"." * (size % 2) for number, (size, _) in enumerate(made)
    ]
    return contents, [bytes([first]) + number.to_bytes(15, "big") for number, (_, first) in enumerate(made)]


class BlocksTest(unittest.TestCase):
    @settings(deadline=None, max_examples=60)
    @given(st.lists(files, max_size=4), st.sampled_from((1024 * KIB, 100 * KIB, 10 * KIB)))
    def test_many_at_once_are_laid_as_one_by_one(self, calls: list[list[tuple[int, int]]], most: int) -> None:
        one, many = Blocks(), Blocks()
        by_one = BlockBuilder(cast("WriteSession", one), most)
        at_once = BlockBuilder(cast("WriteSession", many), most)
        for made in calls:
            contents, digests = contents_of(made)
            expected = [
                by_one.add(content, ContentDigest(digest))
                for content, digest in zip(contents, digests, strict=True)
            ]
            laid = at_once.add_all(contents, digests)
            self.assertEqual(sum(own.files for own in laid), len(contents))
            self.assertEqual([part.offset for part in expected], offsets_of(laid, contents))
        by_one.flush()
        at_once.flush()
        self.assertEqual(list(one.taken.values()), list(many.taken.values()))

    def test_what_holds_little_is_not_leaned_on(self) -> None:
        first, second, third, fourth = (ChunkId(bytes([number]) * 32) for number in range(4))
        for near, expected in (
            ({}, []),
            ({first: 0}, [first]),
            ({first: 100, second: 2, third: 1}, [first]),
            ({second: 4, first: 100, third: 1}, [first, second]),
            ({third: 50, first: 51, second: 2, fourth: 2}, [first, third, second]),
        ):
            with self.subTest(sizes=list(near.values())):
                self.assertEqual(nearest_first(Counter(near)), expected)


def offsets_of(laid: list[Laid], contents: list[bytes]) -> list[int]:
    """Where each file begins in its block."""
    left, found = iter(contents), []
    for own in laid:
        at = own.offset
        for _ in range(own.files):
            found.append(at)
            at += len(next(left))
    return found


class KnownContentsTest(unittest.TestCase):
    def test_of_many_contents_each_is_known_once(self) -> None:
        chance = random.Random(2)
        known, ticket = KnownContents(), Ticket()
        with mock.patch.object(known_contents, "_MOST_LOOSE", 50):
            met: dict[bytes, int] = {}
            for _ in range(40):
                digests = [chance.randrange(600).to_bytes(16, "big") for _ in range(chance.randrange(30))]
                new = known.new(digests)
                fresh = [digest for digest in dict.fromkeys(digests) if digest not in met]
                self.assertEqual([digests[at] for at in new], fresh)
                if fresh:
                    laid = [Laid(ticket, len(fresh), 10 * len(met))]
                    met |= {digest: 10 * (len(met) + at) for at, digest in enumerate(fresh)}
                    known.note_laid(fresh, [bytes(10)] * len(fresh), laid)
                (page,) = known.of_pages(digests, [len(digests)])
                self.assertEqual(
                    [part.offset for (part,) in page.parts()], [met[digest] for digest in digests]
                )
                self.assertEqual(page.offsets, encode_short([met[digest] for digest in digests]))
            for digest, offset in met.items():
                self.assertEqual([part.offset for part in known.get(digest) or ()], [offset])

    def test_what_files_lie_in_is_known_page_by_page(self) -> None:
        for most in (1 << 18, 4, 1):  # one by one, and laid together
            with self.subTest(most=most), mock.patch.object(known_contents, "_MOST_LOOSE", most):
                self.try_page_by_page()

    def try_page_by_page(self) -> None:
        blocks = Blocks()
        builder = BlockBuilder(cast("WriteSession", blocks), 100 * KIB)
        known = KnownContents()
        made = [(KIB, 1), (2 * KIB, 1), (60 * KIB, 1), (60 * KIB, 1), (100, 1)]
        contents, digests = contents_of(made)
        twice = [*digests, digests[0], digests[4]]
        new = known.new(twice)
        self.assertEqual(list(new), [0, 1, 2, 3, 4])
        known.note_laid(digests, contents, builder.add_all(contents, digests))
        self.assertEqual(list(known.new([digests[1], b"n" * 16, b"n" * 16])), [1])
        pieces = (Part(Ticket(), 3, 4), Part(None, 0, 9))
        known.note(b"p" * 16, pieces)
        builder.flush()
        pages = known.of_pages([*twice, b"p" * 16], [2, 0, 3, 2, 1])
        self.assertEqual(
            [page.ticket is not None for page in pages],
            [True, False, False, False, False],
            "all in one block",
        )
        self.assertEqual(pages[4].parts(), [pieces])
        self.assertEqual((known.get(b"p" * 16), known.get(b"n" * 16)), (pieces, None))
        (part,) = known.get(digests[3]) or ()
        self.assertEqual((part.offset, part.length), (0, 60 * KIB))
        laid = [part for page in pages[:4] for (part,) in page.parts()]
        for part, content in zip(laid, [*contents, contents[0], contents[4]], strict=True):
            assert isinstance(part, Part) and part.ticket is not None
            self.assertEqual(blocks.taken[part.ticket][part.offset : part.offset + part.length], content)
        self.assertEqual(len({part.ticket for part in laid if isinstance(part, Part)}), 2)
