"""Everything about a job by command and by file: settings, differences, the next machine, pins, a passphrase
from standard input."""

from __future__ import annotations

import base64
import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import click

from good_tide.cli.main import cli
from tests.support.base import GoodTideTest, as_ordinary_person, program

_WORDS = "four words by the sea"


class JobSettingsTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("plan.txt", "plan")
        self.store = self.folder / "store"
        self.file = self.folder / "office.toml"

    def ok(self, *words: str | Path, code: int = 0) -> Any:
        found = program(*words, "--json")
        self.assertEqual(found.returncode, code, found.stdout + found.stderr)
        return json.loads(found.stdout)

    def add(self, name: str = "Office") -> None:
        self.ok("job", "add", name, "--folder", self.work, "--store", self.store, "--unencrypted")

    def settings(self, name: str = "Office") -> dict[str, Any]:
        return dict(self.ok("job", "show", name, "--settings")["settings"])

    def test_what_the_window_sets_is_set_by_command_and_said(self) -> None:
        self.add()
        changed = self.ok(
            "job",
            "change",
            "Office",
            "--set=reporting.when=weekly",
            "--set=reporting.to=desk@example.org",
            "--set=rhythm.considerate.load=false",
            "--set=holding.limit_bytes=20 GiB",
            "--set=kinds.scores=musx",
            "--add-rule=exclude kind temporary",
        )["changes"]
        self.assertIn({"key": "reporting.when", "before": "never", "after": "weekly"}, changed)
        self.assertEqual(len(changed), 6)
        found = self.settings()
        self.assertEqual((found["holding.limit_bytes"], found["kinds.scores"]), (20 << 30, ["musx"]))
        program("job", "change", "Office", "--add-rule", "exclude kind scores")
        self.write("overture.musx", "notes")
        taken = self.ok("snapshot", "Office")
        self.assertEqual(taken["files"], 1, "a kind of the job's own is caught")
        refused = program("job", "change", "Office", "--set=kinds.scores=")
        self.assertEqual(
            (refused.returncode, "there is no kind" in refused.stderr), (2, True), refused.stderr
        )
        said = program("job", "change", "Office", "--set=noise=trouble").stdout
        self.assertEqual(said, "The job Office was changed:\n  noise: changes → trouble\n")
        self.assertIn("is as it was", program("job", "change", "Office", "--set=noise=trouble").stdout)
        self.assertIn("noise = trouble", program("job", "show", "Office", "--settings").stdout)

    def test_a_file_over_a_job_that_is_there_shows_what_differs_and_waits_for_a_yes(self) -> None:
        self.add()
        self.ok("job", "save", "Office", self.file)
        self.assertEqual(self.ok("job", "load", self.file)["changes"], [], "nothing differs")
        text = self.file.read_text().replace('every = "1h"', 'every = "2h"')
        self.file.write_text(text.replace('noise = "changes"', "") + "\n[kinds]\nscores = ['musx']\n")
        waits = program("job", "load", self.file)
        self.assertEqual(waits.returncode, 2)
        self.assertIn("rhythm.every: 1h → 2h", waits.stderr)
        planned = self.ok("job", "load", self.file, "--plan")["changes"]
        self.assertEqual([one["key"] for one in planned], ["rhythm.every", "kinds.scores"])
        self.assertEqual(self.settings()["rhythm.every"], "1h", "a plan changes nothing")
        self.assertEqual(self.ok("job", "load", self.file, "--yes")["changes"], planned)
        self.assertEqual(self.settings()["rhythm.every"], "2h")
        self.ok("job", "load", self.file, "--name", "Twin")
        self.assertEqual([job["name"] for job in self.ok("job", "list")["jobs"]], ["Office", "Twin"])

    def test_stores_that_a_file_has_come_to_the_job_and_others_go(self) -> None:
        self.add()
        self.ok("job", "save", "Office", self.file)
        other = self.folder / "other"
        self.file.write_text(self.file.read_text().replace(str(self.store), str(other)))
        self.ok("job", "load", self.file, "--yes")
        (job,) = self.ok("job", "list")["jobs"]
        self.assertEqual([one["path"] for one in job["stores"]], [str(other)])
        self.assertTrue((other / "store.json").exists() and (self.store / "store.json").exists())

    def test_one_of_two_disks_may_be_absent_and_comes_later(self) -> None:
        rack = self.folder / "mounts"
        self.file.write_text(
            f'name = "Office"\nfolders = ["{self.work}"]\n'
            f'[[store]]\npath = "{self.store}"\nencrypted = false\n'
            '[[store]]\nname = "Mole"\nlabel = "NOT-HERE"\nencrypted = false\n'
        )
        made = self.ok("job", "load", self.file, code=1)
        self.assertEqual(len(made["stores"]), 1)
        self.assertIn("Mole (label NOT-HERE) is not here", " ".join(made["notes"]))
        again = self.ok("job", "load", self.file, "--yes", code=1)
        self.assertIn("is not here", " ".join(again["notes"]))
        self.assertEqual(len(self.ok("job", "list")["jobs"][0]["stores"]), 1)
        self.assertFalse(rack.exists())

    def test_a_portable_file_leaves_machine_and_person_open(self) -> None:
        machine = os.uname().nodename
        self.store = self.folder / machine / "store"
        self.add()
        self.ok("job", "save", "Office", self.file, "--portable")
        self.assertIn("{machine}/store", self.file.read_text())
        self.ok("job", "save", "Office", self.file)
        self.assertIn(f"{machine}/store", self.file.read_text(), "as it is here, unless it is asked for")

    def test_the_mail_server_comes_along_when_asked_for(self) -> None:
        self.add()
        self.ok("mail", "--server", "mail.example.org", "--from", "desk@example.org")
        self.ok("job", "save", "Office", self.file, "--with-mail")
        self.ok("mail", "--server", "other.example.org", "--from", "desk@example.org")
        self.assertIn("mail: reports go through mail.example.org", program("job", "load", self.file).stderr)
        self.ok("job", "load", self.file, "--yes")
        self.assertEqual(self.ok("mail")["mail"]["host"], "mail.example.org")

    def test_pins_are_listed(self) -> None:
        self.add()
        self.ok("snapshot", "Office")
        self.assertEqual(program("pin", self.store).stdout.strip(), "No snapshot is pinned.")
        self.ok("pin", self.store, "latest", "--label", "opening night")
        (pin,) = self.ok("pin", self.store)["pins"]
        self.assertEqual(pin["label"], "opening night")
        self.assertIn("opening night", program("pin", self.store).stdout)
        self.assertEqual(program("pin", self.store, "--off").returncode, 2)

    def test_a_passphrase_comes_from_standard_input_or_a_descriptor(self) -> None:
        base = [sys.executable, "-m", "good_tide"]
        make = [*base, "store", "create", str(self.store), "--passphrase-file", "-"]
        done = subprocess.run(make, input=_WORDS + "\n", text=True, capture_output=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        about = [*base, "history", "--store", str(self.store), "--json", "--passphrase-file"]
        for last, words, code in (("-", _WORDS + "\n", 0), ("/dev/fd/0", _WORDS, 0), ("-", "", 2)):
            done = subprocess.run([*about, last], input=words, text=True, capture_output=True, check=False)
            self.assertEqual(done.returncode, code, done.stderr)
        change = [*base, "store", "passphrase", str(self.store), "--passphrase-file", "-"]
        both = f"{_WORDS}\nother words by the pier\n"
        done = subprocess.run(
            [*change, "--new-passphrase-file", "-"], input=both, text=True, capture_output=True, check=False
        )
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_a_store_comes_first_by_folder_disk_or_job_and_the_earlier_form_is_taken(self) -> None:
        self.add()
        self.ok("snapshot", "Office")
        for named in (str(self.store), self.store.name, "Office"):
            for words in (
                ("history", named),
                ("history", "--store", named),
                ("contents", named, "latest"),
                ("contents", "latest", f"--store={named}"),
                ("versions", named, self.work / "plan.txt"),
                ("show", "latest", self.work / "plan.txt", "--text", "--store", named),
                ("differences", named, "latest", "now"),
                ("verify", named),
                ("verify", "--store", named),
                ("pin", "--store", named),
                ("fleet", f"--store={named}"),
                ("store", "about", named),
                ("restore", named, "--snapshot", "latest", "--all", "--into", self.folder / "out", "--plan"),
            ):
                done = program(*words)
                self.assertEqual(done.returncode, 0, f"{words}: {done.stderr}")
        taken = self.ok("snapshot", self.store, "--folder", self.work)
        self.assertEqual(taken["files"], 1)
        self.assertEqual(program("history").returncode, 2)

    def test_what_was_left_out_has_no_date(self) -> None:
        program("store", "create", self.store, "--unencrypted")
        self.write("secret", "x").chmod(0)
        with as_ordinary_person() as prefix:
            taken = program("snapshot", self.store, "--folder", self.work, prefix=prefix)
        self.assertEqual(taken.returncode, 1, taken.stderr)
        shown = program("contents", self.store, "latest", self.work)
        self.assertNotIn("1970", shown.stdout)
        self.assertIn("secret", shown.stdout)
        rows = self.ok("contents", self.store, "latest", self.work)["entries"]
        self.assertEqual([row["modified"] for row in rows if row["path"].endswith("secret")], [None])

    def test_every_command_has_json(self) -> None:
        def look(group: click.Group, called: str, context: click.Context) -> int:
            seen = 0
            for name in group.list_commands(context):
                command = group.get_command(context, name)
                assert command is not None
                if isinstance(command, click.Group):
                    seen += look(command, f"{called} {name}", click.Context(command, parent=context))
                else:
                    self.assertTrue(any("--json" in one.opts for one in command.params), f"{called} {name}")
                    seen += 1
            return seen

        self.assertGreater(look(cli, "good-tide", click.Context(cli)), 60)
        self.add()
        self.ok("snapshot", "Office")
        plan = self.work / "plan.txt"
        shown = self.ok("show", "Office", "latest", plan)
        self.assertEqual(base64.b64decode(shown["content"]), b"plan")
        self.assertEqual(self.ok("show", "Office", "latest", plan, "--text")["text"], ["plan"])
        plan.write_text("another")
        differs = self.ok("show", "Office", "latest", plan, "--against", "now")
        self.assertEqual((differs["only_here"], differs["only_there"]), (["plan"], ["another"]))
        rack = self.folder / "rack"
        self.assertIn("folder", self.ok("stand-in", "add", "Pier", "--rack", rack))
        self.assertFalse(self.ok("stand-in", "pull", "Pier", "--rack", rack)["plugged"])

    def test_a_store_opens_with_its_jobs_passphrase_however_it_is_named(self) -> None:
        secret, words = self.folder / "secret", self.folder / "words"
        secret.write_text(_WORDS)
        secret.chmod(0o600)
        add = ("job", "add", "Office", "--folder", self.work, "--store", self.store)
        self.ok(*add, "--passphrase-file", secret)
        self.ok("unlock", "Office", "--passphrase-file", secret, "--keep-in", words)
        self.ok("snapshot", "Office")
        for named in (str(self.store), self.store.name, "Office"):
            for command in ("history", "verify", "fleet", "room", "pin", "repair"):
                self.assertEqual(program(command, named).returncode, 0, f"{command} {named}")
        words.unlink()
        self.assertEqual(program("verify", self.store).returncode, 2, "nothing else is known")

    def test_a_file_whose_only_disk_is_away_does_not_take_the_jobs_store(self) -> None:
        self.add()
        self.ok("job", "save", "Office", self.file)
        text = self.file.read_text()
        start = text.index("store = [")
        self.file.write_text(
            text[:start]
            + 'store = [{ name = "Mole", label = "NOT-HERE" }]'
            + text[text.index("]", start) + 1 :]
        )
        refused = program("job", "load", self.file, "--yes")
        self.assertEqual((refused.returncode, "is not here" in refused.stderr), (3, True), refused.stderr)
        (job,) = self.ok("job", "list")["jobs"]
        self.assertEqual([one["path"] for one in job["stores"]], [str(self.store)])
