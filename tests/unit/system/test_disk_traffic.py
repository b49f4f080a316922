"""What other programs move on a disk."""

from __future__ import annotations

import os
from pathlib import Path
from unittest import mock

from good_tide.system.disk_traffic import DiskTraffic
from tests.support.base import GoodTideTest


class DiskTrafficTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        number = os.stat(self.work).st_dev
        self.disk = self.folder / "devices" / "disk"
        part = self.disk / "part"
        part.mkdir(parents=True)
        (part / "partition").write_text("1\n")
        (part / "stat").write_text("0 0 0 0 0 0 0\n")
        self.blocks, self.own = self.folder / "block", self.folder / "io"
        self.blocks.mkdir()
        (self.blocks / f"{os.major(number)}:{os.minor(number)}").symlink_to(part)

    def move(self, read: int, written: int, own: int) -> None:
        """So many sectors so far, and so many bytes of this process."""
        (self.disk / "stat").write_text(f"  9 0 {read} 5 9 0 {written} 7 0 0 0\n")
        self.own.write_text(f"rchar: 1\nread_bytes: {own}\nwrite_bytes: 0\ncancelled_write_bytes: 0\n")

    def traffic(self) -> DiskTraffic:
        return DiskTraffic(self.work, self.blocks, self.own)

    def test_others_on_the_whole_disk_count_and_this_process_does_not(self) -> None:
        with mock.patch("good_tide.system.disk_traffic.time.monotonic", side_effect=[0.0, 2.0, 4.0]):
            self.move(100, 100, 5000)
            traffic = self.traffic()
            self.move(1100, 3100, 5000 + 512_000)
            self.assertEqual(traffic.others(), 768_000)
            self.assertEqual(traffic.others(), 0)

    def test_where_nothing_is_told_nobody_works(self) -> None:
        self.assertEqual(self.traffic().others(), 0, "no statistics of this process")
        self.move(1, 1, 1)
        traffic = self.traffic()
        (self.disk / "stat").write_text("gone\n")
        self.assertEqual(traffic.others(), 0)
        self.assertEqual(DiskTraffic(Path("/nonexistent")).others(), 0)
        self.assertEqual(DiskTraffic(self.work, self.folder / "none").others(), 0)

    def test_the_system_itself(self) -> None:
        self.assertGreaterEqual(DiskTraffic(self.work).others(), 0)
