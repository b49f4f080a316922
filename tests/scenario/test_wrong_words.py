"""Words that cannot be meant are refused with a sentence and the code of a wrong usage, and change nothing;
the codes are the same whatever the command."""

from __future__ import annotations

import json
import os
import subprocess
import sys

from tests.support.base import GoodTideTest, program

WORDS = "harbour lantern slow curtain"

LOOKING: tuple[tuple[str, ...], ...] = (
    ("history", "--store", "STORE"),
    ("contents", "--store", "STORE", "latest"),
    ("versions", "--store", "STORE", "/x"),
    ("show", "--store", "STORE", "latest", "/x"),
    ("find", "STORE", "x"),
    ("differences", "--store", "STORE", "latest", "now"),
    ("restore", "--store", "STORE", "--snapshot", "latest", "--all", "--into", "OUT"),
    ("verify", "--store", "STORE"),
    ("repair", "STORE"),
    ("prove", "STORE"),
    ("release", "STORE", "latest"),
    ("pin", "STORE", "latest"),
    ("sweep", "STORE"),
    ("room", "STORE"),
    ("purge", "STORE", "/x"),
    ("store", "carry", "STORE", "OUT"),
    ("job", "take-over", "STORE"),
    ("snapshot", "--store", "STORE", "--folder", "WORK"),
)
"""Every command that opens a store."""


class WrongWordsTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "plan")
        self.secret = self.folder / "secret"
        self.secret.write_text(WORDS)
        self.store = self.folder / "store"
        program("store", "create", self.store, passphrase=self.secret)
        program("snapshot", "--store", self.store, "--folder", self.work, passphrase=self.secret)

    def count(self) -> int:
        done = program("history", "--store", self.store, "--json", passphrase=self.secret)
        return len(json.loads(done.stdout)["snapshots"])

    def test_what_cannot_be_meant(self) -> None:
        take = ("snapshot", "--store", self.store, "--folder", self.work)
        back = ("restore", "--store", self.store, "--all", "--snapshot")
        open_store = self.folder / "another"
        for words, said in (
            ((*take, "--at", "0001-01-01"), "no snapshot has"),
            ((*take, "--at", "9999-12-31"), "no snapshot has"),
            ((*take, "--at", "2199-01-01"), "more than a day ahead"),
            ((*take, "--label", "x" * 5000), "5,000 characters"),
            ((*take, "--label", "a\033[31mb"), "cannot be shown"),
            ((*back, "latest", "--into", ""), "is empty"),
            ((*back, "0001-01-01", "--into", self.folder / "o"), "No snapshot is called"),
            (("job", "add", "", "--folder", self.work, "--store", open_store, "--unencrypted"), "no name"),
            (
                ("job", "add", "a\tb", "--folder", self.work, "--store", open_store, "--unencrypted"),
                "cannot be shown",
            ),
            (("pause", "--for", "999999999h"), "longer than a pause"),
            (
                ("release", self.store, "--since", "2026-05-01", "--before", "2026-01-01"),
                "nothing is between",
            ),
            (("store", "slots", self.store, "--revoke", "1"), "only passphrase"),
        ):
            with self.subTest(words[0], said=said):
                done = program(*words, passphrase=None if words[0] in ("job", "pause") else self.secret)
                self.assertEqual(done.returncode, 2, done.stdout + done.stderr)
                self.assertIn(said, done.stderr.replace("\n", " "))
                self.assertNotIn("Traceback", done.stderr)
        self.assertEqual(self.count(), 1)
        self.assertFalse(open_store.exists())
        self.assertEqual(program("status").returncode, 2, "there is no job")

    def test_sizes_in_a_job_file_that_can_be_none(self) -> None:
        for line, said in (
            ("[room]\nlimit_bytes = -5", "room.limit_bytes"),
            ("[room]\nlimit_part = 7.0", "room.limit_part"),
            ("[holding]\nlimit_bytes = -1", "holding.limit_bytes"),
        ):
            file = self.folder / "job.toml"
            file.write_text(
                f'format = 1\nname = "X"\nfolders = ["{self.work}"]\n{line}\n'
                f'[[store]]\npath = "{self.folder / "new"}"\nencrypted = false\n'
            )
            with self.subTest(said):
                done = program("job", "load", file)
                self.assertEqual(done.returncode, 2, done.stdout)
                self.assertIn(said, done.stderr)
        self.assertFalse((self.folder / "new").exists())

    def test_every_command_ends_alike_in_the_same_state(self) -> None:
        plain = self.folder / "plain"
        plain.mkdir()
        for where, code, said in (
            ("/nowhere/at/all", 3, "There is no folder"),
            (str(plain), 3, "There is no store"),
            (str(self.store), 2, "Give --passphrase-file"),
        ):
            for words in LOOKING:
                named = {"STORE": where, "OUT": str(self.folder / "out"), "WORK": str(self.work)}
                with self.subTest(words[0], where=where):
                    done = program(*(named.get(word, word) for word in words))
                    self.assertEqual(done.returncode, code, done.stderr)
                    self.assertIn(said, done.stderr.replace("\n", " "))

    def test_errors_are_json_too(self) -> None:
        for words, code in (
            (("history", "--store", "/nowhere", "--json"), 3),
            (("history", "--sture", "/nowhere", "--json"), 2),
            (("snapshot", "--at", "x", "--json"), 2),
        ):
            done = program(*words)
            found = json.loads(done.stderr.strip().splitlines()[-1])
            self.assertEqual((done.returncode, found["code"]), (code, code))
            self.assertTrue(found["error"])

    def test_closed_and_other_output(self) -> None:
        command = (
            f"{sys.executable} -m good_tide history --store {self.store} --passphrase-file {self.secret}"
        )
        for shell in (f"{command} >&-", f"LC_ALL=C PYTHONUTF8=0 PYTHONIOENCODING=ascii {command}"):
            done = subprocess.run(["sh", "-c", shell], capture_output=True, text=True, check=False)
            self.assertNotIn("Traceback", done.stderr, shell)
        self.assertTrue(os.path.isdir(self.store))
