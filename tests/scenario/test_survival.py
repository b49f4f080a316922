"""What happens to a workstation: kills, pulls, power cuts."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from typing import Any

from tests.support.base import REPOSITORY, GoodTideTest


class SurvivalTest(GoodTideTest):
    def live(self, *words: str, seconds: float) -> dict[str, Any]:
        command = [sys.executable, "-m", "tests.support.survival", words[0], str(self.folder), *words[1:]]
        done = subprocess.run(
            command,
            capture_output=True,
            text=True,
            timeout=seconds,
            check=False,
            cwd=REPOSITORY,
            env=os.environ,
        )
        self.assertEqual(done.returncode, 0, done.stderr[-4000:])
        return dict(json.loads(done.stdout))

    def test_killed_a_hundred_times_during_runs(self) -> None:
        found = self.live("kills", "100", seconds=1800)
        self.assertEqual((found["killed"], found["whole"]), (100, True))
        self.assertGreater(found["cut off"], 20)

    def test_a_day_with_changes_pulls_and_power_cuts(self) -> None:
        found = self.live("day", seconds=1800)
        self.assertEqual(
            (found["missing"], found["doubled"], found["left in the holding area"], found["whole"]),
            (0, 0, 0, True),
            found,
        )
        self.assertGreater(min(found["power cuts"], found["pulls"], found["pulls in a run"]), 2, found)
        self.assertGreater(found["versions"], 150)
