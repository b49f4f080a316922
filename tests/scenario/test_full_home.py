"""This machine's own disk, full or damaged, holds up no snapshot and no restore, and puts nothing wrong into
one: what is kept there for speed is done without, or made anew."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys

from tests.support.base import GoodTideTest


class FullHomeTest(GoodTideTest):
    """All of it, with a home on a small file system that is full."""

    def test_snapshots_and_restores_go_on(self) -> None:
        if os.geteuid() or shutil.which("unshare") is None:
            self.skipTest("needs root and unshare to mount a small file system")
        home, store = self.folder / "small home", self.folder / "store"
        home.mkdir()
        plan = self.write("plan.txt", "first")
        own = {
            name: str(home / name.lower())
            for name in os.environ
            if name == "HOME" or (name.startswith("XDG") and "RUNTIME" not in name)
        }
        script = f"""set -u; program="{sys.executable} -m good_tide"
            mount -t tmpfs -o size=3m small '{home}'
            $program job add Office --folder {self.work} --store {store} --unencrypted >/dev/null
            $program snapshot Office >/dev/null || exit 9
            dd if=/dev/zero of='{home}/fill' bs=4k 2>/dev/null
            echo second > {plan}
            $program snapshot Office; echo "snapshot: $?"
            $program versions --store {store} {plan} --json; echo "versions: $?"
            $program restore --store {store} --snapshot latest --path {plan} --into {self.folder}/into
            echo "restore: $?"
            for words in "thin Office --yes" "sweep {store}" "room {store} --by folder" \\
                "verify --store {store}"; do
                $program $words >/dev/null; echo "$words: $?"
            done
            $program job change Office --rename Wardrobe; echo "change: $?"
            $program status; $program job list """
        ran = subprocess.run(
            ["unshare", "-m", "bash", "-c", script],
            capture_output=True,
            text=True,
            check=False,
            env={**os.environ, **own},
        )
        for words in (
            "snapshot: 0",
            "versions: 0",
            "restore: 0",
            "thin Office --yes: 0",
            f"sweep {store}: 0",
            f"room {store} --by folder: 0",
        ):
            self.assertIn(words, ran.stdout, ran.stderr)
        self.assertIn("Free some room in your home folder", ran.stderr)
        self.assertNotIn("Traceback", ran.stderr)
        self.assertIn("change: 3", ran.stdout)
        self.assertIn("office.toml: No space left on device", ran.stderr)
        self.assertIn("Up to date: last snapshot", ran.stdout)
        self.assertEqual((self.folder / "into" / "plan.txt").read_text(), "second\n")
