"""``good-tide import`` as people and scripts use it."""

from __future__ import annotations

import json
import os
import pty
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path
from typing import Any

from tests.support.base import GoodTideTest, as_ordinary_person, program


class DatedCopiesTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.folder / "store"
        self.done("store", "create", self.store, "--unencrypted")
        self.write("letter.txt", "of today")
        self.done("snapshot", self.store, "--folder", self.work)
        self.copies = self.folder / "copies"
        for day, words in (("2024-03-01", "the first"), ("2024-06-01", "the second")):
            (self.copies / day).mkdir(parents=True)
            (self.copies / day / "letter.txt").write_text(words)
        archive = self.copies / "2024-09-01.tar.gz"
        subprocess.run(["tar", "-C", self.copies / "2024-06-01", "-czf", archive, "."], check=True)

    def done(self, *words: str | Path, code: int = 0) -> str:
        ran = program(*words)
        self.assertEqual(ran.returncode, code, ran.stdout + ran.stderr)
        return ran.stdout if not code else ran.stderr

    def json(self, *words: str | Path) -> dict[str, Any]:
        return dict(json.loads(self.done(*words, "--json")))

    def times(self) -> list[str]:
        return [one["time"][:10] for one in self.json("history", self.store)["snapshots"]]

    def test_a_plan_then_the_copies(self) -> None:
        plan = self.json("import", self.store, self.copies, "--plan")
        self.assertEqual(set(plan), {"into", "copies", "undated"})
        self.assertEqual(plan["into"], str(self.work))
        self.assertEqual(
            set(plan["copies"][0]), {"copy", "top", "time", "files", "folders", "bytes", "there"}
        )
        refused = self.done("import", self.store, self.copies, code=2)
        self.assertIn("--yes", refused)
        self.assertEqual(len(self.times()), 1, "nothing was brought in by that")
        said = self.done("import", self.store, self.copies, "--yes")
        self.assertIn("3 copies brought in; the history has 4 snapshots now", said)
        self.assertEqual(self.times()[:3], ["2024-03-01", "2024-06-01", "2024-09-01"])
        versions = self.json("versions", self.store, self.work / "letter.txt")["versions"]
        self.assertEqual([one["size"] for one in versions], [9, 10, 8])
        self.assertIn("All is well", self.done("verify", self.store, "--read-all"))
        again = self.json("import", self.store, self.copies, "--yes")
        self.assertEqual([one["there"] for one in again["copies"]], [True] * 3)

    def test_pins_keep_them_unless_thinning_may_have_them(self) -> None:
        self.done("import", self.store, self.copies / "2024-03-01", "--yes")
        taken = self.json("import", self.store, self.copies / "2024-06-01", "--yes", "--may-thin")["taken"]
        pinned = self.json("pin", self.store)["pins"]
        self.assertEqual([one["label"] for one in pinned], ["2024-03-01"])
        self.assertEqual(len(taken), 1)

    def test_what_lost_its_pin_when_it_was_killed_gets_it(self) -> None:
        self.done("import", self.store, self.copies / "2024-03-01", "--yes", "--may-thin")
        self.done("import", self.store, self.copies / "2024-03-01", "--may-thin")
        self.assertEqual(self.json("pin", self.store)["pins"], [])
        said = self.done("import", self.store, self.copies / "2024-03-01")
        self.assertIn("1 copy that was there had no pin, and got one", said)
        self.assertEqual([one["label"] for one in self.json("pin", self.store)["pins"]], ["2024-03-01"])
        again = self.json("import", self.store, self.copies / "2024-03-01")
        self.assertEqual(again["taken"], [])

    def test_a_time_and_a_path_that_are_said(self) -> None:
        (self.copies / "2024-03-01").rename(self.copies / "old")
        old, inside = self.copies / "old", self.work / "sub"
        self.done("import", self.store, old, "--at", "2023-01-05 10:00", "--as", inside, "--yes")
        found = self.json("contents", self.store, "2023-01-05", inside)["entries"]
        self.assertEqual([one["path"] for one in found], [str(inside / "letter.txt")])

    def test_gaps_end_with_one(self) -> None:
        hidden = self.copies / "2024-03-01" / "hidden.txt"
        hidden.write_text("no")
        hidden.chmod(0)
        with as_ordinary_person() as prefix:
            words = ("import", self.store, self.copies / "2024-03-01", "--yes", "--json")
            ran = program(*words, prefix=prefix)
        self.assertEqual(ran.returncode, 1, ran.stderr)
        self.assertEqual(json.loads(ran.stdout)["taken"][0]["left_out"][0]["path"][-10:], "hidden.txt")

    def test_a_person_is_asked(self) -> None:
        for answer, count in ((b"n\n", 1), (b"y\n", 4)):
            ours, theirs = pty.openpty()
            command = [sys.executable, "-m", "good_tide", "import", str(self.store), str(self.copies)]
            with subprocess.Popen(command, stdin=theirs, stdout=theirs, stderr=theirs):
                os.close(theirs)
                os.write(ours, answer)
                said = b""
                try:
                    while piece := os.read(ours, 4096):
                        said += piece
                except OSError:  # the other end is closed
                    pass
            os.close(ours)
            self.assertIn(b"Bring them in?", said)
            self.assertNotIn(b"Traceback", said)
            self.assertEqual(len(self.times()), count)

    def test_killed_in_the_middle_it_is_begun_again(self) -> None:
        large = self.copies / "2024-06-01" / "large.bin"
        large.write_bytes(os.urandom(60_000_000))
        command = [sys.executable, "-m", "good_tide", "import", str(self.store), str(self.copies), "--yes"]
        with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as killed:
            assert killed.stdout is not None
            while "2024, 12:00: " not in killed.stdout.readline():
                self.assertIsNone(killed.poll())
            time.sleep(0.1)
            killed.send_signal(signal.SIGKILL)
        before = len(self.times())
        self.assertIn(before, (2, 3))
        self.done("import", self.store, self.copies, "--yes")
        self.assertEqual(len(self.times()), 4)
        self.assertIn("All is well", self.done("verify", self.store, "--read-all"))
        back = self.folder / "back"
        back.mkdir()
        wish = "--snapshot", "2024-06-01", "--path", self.work / "large.bin"
        self.done("restore", self.store, *wish, "--into", back)
        self.assertEqual((back / "large.bin").read_bytes(), large.read_bytes())


if __name__ == "__main__":
    unittest.main()
