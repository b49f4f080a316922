"""A job whose store nobody can open says so at once, everywhere; and every way to mend it. The agent is
started and ended by command."""

from __future__ import annotations

import json
import signal
import smtplib
import subprocess
import sys

from tests.support.base import GoodTideTest, program

WORDS = "harbour lantern slow curtain"


class LockedJobTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "plan")
        self.secret = self.folder / "secret"
        self.secret.write_text(WORDS)
        store = self.folder / "store"
        made = program(
            "job", "add", "Office", "--folder", self.work, "--store", store, passphrase=self.secret
        )
        self.assertEqual(made.returncode, 0, made.stderr)
        self.made = made.stdout
        self.addCleanup(program, "agent", "stop")

    def status(self) -> tuple[int, str]:
        done = program("status")
        return done.returncode, done.stdout.replace("\n", " ")

    def test_it_says_so_when_it_is_made_and_in_status_with_the_agent_and_without(self) -> None:
        self.assertIn("good-tide unlock Office", self.made)
        program("snapshot", "Office", passphrase=self.secret)
        code, said = self.status()
        self.assertEqual(code, 1)
        self.assertIn("kept nowhere", said)
        self.assertEqual(program("agent", "start").returncode, 0)
        code, said = self.status()
        self.assertEqual(code, 1)
        self.assertIn("good-tide unlock Office", said)
        self.assertNotIn("Up to date", said)
        done = program("unlock", "Office", passphrase=self.secret)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("agent's memory", done.stdout)
        code, said = self.status()
        self.assertEqual((code, "Up to date" in said), (0, True), said)
        self.assertEqual(program("agent", "restart").returncode, 0)
        self.assertIn("kept nowhere", self.status()[1], "memory is gone with the process")

    def test_it_is_kept_in_a_file_that_nobody_else_reads(self) -> None:
        kept = self.folder / "kept"
        refused = program("unlock", "Office", "--remember", passphrase=self.secret)
        self.assertEqual(refused.returncode, 3)
        self.assertIn("--keep-in", refused.stderr)
        nowhere = program("unlock", "Office", passphrase=self.secret)
        self.assertEqual(nowhere.returncode, 3, "no agent runs")
        done = program("unlock", "Office", "--keep-in", kept, passphrase=self.secret)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual((kept.read_text().strip(), kept.stat().st_mode & 0o777), (WORDS, 0o600))
        self.assertEqual(program("snapshot", "Office").returncode, 0, "by itself")
        kept.chmod(0o644)
        self.assertEqual(program("snapshot", "Office").returncode, 0, "a job that stops is worse")
        code, said = self.status()
        self.assertEqual((code, "chmod 600" in said, "Others on this machine" in said), (1, True, True), said)
        kept.chmod(0o600)
        self.assertNotIn("chmod", self.status()[1])
        again = program("unlock", "Office", "--keep-in", kept, passphrase=self.secret)
        self.assertEqual(again.returncode, 2, "what is there is not written over")

    def test_where_there_is_no_key_ring_a_job_that_is_to_be_remembered_says_so(self) -> None:
        for words in (
            ("job", "add", "Desk", "--folder", self.work, "--store", self.folder / "desk", "--remember"),
            ("job", "load", self.folder / "saved.toml", "--remember"),
        ):
            done = program(*words, passphrase=self.secret)
            said = done.stdout.replace("\n", " ")
            self.assertEqual(done.returncode, 1, done.stderr)
            self.assertIn("is not remembered", said)
            self.assertIn("--keep-in FILE", said)
            program("job", "save", "Desk", self.folder / "saved.toml")
            program("job", "remove", "Desk")

    def test_a_wrong_one_is_kept_nowhere(self) -> None:
        self.secret.write_text("quite another one")
        kept = self.folder / "kept"
        self.assertEqual(program("unlock", "Office", "--keep-in", kept, passphrase=self.secret).returncode, 3)
        self.assertFalse(kept.exists())
        self.assertEqual(program("unlock", "Office").returncode, 2, "none was given")

    def test_the_agent_is_started_ended_and_installed(self) -> None:
        for words, code, runs in (
            (("stop",), 0, False),
            (("start",), 0, True),
            (("start",), 0, True),
            (("restart",), 0, True),
            (("stop",), 0, False),
            (("install",), 0, True),
            (("remove",), 0, False),
        ):
            with self.subTest(words):
                done = program("agent", *words, "--json")
                self.assertEqual(done.returncode, code, done.stderr)
                self.assertEqual(json.loads(done.stdout)["running"], runs)
        self.assertEqual(program("agent", "status").returncode, 1)


class StandInMailTest(GoodTideTest):
    def test_reports_are_tried_with_the_stand_in_mail_server(self) -> None:
        folder = self.folder / "mail"
        with subprocess.Popen(
            [sys.executable, "-m", "good_tide", "stand-in", "mail", "--folder", str(folder), "--json"],
            stdout=subprocess.PIPE,
            text=True,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # a shell may have it ignored
        ) as server:
            assert server.stdout is not None
            port = json.loads(server.stdout.readline())["port"]
            self.write("a.txt", "a")
            program(
                "job", "add", "Office", "--folder", self.work, "--store", self.folder / "s", "--unencrypted"
            )
            words = ("--server", "127.0.0.1", "--port", str(port), "--security", "none")
            self.assertEqual(program("mail", *words, "--from", "not an address").returncode, 2)
            self.assertEqual(program("mail", *words, "--from", "desk@example.org").returncode, 0)
            with smtplib.SMTP("127.0.0.1", port) as client:
                client.sendmail("desk@example.org", ["office@example.org"], "Subject: all is well\n\nyes")
            server.send_signal(signal.SIGINT)
            self.assertEqual(server.wait(20), 5, "stopped")
        (kept,) = folder.iterdir()
        self.assertIn("all is well", kept.read_text())
