"""Disks as places for stores: recognised, checked, found again; job files; who may read."""

from __future__ import annotations

import os
import subprocess
import sys
import unittest
from pathlib import Path

from tests.support.base import GoodTideTest, program


class OrdinaryPersonTest(GoodTideTest):
    @unittest.skipUnless(os.geteuid() == 0, "another user needs root")
    def test_somebody_who_may_not_write_to_the_top_of_a_disk_may_write_to_their_home_on_it(self) -> None:
        home = Path(os.environ["HOME"])
        home.mkdir(parents=True)
        (home / "Documents").mkdir()
        (home / "Documents" / "a.txt").write_text("a")
        subprocess.run(["chown", "-R", "1000:1000", str(self.folder)], check=True)
        self.folder.chmod(0o755)
        prefix = ["setpriv", "--reuid=1000", "--regid=1000", "--clear-groups", "--"]
        if subprocess.run(
            [*prefix, sys.executable, "-c", "import good_tide"], capture_output=True, check=False
        ).returncode:
            self.skipTest("the Python of this checkout cannot be run by another user")
        disks = program("disks", "--json", prefix=prefix)
        self.assertEqual(disks.returncode, 0, disks.stderr)
        made = program(
            "job",
            "add",
            "Office",
            "--folder",
            home / "Documents",
            "--store",
            home / "good-tide" / "desk",
            "--unencrypted",
            prefix=prefix,
        )
        self.assertEqual(made.returncode, 0, made.stderr)
        refused = program(
            "job",
            "add",
            "Other",
            "--folder",
            home / "Documents",
            "--store",
            "/good-tide",
            "--unencrypted",
            prefix=prefix,
        )
        self.assertEqual(refused.returncode, 2)
        self.assertIn("You may not write here", refused.stderr)
