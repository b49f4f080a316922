"""Disks as places for stores: recognised, checked, found again; job files; who may read."""

from __future__ import annotations

import msgspec

from good_tide.core.identifiers import StoreId
from good_tide.core.places import FoundStore, Level, Wanted, check_place, worst
from good_tide.operations.stores.disks import best_disk
from tests.support.base import GoodTideTest
from tests.support.disk_facts import GIB, GOOD, MINE


class CheckTest(GoodTideTest):
    def test_each_thing_that_speaks_against_a_place_is_told_with_a_way_out(self) -> None:
        change, store = (
            msgspec.structs.replace,
            FoundStore("/media/pier/s", StoreId("00"), True, "unknown", 3),
        )
        for name, disk, wanted, level, words in (
            ("all well", GOOD, MINE, Level.GOOD, "another physical disk"),
            (
                "same disk",
                change(GOOD, devices=frozenset(("sda",))),
                MINE,
                Level.DOUBTFUL,
                "same physical disk",
            ),
            (
                "unknown disk",
                change(GOOD, devices=frozenset()),
                MINE,
                Level.DOUBTFUL,
                "does not tell on which physical disk",
            ),
            ("too small", change(GOOD, free=5 * GIB), MINE, Level.BAD, "Too small"),
            ("tight", change(GOOD, free=15 * GIB), MINE, Level.DOUBTFUL, "Less than twice"),
            ("full", change(GOOD, free=0), Wanted(), Level.BAD, "no room left"),
            ("not mine", change(GOOD, writable=False), MINE, Level.BAD, "may not write"),
            ("read-only", change(GOOD, read_only=True), MINE, Level.BAD, "read-only"),
            ("disc image", change(GOOD, file_system="iso9660"), MINE, Level.BAD, "cannot be changed"),
            ("memory", change(GOOD, file_system="tmpfs"), MINE, Level.BAD, "is memory"),
            ("small files only", change(GOOD, file_system="vfat"), MINE, Level.DOUBTFUL, "files above 4 GB"),
            ("of nobody", change(GOOD, file_system="fuse.x"), MINE, Level.DOUBTFUL, "in order is not known"),
            ("no journal", change(GOOD, file_system="exfat"), MINE, Level.DOUBTFUL, "no journal"),
            (
                "unknown file system",
                change(GOOD, file_system=""),
                MINE,
                Level.DOUBTFUL,
                "does not tell its file system",
            ),
            ("slow", GOOD, change(MINE, speed=4.0), Level.DOUBTFUL, "Slow"),
            ("very slow", GOOD, change(MINE, speed=0.4), Level.DOUBTFUL, "Very slow"),
            (
                "answers badly",
                change(GOOD, answer_seconds=1.4),
                MINE,
                Level.DOUBTFUL,
                "answers slowly: 1.4 s",
            ),
            ("hangs", change(GOOD, answers=False), MINE, Level.BAD, "does not answer"),
            (
                "often away",
                change(GOOD, removable=True),
                change(MINE, times_away=5),
                Level.DOUBTFUL,
                "went away 5 times",
            ),
            ("a store", change(GOOD, stores=(store,)), MINE, Level.GOOD, "only its passphrase tells"),
            (
                "own store",
                change(GOOD, stores=(change(store, whose="this"),)),
                MINE,
                Level.GOOD,
                "of this machine with 3 snapshots",
            ),
            (
                "newer store",
                change(GOOD, stores=(change(store, whose="newer"),)),
                MINE,
                Level.DOUBTFUL,
                "newer version",
            ),
        ):
            with self.subTest(name):
                checks = check_place(disk, wanted)
                self.assertEqual(worst(checks), level)
                found = next((check for check in checks if words in check.what), None)
                self.assertIsNotNone(found, [check.what for check in checks])
                if level is not Level.GOOD:
                    self.assertTrue(found is not None and found.way_out)
                    self.assertIs(checks[0].level, level)

    def test_the_best_disk_has_no_bad_check_and_fewest_doubts(self) -> None:
        change = msgspec.structs.replace
        small, inside = (
            change(GOOD, id="a", free=GIB),
            change(GOOD, id="b", kind="internal", devices=MINE.devices),
        )
        share = change(GOOD, id="c", kind="network", file_system="nfs4", devices=frozenset())
        self.assertEqual(best_disk([small, inside, share, GOOD], MINE), GOOD)
        self.assertEqual(best_disk([small, inside, share], MINE), share)
        self.assertIsNone(best_disk([small], MINE))
