"""The command line as a person meets it: asked for passphrases on a terminal, and answered in sentences and
tables."""

from __future__ import annotations

import os
import pty
import re
import select
import subprocess
import sys
import time
from pathlib import Path

from good_tide.agent.service import Agent
from good_tide.core.clock import SystemClock
from good_tide.operations.workplace import Workplace
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.starting import start_agent_early
from tests.support.base import MACHINE, GoodTideTest, open_store, program
from tests.support.stand_ins import quiet


class TerminalTest(GoodTideTest):
    def talk(self, *words: str | Path, answers: tuple[tuple[str, str], ...] = ()) -> tuple[int, str]:
        """Run a command on a terminal of its own; each answer is typed when its question appears."""
        master, slave = pty.openpty()
        command = [sys.executable, "-m", "good_tide", *map(str, words)]
        child = subprocess.Popen(
            command,
            stdin=slave,
            stdout=slave,
            stderr=slave,
            start_new_session=True,
            env={**os.environ, "TERM": "dumb", "COLUMNS": "80"},
        )
        os.close(slave)
        shown, waiting, until = b"", list(answers), time.monotonic() + 60
        while time.monotonic() < until:
            ready, _, _ = select.select([master], [], [], 0.1)
            if ready:
                try:
                    part = os.read(master, 65536)
                except OSError:
                    break
                shown += part
            if waiting and waiting[0][0].encode() in shown:
                question, answer = waiting.pop(0)
                shown = shown.replace(question.encode(), b"", 1)
                os.write(master, answer.encode() + b"\n")
            if not ready and child.poll() is not None:
                break
        code = child.wait()
        os.close(master)
        return code, shown.decode(errors="replace")

    def test_a_store_is_made_and_opened_with_what_is_typed(self) -> None:
        self.write("plan.txt", "first")
        store = self.folder / "store"
        twice = (("Passphrase for the new store", "low tide at noon"), ("The same again", "low tide at noon"))
        code, shown = self.talk("store", "create", store, "--hint", "noon", answers=twice)
        self.assertEqual(code, 0, shown)
        self.assertRegex(shown, r"Recovery key:\s+([0-9A-Z]{6}-){5}[0-9A-Z]{6}")
        self.assertNotIn("low tide", shown, "what is typed is not shown")
        code, shown = self.talk(
            "snapshot",
            "--store",
            store,
            "--folder",
            self.work,
            answers=(("(hint: noon)", "low tide at noon"),),
        )
        self.assertEqual(code, 0, shown)
        self.assertIn("Snapshot", shown)
        code, shown = self.talk("history", "--store", store, answers=(("(hint: noon)", "high tide"),))
        self.assertEqual(code, 3)
        self.assertIn("look at the hint", " ".join(shown.split()))
        change = (
            ("Passphrase or recovery key now", "low tide at noon"),
            ("New passphrase", "half past noon"),
            ("The same again", "half past noon"),
        )
        code, shown = self.talk("store", "passphrase", store, answers=change)
        self.assertEqual(code, 0, shown)
        self.assertEqual(len(open_store(store, "half past noon").snapshot_ids()), 1)

    def test_without_a_terminal_the_question_is_an_error_that_says_what_to_give(self) -> None:
        for words in (
            ("store", "create", self.folder / "s"),
            ("job", "add", "Office", "--folder", self.work, "--store", self.folder / "s"),
        ):
            done = program(*words)
            self.assertEqual(done.returncode, 2, done.stderr)
            self.assertIn("--passphrase-file", done.stderr)
        self.assertFalse((self.folder / "s" / "store.json").exists())

    def test_tables_and_sentences(self) -> None:
        self.write("plan.txt", "first")
        self.write("Drafts/old.txt", "draft")
        rules, store, rack = self.folder / "rules", self.folder / "store", self.folder / "rack"
        rules.write_text("exclude path Drafts/\nexclude kind video\n")
        self.assertEqual(
            program(
                "job",
                "add",
                "Office",
                "--folder",
                self.work,
                "--store",
                store,
                "--rules",
                rules,
                "--unencrypted",
            ).returncode,
            0,
        )
        for words, said in (
            (("job", "list"), r"Office +1 +2 +store"),
            (("job", "show", "Office"), r"1  exclude path Drafts/"),
            (("coverage", "Office"), r"In: +1 file, 5 B\nOut: 1 file, 5 B"),
            (
                ("coverage", "Office", "--why", self.work / "Drafts"),
                r"Out: rule 1, “exclude path Drafts/”, catches .*/Drafts\.",
            ),
            (("coverage", "Office", "--largest", "1"), r"5 B  .*plan\.txt"),
            (("snapshot",), r"Office, into store:\nSnapshot [0-9a-f]{12} of 1 file"),
            (("store", "slots", store), r"1  open"),
            (("stand-in", "add", "Mole", "--rack", rack), r"media/Mole"),
            (("stand-in", "list", "--rack", rack), r"Mole +external +plugged in"),
            (("disks",), r"\S"),
        ):
            with self.subTest(words[0]):
                done = program(*words)
                self.assertEqual(done.returncode, 0, done.stderr)
                self.assertIsNotNone(re.search(said, done.stdout), done.stdout)
        self.assertEqual(program("stand-in", "pull", "Mole", "--rack", rack).returncode, 0)
        self.assertEqual(program("stand-in", "pull", "None", "--rack", rack).returncode, 2)
        self.assertIn("no rack", program("stand-in", "list").stderr)
        self.assertIn(
            "has no passphrase",
            program("store", "passphrase", store, "--new-passphrase-file", rules, passphrase=rules).stderr,
        )

    def test_eighty_columns_are_enough(self) -> None:
        deep = (
            "Productions of the winter season/Contracts and letters/Signed by both sides/agreement with the"
            " hall.txt"
        )
        (self.work / deep).parent.mkdir(parents=True)
        (self.work / deep).write_text("signed")
        store = self.folder / "store"
        program("job", "add", "Office", "--folder", self.work, "--store", store, "--unencrypted")
        program("snapshot", "Office")
        for words in (
            ("contents", store, "latest", "--deep"),
            ("find", store, "agreement"),
            ("history", store),
            ("fleet", store),
            ("status",),
            ("job", "list"),
            ("thin",),
            ("rhythm", "Office"),
        ):
            _, shown = self.talk(*words)
            for line in shown.splitlines():
                plain = re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", line).rstrip()
                if str(self.folder) not in plain:
                    self.assertLessEqual(len(plain), 80, f"{words}: {plain}")
        self.assertIn("Office: store keeps 1 of 1", self.talk("thin")[1])


class StartingTest(GoodTideTest):
    def test_an_agent_starts_early_once_and_a_second_one_says_why_it_ends(self) -> None:
        settings = self.folder / "settings"
        settings.mkdir()
        here = Workplace(
            self.cache, self.state, self.folder, settings, self.folder / "run" / "good-tide", MACHINE
        )
        agent = Agent(here, SystemClock(), environment=quiet(settings))
        self.addCleanup(agent.end)
        second = subprocess.run(
            [sys.executable, "-m", "good_tide.agent", "--settings", str(settings)],
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(second.returncode, 3)
        self.assertIn("already running", second.stderr)
        before = set(os.listdir("/proc"))
        start_agent_early(agent_socket(here.runtime, settings), settings)
        started = [
            one
            for one in set(os.listdir("/proc")) - before
            if one.isdigit()
            and b"good_tide.agent" in Path(f"/proc/{one}/cmdline").read_bytes()
            and str(settings).encode() in Path(f"/proc/{one}/cmdline").read_bytes()
        ]
        self.assertEqual(started, [])
