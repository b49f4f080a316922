"""The quiet moment, from an empty machine to the first snapshot: by command line, through the agent, and in
the window."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any
from unittest import mock

from good_tide.system.disk_choice import STAND_IN_FILE
from good_tide.system.stand_in_disks import StandIn, StandInDisks
from tests.support.base import GoodTideTest, create_store, open_store, program
from tests.support.memory_place import PowerCutError

WORDS = "harbour lantern slow curtain"


class CommandLineTest(GoodTideTest):
    def ok(self, *words: str | Path, code: int = 0, secret: Path | None = None) -> dict[str, Any]:
        done = program(*words, "--json", passphrase=secret)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return dict(json.loads(done.stdout or done.stderr))

    def test_a_machine_is_set_up_unattended_from_a_file(self) -> None:
        rack = StandInDisks(self.folder / "rack")
        disk = rack.add(StandIn(name="Pier", device="one"))
        config = Path(os.environ["XDG_CONFIG_HOME"]) / "good-tide"
        config.mkdir(parents=True)
        (config / STAND_IN_FILE).write_text(str(rack.root))
        home = Path(os.environ["HOME"])
        for name in ("Documents/budget.csv", "Documents/Drafts/one.txt", "Documents/x.tmp"):
            (home / name).parent.mkdir(parents=True, exist_ok=True)
            (home / name).write_text(name)
        secret, file = self.folder / "secret", self.folder / "office.toml"
        secret.write_text(WORDS)
        file.write_text(
            'name = "Office"\nfolders = ["$DOCUMENTS"]\nrules = ["exclude kind temporary", "exclude path'
            ' Drafts/"]\n[[store]]\nlabel = "Pier"\nfolder = "good-tide/desk"\n'
        )
        made = self.ok("job", "load", file, secret=secret)
        store = disk / "good-tide" / "desk"
        self.assertEqual(made["stores"][0]["path"], str(store))
        taken = self.ok("snapshot", secret=secret)
        self.assertEqual((taken["files"], len(taken["snapshots"])), (1, 1))
        covered = self.ok("coverage", "Office", "--largest", "3")
        self.assertEqual((covered["files"], covered["excluded_files"]), (1, 2))
        self.assertEqual([rule["files"] for rule in covered["rules"]], [1, 1])
        why = self.ok("coverage", "Office", "--why", home / "Documents" / "Drafts" / "one.txt")
        self.assertEqual((why["in"], why["rule"]), (False, "exclude path Drafts/"))
        disks = self.ok("disks")["disks"]
        self.assertEqual([(one["name"], one["store"]) for one in disks], [("Pier", str(store))])
        saved = self.folder / "saved.toml"
        self.ok("job", "save", "office", saved)
        self.assertIn('label = "Pier"', saved.read_text())
        rack.plug("Pier", False)
        self.assertTrue(self.ok("snapshot", "Office", secret=secret)["snapshots"][0]["held"])
        rack.plug("Pier")
        self.assertEqual(
            self.ok("job", "load", saved, secret=secret)["changes"], [], "it is as the file says"
        )
        stays = {one["what"]: Path(one["path"]) for one in self.ok("job", "remove", "Office")["stays"]}
        self.assertTrue(all(path.exists() for path in stays.values()), stays)
        self.assertEqual(stays["the store with its snapshots"], store)
        self.assertIn("1 snapshot that the store Pier does not have yet", stays)
        self.assertIn("names of files and folders of the store, for its timeline", stays)
        self.ok("job", "load", saved, secret=secret)
        self.assertEqual(self.ok("snapshot", secret=secret)["changed_files"], 0)

    def test_nothing_is_made_when_one_of_several_places_will_not_do_and_stores_made_together_are_twins(
        self,
    ) -> None:
        self.write("a.txt", "a")
        secret, taken = self.folder / "secret", self.folder / "taken"
        secret.write_text(WORDS)
        taken.mkdir()
        (taken / "letter").touch()
        one, two, half = (self.folder / name for name in ("one", "two", "half"))
        words = ("job", "add", "Office", "--folder", self.work, "--store", one)
        refused = program(*words, "--store", taken, passphrase=secret)
        self.assertEqual(refused.returncode, 2)
        self.assertIn("holds other things", refused.stderr)
        self.assertFalse(one.exists())
        with (
            mock.patch("good_tide.storage.header.write_slot", side_effect=PowerCutError),
            self.assertRaises(PowerCutError),
        ):
            create_store(half, None)
        made = self.ok(*words, "--store", two, "--store", half, secret=secret)
        self.assertEqual([store["made"] for store in made["stores"]], [True, True, True])
        identities = {open_store(folder, WORDS).keys.identity for folder in (one, two, half)}
        self.assertEqual(len(identities), 1)
        self.assertEqual(len({open_store(folder, WORDS).keys.secret for folder in (one, two, half)}), 3)

    def test_changing_a_job_its_stores_and_readers(self) -> None:
        self.write("a.txt", "a")
        secret, other, rules = self.folder / "secret", self.folder / "other", self.folder / "rules"
        secret.write_text(WORDS)
        other.write_text("six other words")
        one, two = self.folder / "one", self.folder / "two"
        rules.write_text("exclude path b\nexclude paths c\n")
        refused = program(
            "job", "add", "Office", "--folder", self.work, "--store", one, "--rules", rules, passphrase=secret
        )
        self.assertEqual(refused.returncode, 2)
        self.assertIn("Line 2", refused.stderr)
        rules.write_text("exclude path b\n")
        self.ok(
            "job", "add", "Office", "--folder", self.work, "--store", one, "--rules", rules, secret=secret
        )
        self.ok("snapshot", secret=secret)
        self.ok(
            "job",
            "change",
            "Office",
            "--add-store",
            two,
            "--add-rule",
            "exclude path c",
            "--store-use",
            "turns",
            secret=secret,
        )
        shown = self.ok("job", "show", "Office")
        self.assertEqual(
            (shown["rules"], shown["store_use"]), (["exclude path c", "exclude path b"], "turns")
        )
        carried = self.ok("store", "carry", one, two, secret=secret)
        self.assertEqual((len(carried["carried"]), carried["already"]), (1, 0))
        self.ok("store", "passphrase", two, "--new-passphrase-file", other, secret=secret)
        self.ok("history", "--store", two, code=3, secret=secret)
        key = self.ok("store", "slots", two, "--add-recovery", secret=other)["recovery_key"]
        recovery = self.folder / "recovery"
        recovery.write_text(str(key))
        self.ok("store", "slots", two, "--revoke", "1", secret=recovery, code=2)  # its last passphrase
        self.assertEqual(len(self.ok("store", "slots", two, "--revoke", "2", secret=recovery)["slots"]), 2)
        self.ok("history", "--store", two, secret=other)
        self.ok("job", "change", "Office", "--drop-store", two, "--rename", "Desk")
        self.assertEqual([job["name"] for job in self.ok("job", "list")["jobs"]], ["Desk"])
        for words, said in (
            (("job", "show", "none"), "There is no job none"),
            (("snapshot", "--folder", str(self.work)), "need a store"),
        ):
            done = program(*words)
            self.assertEqual(done.returncode, 2)
            self.assertIn(said, done.stderr)

    def test_the_job_of_a_dead_machine_goes_on_with_one_command(self) -> None:
        docs = Path(os.environ["HOME"]) / "Documents"
        docs.mkdir(parents=True, exist_ok=True)
        (docs / "plan.txt").write_text("plan")
        store = self.folder / "theirs"
        theirs = {
            "XDG_CONFIG_HOME": str(self.folder / "their config"),
            "XDG_STATE_HOME": str(self.folder / "their state"),
        }
        with mock.patch.dict(os.environ, theirs):
            program("job", "add", "Office", "--folder", docs, "--store", store, "--unencrypted")
            self.assertEqual(program("snapshot", "Office").returncode, 0)
        ended = program("job", "take-over", store, "--json")
        self.assertEqual(ended.returncode, 0, ended.stderr)
        found = json.loads(ended.stdout)
        self.assertEqual((found["job"], found["folders"]), ("Office", [str(docs)]))
        self.assertEqual(program("snapshot", "Office").returncode, 0)
        history = json.loads(program("history", "--store", "Office", "--json").stdout)
        self.assertEqual(len({one["machine"] for one in history["snapshots"]}), 1, "one history goes on")
        self.assertEqual(program("job", "take-over", store).returncode, 2, "it is written here already")
