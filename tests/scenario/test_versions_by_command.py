"""The versions of a file by command: those under earlier names, what they say, how they differ."""

from __future__ import annotations

import json
import os
from pathlib import Path

from tests.support.base import GoodTideTest, program


class VersionsByCommandTest(GoodTideTest):
    def test_a_renamed_file_has_one_line_of_life(self) -> None:
        store = self.folder / "open"
        program("store", "create", store, "--unencrypted")
        self.write("old.txt", "one\n")
        program("snapshot", "--store", store, "--folder", self.work, "--at", "2026-01-05T10:00")
        (self.work / "old.txt").rename(self.work / "new.txt")
        program("snapshot", "--store", store, "--folder", self.work, "--at", "2026-01-05T11:00")
        self.write("new.txt", "two\n")
        program("snapshot", "--store", store, "--folder", self.work, "--at", "2026-01-05T12:00")
        words = ("versions", "--store", store, self.work / "new.txt")
        found = json.loads(program(*words, "--json").stdout)
        self.assertEqual(
            [os.path.basename(one["path"]) for one in found["versions"]], ["old.txt", "new.txt", "new.txt"]
        )
        first = found["versions"][0]
        shown = program("show", "--store", store, first["snapshot"], first["path"]).stdout
        self.assertEqual(shown, "one\n", "what is printed leads on")
        self.assertIn("called", program(*words).stdout)
        gone = program("versions", "--store", store, self.work / "old.txt")
        self.assertIn("goes on as", gone.stdout.replace("\n", " "))
        latest = ("show", "--store", store, "latest", self.work / "new.txt")
        self.assertEqual(program(*latest, "--text").stdout, "two\n")
        against = program(*latest, "--against", "2026-01-05T11:00").stdout
        self.assertIn("- one\n+ two\n", against)
        self.write("new.txt", "two\n")
        self.assertIn("The same as", program(*latest, "--against", "now").stdout)

    def test_in_which_versions_a_phrase_stands(self) -> None:
        store = self.folder / "open"
        program("store", "create", store, "--unencrypted")
        path: Path = self.work / "letter.txt"
        for number, at in enumerate(("2026-01-05T10:00", "2026-01-05T11:00")):
            self.write("letter.txt", f"act {number}")
            program("snapshot", "--store", store, "--folder", self.work, "--at", at)
        words = ("versions", "--store", store, path, "--containing", "ACT 1")
        found = json.loads(program(*words, "--json").stdout)["versions"]
        self.assertEqual([one["contains"] for one in found], [False, True])
        self.assertIn("Says it", program(*words).stdout)
        plain = json.loads(program("versions", "--store", store, path, "--json").stdout)["versions"]
        self.assertNotIn("contains", plain[0])
