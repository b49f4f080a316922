"""What is known of a server's folder for a moment: asked for together and ahead, and never believed for
longer than it may be."""

from __future__ import annotations

import unittest
from collections import Counter
from collections.abc import Callable
from typing import cast
from unittest import mock

from good_tide.lines.client import Line, LineError
from good_tide.lines.wire import Call, Failed, Found, Read, Tree, Trouble
from good_tide.storage import server_cache
from good_tide.storage.server_cache import ServerCache


class _Line:
    """A server in memory that counts what it is asked."""

    def __init__(self, files: dict[str, bytes]) -> None:
        self.files, self.asked = files, Counter[str]()

    def ask(self, call: Call[object]) -> object:
        return self.begin(call)()

    def begin(self, call: Call[object]) -> Callable[[], object]:
        self.asked[f"{type(call).__name__} {getattr(call, 'folder', getattr(call, 'name', ''))}"] += 1
        if isinstance(call, Tree):
            begin = f"{call.folder}/"
            found = [
                Found(name.removeprefix(begin), len(data))
                for name, data in sorted(self.files.items())
                if name.startswith(begin)
            ]
            return lambda: found
        assert isinstance(call, Read)
        data = self.files.get(call.name)
        end = None if call.length is None else call.offset + call.length

        def read() -> bytes:
            if data is None:
                raise LineError(Failed(1, Trouble.MISSING))
            return data[call.offset : end]

        return read


class ServerCacheTest(unittest.TestCase):
    def setUp(self) -> None:
        self.line = _Line({f"snapshots/{number:02}": b"%d" % number for number in range(40)})
        self.line.files["packs/a/x"] = bytes(range(256)) * 40_000
        self.cache = ServerCache(cast(Line, self.line))

    def names(self) -> list[str]:
        return [one.name for one in self.cache.files("snapshots")]

    def test_folders_are_listed_together_and_anew_after_ones_own_write(self) -> None:
        self.assertEqual(len(self.names()), 40)
        self.cache.files("index")
        self.assertEqual((self.line.asked["Tree snapshots"], self.line.asked["Tree index"]), (1, 1))
        self.line.files["snapshots/99"] = b"another machine's"
        self.assertEqual(len(self.names()), 40)
        self.cache.changed("writers/mine")
        self.assertEqual(len(self.names()), 41)

    def test_what_was_published_before_a_mark_went_is_seen_by_who_looks_anew(self) -> None:
        begin = self.line.begin

        def between(call: Call[object]) -> Callable[[], object]:
            if (
                call == Tree("writers") and "writers/other" in self.line.files
            ):  # snapshots were listed already
                self.line.files["snapshots/99"] = b"another machine's"
                del self.line.files["writers/other"]
            return begin(call)

        self.line.files["writers/other"] = b""
        with mock.patch.object(self.line, "begin", between):
            self.assertEqual(self.cache.files("writers"), [])
            self.assertNotIn("99", self.names())
            self.cache.look_anew()
            self.assertIn("99", self.names())

    def test_what_is_removed_says_nothing_of_other_folders(self) -> None:
        self.names()
        self.cache.removed("writers/mine")
        self.names()
        self.assertEqual(self.line.asked["Tree snapshots"], 1)
        self.cache.removed("snapshots/00")
        self.names()
        self.assertEqual(self.line.asked["Tree snapshots"], 2)

    def test_what_was_asked_for_ahead_is_for_one_who_wants_to_know(self) -> None:
        self.cache.expect("packs")
        self.line.files["packs/b/y"] = b"another machine's"
        self.assertEqual([one.name for one in self.cache.files("packs")], ["a/x"])
        self.assertEqual(self.line.asked["Tree packs"], 1)
        self.assertEqual([one.name for one in self.cache.files("packs")], ["a/x", "b/y"])
        self.cache.expect("packs")
        with mock.patch.object(server_cache, "_EXPECTED_SECONDS", 0.0):
            self.cache.files("packs")
        self.assertEqual(self.line.asked["Tree packs"], 4)

    def test_a_listing_is_not_believed_for_long(self) -> None:
        self.names()
        self.line.files["snapshots/99"] = b"another machine's"
        with mock.patch.object(server_cache, "_LISTING_SECONDS", 0.0):
            self.assertEqual(len(self.names()), 41)

    def test_small_files_come_with_those_after_them(self) -> None:
        self.assertEqual(self.cache.small("snapshots/00"), b"0")
        self.assertEqual(self.line.asked["Read snapshots/20"], 1)
        self.assertEqual([self.cache.small(f"snapshots/{number:02}") for number in (20, 39)], [b"20", b"39"])
        self.assertEqual((self.line.asked["Read snapshots/20"], self.cache.small("snapshots/x")), (1, None))
        self.assertIsNone(self.cache.small("packs/a/x"))

    def test_parts_of_a_pack_are_what_it_holds_and_are_asked_for_ahead(self) -> None:
        pack = self.line.files["packs/a/x"]
        for at in range(0, len(pack), 100_001):
            self.assertEqual(self.cache.part("packs/a/x", at, 100_001), pack[at : at + 100_001])
        self.assertEqual(self.cache.part("packs/a/x", len(pack) + 5, 10), b"")
        self.line.files["packs/a/x"] = b"put right"
        self.cache.changed("packs/a/x")
        self.assertEqual(self.cache.part("packs/a/x", 0, 100), b"put right")

    def test_who_reads_a_store_back_later_does_not_read_this_memory(self) -> None:
        self.cache.part("packs/a/x", 0, 100)
        self.cache.small("snapshots/00")
        self.line.files["packs/a/x"] = self.line.files["snapshots/00"] = b"damaged there"
        self.assertNotEqual(self.cache.part("packs/a/x", 0, 100), b"damaged there")
        with mock.patch.object(server_cache, "_CONTENT_SECONDS", 0.0):
            self.assertEqual(self.cache.part("packs/a/x", 0, 100), b"damaged there")
            self.assertEqual(self.cache.small("snapshots/00"), b"d")  # as long as its listing said

    def test_what_could_not_be_read_is_asked_for_again(self) -> None:
        kept = self.line.files.pop("packs/a/x")
        with self.assertRaises(LineError):
            self.cache.part("packs/a/x", 0, 100)
        self.line.files["packs/a/x"] = kept
        self.assertEqual(self.cache.part("packs/a/x", 0, 100), kept[:100])
