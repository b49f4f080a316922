"""Disks as places for stores: recognised, checked, found again; job files; who may read."""

from __future__ import annotations

import json
import subprocess
import sys

from good_tide.system.udisks import drives
from tests.support.base import REPOSITORY, GoodTideTest


class DiskServiceTest(GoodTideTest):
    """The disk service on a private bus, played by a stand-in."""

    def test_names_come_over_the_bus_and_nothing_comes_without_it(self) -> None:
        self.assertEqual(drives("unix:path=/nowhere"), {})
        script = "from tests.support.stand_in_udisks import main; main()"
        done = subprocess.run(
            ["dbus-run-session", "--", sys.executable, "-c", script],
            cwd=REPOSITORY,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(
            json.loads(done.stdout),
            {"sdb": ["Harbour Works Buoy 2", True], "sdb1": ["Harbour Works Buoy 2", True]},
        )
