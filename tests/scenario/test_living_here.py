"""The program at home on a machine, and off it again: menu entry, manual page, completions; what stays, and
is taken away when that is asked for."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import click

from good_tide.cli.main import cli
from good_tide.system.desktop_entry import share_folder
from tests.support.base import GoodTideTest, program, tree

_BIN = Path(sys.executable).parent


class LivingHereTest(GoodTideTest):
    def ok(self, *words: str | Path, code: int = 0) -> Any:
        found = program(*words, "--json")
        self.assertEqual(found.returncode, code, found.stdout + found.stderr)
        return json.loads(found.stdout)

    def installed(self) -> dict[str, Path]:
        return {Path(file).name: Path(file) for file in self.ok("install", "--no-agent")["files"]}

    def test_the_desktop_finds_the_program(self) -> None:
        found = self.installed()
        subprocess.run(["desktop-file-validate", found["org.goodtide.GoodTide.desktop"]], check=True)
        meta = found["org.goodtide.GoodTide.metainfo.xml"]
        subprocess.run(["appstreamcli", "validate", "--no-net", meta], check=True, capture_output=True)
        self.assertIn(f"Exec={_BIN}/good-tide window", found["org.goodtide.GoodTide.desktop"].read_text())
        self.assertTrue(all(str(file).startswith(str(share_folder())) for file in found.values()))

    def test_the_manual_page_has_every_command_and_option(self) -> None:
        page = self.installed()["good-tide.1"].read_text().replace("\\-", "-")

        def look(command: click.Command, called: str, context: click.Context) -> int:
            if isinstance(command, click.Group):
                names = command.list_commands(context)
                below = [(name, command.get_command(context, name)) for name in names]
                return sum(look(one, f"{called} {name}", context) for name, one in below if one is not None)
            self.assertIn(f".SS {called} ", page)
            for one in command.params:
                if isinstance(one, click.Option) and not one.hidden:
                    self.assertIn(one.opts[0], page)
            return 1

        self.assertGreater(look(cli, "good-tide", click.Context(cli)), 50)

    def test_bash_completes_commands_options_and_names(self) -> None:
        self.write("plan.txt", "plan")
        store = self.folder / "store"
        self.ok("job", "add", "Office", "--folder", self.work, "--store", store, "--unencrypted")
        script = self.installed()["good-tide"]
        for words, wanted in (
            ("good-tide fl", "fleet"),
            ("good-tide fleet --la", "--late"),
            ("good-tide job show Of", "Office"),
            ("good-tide history sto", "store"),
            ("good-tide history Of", "Office"),
        ):
            with self.subTest(words):
                typed = words.split()
                asked = f"source {script}; COMP_WORDS=({words}); COMP_CWORD={len(typed) - 1}"
                asked += '; _good_tide_completion good-tide; echo "${COMPREPLY[@]}"'
                shown = subprocess.run(
                    ["bash", "-c", asked],
                    env={**os.environ, "PATH": f"{_BIN}:{os.environ['PATH']}"},
                    capture_output=True,
                    text=True,
                    check=True,
                )
                self.assertIn(wanted, shown.stdout.split(), shown.stderr)
        for shell in ("zsh", "fish"):
            asked_of = {
                **os.environ,
                "_GOOD_TIDE_COMPLETE": f"{shell}_complete",
                "COMP_WORDS": "good-tide fl",
            }
            asked_of |= {"COMP_CWORD": "1" if shell == "zsh" else "fl"}
            answer = subprocess.run(
                [_BIN / "good-tide"], env=asked_of, capture_output=True, text=True, check=True
            )
            self.assertIn("fleet", answer.stdout)

    def test_uninstall_says_what_stays_and_takes_what_is_named(self) -> None:
        self.write("plan.txt", "plan")
        store, media = self.folder / "media" / "store", self.folder / "media"
        self.ok("job", "add", "Office", "--folder", self.work, "--store", store, "--unencrypted")
        self.ok("snapshot", "Office")
        (self.work / "plan.txt").write_text("another")
        self.ok("restore", store, "--snapshot", "latest", "--all", "--in-place")
        media.rename(self.folder / "away")
        self.write("later.txt", "later")
        self.ok("snapshot", "Office")
        self.installed()
        kept = tree(self.folder / "away")
        stays = self.ok("uninstall")["stays"]
        kinds = [one["kind"] for one in stays]
        for kind in ("store", "waiting", "set-aside", "cache", "records", "settings", "program"):
            self.assertIn(kind, kinds)
        waiting = next(one for one in stays if one["kind"] == "waiting")
        self.assertIn("1 snapshot that the store store does not have yet", waiting["what"])
        self.assertEqual(program("uninstall", "--take", "waiting").returncode, 2, "nobody was asked")
        self.assertTrue(Path(waiting["path"]).exists())
        taken = self.ok("uninstall", "--take", "waiting", "--take", "set-aside", "--yes")["taken"]
        self.assertEqual(sorted(one["kind"] for one in taken), ["set-aside", "waiting"])
        self.assertFalse(any(Path(one["path"]).exists() for one in taken))
        self.assertEqual(len(self.ok("job", "list")["jobs"]), 1)
        around = program("--settings", self.folder, "uninstall", "--take", "all", "--yes")
        self.assertTrue(self.work.exists() and (self.folder / "away").exists(), around.stderr)
        rest = self.ok("uninstall", "--take", "all", "--yes")
        self.assertFalse(any(Path(one["path"]).exists() for one in rest["taken"]))
        self.assertEqual([one["kind"] for one in rest["stays"]], ["store"])
        self.assertEqual(tree(self.folder / "away"), kept, "the store is as it was")
        self.assertEqual((self.work / "plan.txt").read_text(), "plan")

    def test_a_job_goes_with_what_only_it_needs(self) -> None:
        self.write("plan.txt", "plan")
        store, secret = self.folder / "store", self.folder / "secret"
        secret.write_text("low tide at noon by the pier")
        secret.chmod(0o600)
        add = ("--folder", self.work, "--store", store, "--passphrase-file", secret)
        for name in ("Office", "Twin"):
            self.ok("job", "add", name, *add)
            self.ok("unlock", name, "--passphrase-file", secret, "--keep-in", self.folder / f"{name} words")
            self.ok("snapshot", name)
        first = self.ok("job", "remove", "Office", "--take", "all", "--take", "passphrase")
        self.assertEqual(
            [one["kind"] for one in first["taken"]], ["passphrase"], "the cache is the other's too"
        )
        self.assertFalse((self.folder / "Office words").exists())
        self.ok("snapshot", "Twin")
        last = self.ok("job", "remove", "Twin", "--take", "cache")
        self.assertEqual([one["kind"] for one in last["taken"]], ["cache"])
        self.assertTrue((self.folder / "Twin words").exists())
        self.assertEqual(program("job", "remove", "Twin", "--take", "store").returncode, 2)

    def test_all_is_not_the_passphrase_and_nothing_around_a_store_goes(self) -> None:
        self.write("plan.txt", "plan")
        secret = self.folder / "secret"
        secret.write_text("low tide at noon by the pier")
        secret.chmod(0o600)
        store = Path(os.environ["XDG_CACHE_HOME"]) / "good-tide" / "store"
        add = ("--folder", self.work, "--store", store, "--passphrase-file", secret)
        self.ok("job", "add", "Office", *add)
        self.ok("unlock", "Office", "--passphrase-file", secret, "--keep-in", self.folder / "words")
        refused = program("uninstall", "--take", "cache", "--yes")
        self.assertEqual((refused.returncode, "is not deleted" in refused.stderr), (2, True), refused.stderr)
        self.assertTrue((store / "store.json").exists())
        kinds = {one["kind"] for one in self.ok("job", "remove", "Office", "--take", "all")["taken"]}
        self.assertNotIn("passphrase", kinds, "the store that stays needs it")
        self.assertTrue((self.folder / "words").exists())
