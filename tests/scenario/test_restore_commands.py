"""Bringing back by command: how much of it, what differs, and what is left alone."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path
from unittest import mock

from tests.support.base import GoodTideTest, program


class RestoreCommandsTest(GoodTideTest):
    def test_how_much_is_brought_back(self) -> None:
        store = self.folder / "open"
        program("store", "create", store, "--unencrypted")
        shutil.rmtree(self.work)
        for name in ("one/a.txt", "two/b.txt"):
            self.write(name, name)
        folders = ("--folder", self.work / "one", "--folder", self.work / "two")
        program("snapshot", "--store", store, *folders)
        self.write("one/strange.txt", "x")
        (self.work / "two/b.txt").unlink()
        command = ("restore", "--store", store, "--snapshot", "latest", "--in-place", "--json")
        self.assertEqual(program(*command).returncode, 2, "nothing is named")
        self.assertEqual(program(*command, "--all", "--exactly", "--missing-only").returncode, 2)
        plan = json.loads(program(*command, "--all", "--exactly", "--plan").stdout)
        self.assertEqual((plan["created"], plan["strange"]), (1, 1))
        above = json.loads(program(*command, "--path", self.work, "--missing-only").stdout)
        self.assertEqual((above["created"], above["strange"]), (1, 0))
        said = program(*command[:-1], "--all", "--exactly")
        self.assertIn("1 thing that was not there then: set aside", said.stdout)
        self.assertEqual(sorted(path.name for path in (self.work / "one").iterdir())[-1], "a.txt")

    def test_this_programs_own_records_are_left_as_they_are(self) -> None:
        home = self.folder / "whole home"
        home.mkdir()
        places = {"CACHE": ".cache", "STATE": ".local/state", "DATA": ".local/share", "CONFIG": ".config"}
        inside = {f"XDG_{name}_HOME": str(home / place) for name, place in places.items()}
        self.enterContext(mock.patch.dict(os.environ, {"HOME": str(home), **inside}))
        (home / "letter.txt").write_text("then")
        store = self.folder / "open"
        program("job", "add", "Home", "--folder", home, "--store", store, "--unencrypted")
        self.assertEqual(program("snapshot", "Home").returncode, 0)
        (home / "letter.txt").write_text("now")
        (home / "strange.txt").write_text("now")
        self.assertEqual(program("status").returncode, 1)
        found = json.loads(program("differences", "--store", "Home", "latest", "now", "--json").stdout)
        told = [os.path.basename(one["path"]) for one in found["items"]]
        self.assertEqual(sorted(told), ["letter.txt", "strange.txt"])
        command = ("restore", "--store", "Home", "--snapshot", "latest", "--all", "--in-place", "--exactly")
        said = program(*command, "--json")
        report = json.loads(said.stdout)
        self.assertEqual((said.returncode, report["strange"], report["problems"]), (0, 1, []))
        self.assertEqual((home / "letter.txt").read_text(), "then")
        aside = {path.name for path in Path(report["set_aside"]).rglob("*")}
        self.assertEqual(aside, {"letter.txt", "strange.txt", "restore-record.jsonl"})
        again = program("restore", "--store", "Home", "--snapshot", "latest", "--all", "--in-place", "--plan")
        self.assertIn("own records stay as they are", again.stdout)

    def test_differences(self) -> None:
        store = self.folder / "open"
        program("store", "create", store, "--unencrypted")
        shutil.rmtree(self.work)
        self.write("a.txt", "a")
        self.write("b.txt", "b")
        take = ("snapshot", "--store", store, "--folder", self.work, "--at")
        for number, at in enumerate(("2026-01-05T10:00", "2026-01-05T11:00")):
            self.write("b.txt", f"b {number}")
            self.assertEqual(program(*take, at).returncode, 0)
        (self.work / "a.txt").rename(self.work / "another.txt")
        command = ("differences", "--store", store, "2026-01-05T10:00")
        found = json.loads(program(*command, "2026-01-05T11:00", "--json").stdout)
        self.assertEqual(set(found), {"then", "against", "counts", "items", "unclear"})
        (item,) = found["items"]
        self.assertEqual(
            set(item),
            {"path", "what", "type", "size_then", "size_against", "files", "moved_from"},
        )
        self.assertEqual((item["what"], found["counts"]["changed"]["files"]), ("changed", 1))
        now = json.loads(program(*command, "now", "--json").stdout)
        self.assertEqual(
            [(os.path.basename(one["path"]), one["what"]) for one in now["items"]],
            [("another.txt", "moved"), ("b.txt", "changed")],
        )
        said = program(*command, "now", self.work / "b.txt")
        self.assertIn("1 file changed", said.stdout)
        self.assertEqual(program(*command, "now", self.work / "never").returncode, 2)
