"""The command line as people and scripts use it."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import subprocess
import sys
import unittest
from pathlib import Path
from typing import Any

import click
from click.testing import CliRunner

from good_tide.cli.main import cli
from good_tide.operations.workplace import find_job
from good_tide.system.jobs import settings_folder
from tests.support.base import REPOSITORY, GoodTideTest, program, tree


class CommandLineTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store_folder, self.secret = self.folder / "store", self.folder / "passphrase"
        self.secret.write_text("tide and time\n")
        self.write("plan.txt", "first")
        self.write("sub/deep.txt", "deep")

    def json(self, *words: str | Path, code: int = 0, passphrase: bool = True) -> dict[str, Any]:
        ran = program(*words, "--json", passphrase=self.secret if passphrase else None)
        self.assertEqual(ran.returncode, code, ran.stderr)
        self.assertNotIn("Traceback", ran.stderr)
        return dict(json.loads(ran.stdout)) if ran.stdout else dict(json.loads(ran.stderr))

    def test_names_are_found_in_all_of_history(self) -> None:
        store = self.folder / "open store"
        self.json("store", "create", store, "--unencrypted", passphrase=False)
        times = ("2026-01-05T10:00", "2026-01-05T11:00", "2026-01-06T10:00")
        ids = []
        for number, at in enumerate(times):
            self.write("plan.txt", str(number))
            self.write("Übersicht der Tour.csv", "a") if number == 1 else None
            (self.work / "Übersicht der Tour.csv").unlink() if number == 2 else None
            taken = self.json(
                "snapshot", "--store", store, "--folder", self.work, "--at", at, passphrase=False
            )
            ids.append(taken["snapshot"])
        found = self.json("find", store, "TOUR", "ubersicht", passphrase=False)
        self.assertEqual(set(found), {"machine", "more", "found", "near"})
        (one,) = found["found"]
        self.assertEqual(
            set(one),
            {"path", "type", "versions", "first_seen", "last_seen", "gone", "size", "snapshot"},
        )
        self.assertEqual((one["gone"], one["snapshot"], one["versions"]), (True, ids[1], 1))
        shown = program("find", store, "*.txt", "--since", "2026-01-06")
        self.assertIn("plan.txt", shown.stdout)
        self.assertNotIn("deep.txt", shown.stdout)
        self.assertNotIn("plan.txt", program("find", store, "*.txt", "--gone").stdout)
        near = self.json("find", store, "ubersihct", passphrase=False)
        self.assertEqual((near["found"], len(near["near"])), ([], 1))
        self.assertIn("Names that are near", program("find", store, "ubersihct").stdout)
        self.assertIn("more than 1 name", program("find", store, "txt", "--most", "1").stdout)
        self.assertEqual(program("find", "No such store", "x").returncode, 2)
        self.assertEqual(program("find", store, "?").returncode, 2)

    def test_a_file_is_written_to_standard_output_and_stores_go_by_their_names(self) -> None:
        store = self.folder / "disk" / "store"
        content = os.urandom(300_000)
        self.write("large.bin", content)
        sparse = self.work / "sparse.bin"
        with sparse.open("wb") as file:
            file.seek(3_000_000)
            file.write(b"end")
        program("job", "add", "Desk", "--folder", self.work, "--store", store, "--unencrypted")
        self.assertEqual(program("snapshot", "Desk").returncode, 0)
        command = [sys.executable, "-m", "good_tide", "show", "--store", "Desk", "latest"]
        shown = subprocess.run([*command, str(self.work / "large.bin")], capture_output=True, check=True)
        self.assertEqual(shown.stdout, content)
        shown = subprocess.run([*command, str(sparse)], capture_output=True, check=True)
        self.assertEqual(shown.stdout, sparse.read_bytes())
        self.assertEqual(program("show", "--store", "Desk", "latest", self.work).returncode, 2)
        settings = find_job(settings_folder(), "Desk")
        name = settings.stores[0].name or settings.stores[0].path
        for words in (
            ("history", "--store", name),
            ("verify", "--store", name),
            ("contents", "--store", "Desk", "latest"),
        ):
            self.assertEqual(program(*words).returncode, 0, words)
        store.parent.rename(self.folder / "away")
        self.write("plan.txt", "while the disk is away")
        self.assertEqual(program("snapshot", "Desk").returncode, 0)
        out = subprocess.run([*command, str(self.work / "plan.txt")], capture_output=True, check=True)
        self.assertEqual(out.stdout, b"while the disk is away")
        found = json.loads(program("find", "Desk", "plan", "--json").stdout)["found"]
        self.assertEqual(found[0]["versions"], 2)
        (self.work / "plan.txt").unlink()
        back = program(
            "restore", "--store", "Desk", "--snapshot", "latest", "--all", "--in-place", "--missing-only"
        )
        self.assertEqual(
            (back.returncode, (self.work / "plan.txt").read_text()), (0, "while the disk is away")
        )

    def test_the_whole_way_with_the_fields_of_the_contract(self) -> None:
        store = ("--store", self.store_folder)
        made = self.json("store", "create", self.store_folder, "--hint", "sea")
        self.assertEqual(set(made), {"store", "format", "encrypted", "recovery_key"})
        about = self.json("store", "about", self.store_folder, passphrase=False)
        self.assertEqual(
            (set(about), about["machines"], about["hint"]),
            ({"store", "format", "encrypted", "hint", "snapshots", "stored_bytes", "machines"}, None, "sea"),
        )
        first = self.json("snapshot", *store, "--folder", self.work, "--at", "2026-01-05T10:00")
        self.assertLessEqual(
            {
                "snapshot",
                "time",
                "files",
                "folders",
                "bytes",
                "changed_files",
                "new_bytes",
                "stored_bytes",
                "left_out",
                "seconds",
            },
            set(first),
        )
        self.write("plan.txt", "second")
        shutil.rmtree(self.work / "sub")
        self.json("snapshot", *store, "--folder", self.work, "--at", "2026-01-05T11:00", "--label", "later")
        self.json("snapshot", *store, "--folder", self.work, "--at", "2026-01-05T09:00", code=2)
        rows = self.json("history", *store)["snapshots"]
        assert isinstance(rows, list)
        self.assertEqual(
            set(rows[0]),
            {"snapshot", "time", "machine", "folders", "files", "bytes", "new_bytes", "label", "gaps"},
        )
        entries = self.json("contents", *store, "2026-01-05T10:30", self.work, "--deep")["entries"]
        assert isinstance(entries, list)
        self.assertEqual([os.path.basename(one["path"]) for one in entries], ["plan.txt", "sub", "deep.txt"])
        self.assertEqual(set(entries[0]), {"path", "type", "size", "modified", "mode", "target"})
        versions = self.json("versions", *store, self.work / "sub" / "deep.txt")
        self.assertEqual(
            (len(versions["versions"]), str(versions["gone_since"])[:16]), (1, "2026-01-05T11:00")
        )
        plan = self.json(
            "restore",
            *store,
            "--snapshot",
            str(first["snapshot"])[:8],
            "--path",
            self.work,
            "--in-place",
            "--plan",
        )
        self.assertEqual(
            (plan["created"], plan["replaced"], (self.work / "plan.txt").read_text()), (2, 1, "second")
        )
        report = self.json(
            "restore", *store, "--snapshot", str(first["snapshot"])[:8], "--path", self.work, "--in-place"
        )
        self.assertEqual(
            set(report) - {"notes"},
            {
                "snapshot",
                "time",
                "machine",
                "created",
                "replaced",
                "identical",
                "skipped",
                "strange",
                "bytes",
                "checked",
                "undo",
                "set_aside",
                "problems",
            },
        )
        self.assertEqual((self.work / "plan.txt").read_text(), "first")
        self.json("undo", *store, str(report["set_aside"]))
        self.assertEqual((self.work / "plan.txt").read_text(), "second")
        self.assertEqual(self.json("verify", *store, "--read-all")["ok"], True)

    def test_names_that_are_no_utf8(self) -> None:
        self.write(b"bad\xff", "x")
        program("store", "create", self.store_folder, "--unencrypted")
        program("snapshot", "--store", self.store_folder, "--folder", self.work)
        listing = self.json("contents", "--store", self.store_folder, "latest", self.work, passphrase=False)[
            "entries"
        ]
        assert isinstance(listing, list)
        self.assertEqual((listing[0]["path"].endswith("bad\\xff"), "path_bytes" in listing[0]), (True, True))

    def test_errors_have_a_sentence_and_a_code(self) -> None:
        program("store", "create", self.store_folder, passphrase=self.secret)
        wrong = self.folder / "wrong"
        wrong.write_text("nonsense")
        store = ("--store", self.store_folder)
        cases = [
            ("wrong passphrase", ("history", *store, "--passphrase-file", wrong), 3, "does not open"),
            ("no store", ("history", "--store", self.work, "--passphrase-file", self.secret), 3, "no store"),
            (
                "no folder",
                ("history", "--store", self.folder / "none", "--passphrase-file", self.secret),
                3,
                "no folder",
            ),
            (
                "folder missing",
                ("snapshot", *store, "--folder", self.folder / "none", "--passphrase-file", self.secret),
                2,
                "no folder",
            ),
            (
                "no snapshot",
                ("contents", *store, "latest", "--passphrase-file", self.secret),
                2,
                "no snapshot",
            ),
            ("wrong option", ("history", "--nonsense"), 2, "nonsense"),
            (
                "two targets",
                ("restore", *store, "--snapshot", "latest", "--path", "/", "--passphrase-file", self.secret),
                2,
                "not clear",
            ),
            ("no terminal", ("history", *store), 2, "terminal"),
        ]
        for name, words, code, sentence in cases:
            with self.subTest(name):
                ran = program(*words)
                self.assertEqual(ran.returncode, code, ran.stderr)
                self.assertIn(sentence, ran.stderr)
                self.assertNotIn("Traceback", ran.stderr)

    def test_gaps_and_damage_have_their_codes(self) -> None:
        program("store", "create", self.store_folder, "--unencrypted")
        (self.work / "plan.txt").chmod(0)
        prefix = (
            [] if os.geteuid() else ["setpriv", "--bounding-set=-dac_override,-dac_read_search,-fowner", "--"]
        )
        ran = program("snapshot", "--store", self.store_folder, "--folder", self.work, prefix=prefix)
        self.assertEqual((ran.returncode, "plan.txt" in ran.stdout), (1, True))
        packs = [path for path in (self.store_folder / "packs").rglob("*") if path.is_file()]
        pack = packs[0]
        whole = pack.read_bytes()
        pack.write_bytes(whole[:20] + bytes([whole[20] ^ 1]) + whole[21:])
        ran = program("verify", "--store", self.store_folder, "--read-all")
        self.assertEqual((ran.returncode, "Put right" in ran.stdout), (0, True))
        for pack in packs:
            pack.write_bytes(bytes(pack.stat().st_size))
        self.assertEqual(program("verify", "--store", self.store_folder, "--read-all").returncode, 4)
        self.assertEqual(program("repair", self.store_folder).returncode, 1)
        self.assertEqual(program("repair", self.store_folder, "--accept-loss", "--json").returncode, 0)

    def test_a_disk_that_fills_up(self) -> None:
        if os.geteuid() or shutil.which("unshare") is None:
            self.skipTest("needs root and unshare to mount a small file system")
        disk = self.folder / "disk"
        disk.mkdir()
        self.write("large.bin", os.urandom(30_000_000))
        python = f"{sys.executable} -m good_tide"
        script = f"""set -u; mount -t tmpfs -o size=20m small {disk}
            {python} store create {disk}/store --unencrypted >/dev/null
            mkdir {self.folder}/few; echo few > {self.folder}/few/file
            {python} snapshot --store {disk}/store --folder {self.folder}/few >/dev/null || exit 9
            {python} snapshot --store {disk}/store --folder {self.work}; echo "full: $?"
            {python} verify --store {disk}/store --read-all; echo "verify: $?"
            mount -o remount,size=80m {disk}
            {python} snapshot --store {disk}/store --folder {self.work} --json; echo "again: $?"
            mount -o remount,ro {disk}
            {python} snapshot --store {disk}/store --folder {self.work}; echo "read-only: $?" """
        ran = subprocess.run(
            ["unshare", "-m", "bash", "-c", script], capture_output=True, text=True, check=False
        )
        self.assertRegex(ran.stdout, r"full: 3\n")
        self.assertIn("no room left", ran.stderr)
        for words in ("verify: 0", "again: 0", "read-only: 3"):
            self.assertIn(words, ran.stdout, ran.stderr)
        again = json.loads(re.search(r"^\{.*\}$", ran.stdout, re.M).group())  # type: ignore[union-attr]
        self.assertLess(again["new_bytes"], 20_000_000)

    def test_stop_and_progress(self) -> None:
        program("store", "create", self.store_folder, "--unencrypted")
        for number in range(4):
            self.write(f"{number}.bin", os.urandom(60_000_000))
        command = [
            sys.executable,
            "-m",
            "good_tide",
            "snapshot",
            "--store",
            str(self.store_folder),
            "--folder",
            str(self.work),
            "--progress",
            "json",
            "--json",
        ]
        with subprocess.Popen(command, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as child:
            assert child.stderr is not None
            self.assertIn("bytes_done", json.loads(child.stderr.readline()))
            child.send_signal(signal.SIGINT)
            child.communicate(timeout=600)
        self.assertEqual(child.returncode, 5)
        self.assertEqual(program("verify", "--store", self.store_folder).returncode, 0)

    def test_a_reader_that_has_gone_stops_a_command_without_a_word(self) -> None:
        for number in range(4000):
            self.write(f"many/{number}.txt", "x")
        self.json("store", "create", self.store_folder)
        self.json("snapshot", "--store", self.store_folder, "--folder", self.work)
        words = (
            f"{sys.executable} -m good_tide contents --store {self.store_folder} latest --deep"
            f" --passphrase-file {self.secret}"
        )
        ended = subprocess.run(
            ["bash", "-c", f"{words} | head -1; echo ${{PIPESTATUS[0]}}"],
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertEqual((ended.stdout.splitlines()[-1], ended.stderr), ("5", ""))

    def test_the_recovery_script_extracts_what_restore_restores(self) -> None:
        self.write("large.bin", os.urandom(700_000))
        (self.work / "link").symlink_to("plan.txt")
        os.link(self.work / "plan.txt", self.work / "twin")
        for name, made in (
            ("encrypted", ("--passphrase-file", str(self.secret))),
            ("open", ("--unencrypted",)),
        ):
            with self.subTest(name):
                root = self.folder / name
                key = json.loads(program("store", "create", root, *made, "--json").stdout)["recovery_key"]
                program(
                    "snapshot", "--store", root, "--folder", self.work, *(made if name == "encrypted" else ())
                )
                words = self.folder / "words"
                words.write_text(key or "")
                script = [sys.executable, "-I", str(root / "recover.py"), "--passphrase-file", str(words)]
                listed = subprocess.run([*script, "list"], capture_output=True, text=True, check=True).stdout
                self.assertIn("4 files", listed)
                out = self.folder / f"{name}-out"
                subprocess.run([*script, "extract", "latest", str(out)], check=True)
                self.assertEqual(tree(out / str(self.work).lstrip("/")), tree(self.work))
                pack = max(
                    (path for path in (root / "packs").rglob("*") if path.is_file()),
                    key=lambda path: path.stat().st_size,
                )
                data = bytearray(pack.read_bytes())
                data[len(data) // 2] ^= 1
                pack.write_bytes(data)
                again = subprocess.run(
                    [*script, "extract", "latest", str(self.folder / f"{name}-bad")],
                    capture_output=True,
                    text=True,
                    check=False,
                )
                self.assertEqual(again.returncode, 1)
                self.assertIn("damaged", again.stderr)

    def test_every_command_is_documented(self) -> None:
        manual = (REPOSITORY / "docs" / "commands.md").read_text()
        runner = CliRunner()

        def visit(group: click.Group, words: tuple[str, ...]) -> int:
            context, seen = click.Context(group), 0
            for name in group.list_commands(context):
                command = group.get_command(context, name)
                assert command is not None
                told = [line for line in manual.splitlines() if " ".join(("good-tide", *words)) in line]
                self.assertTrue(
                    any(re.search(rf"\b{name}\b", line) for line in told), f"{name} is not in the manual"
                )
                self.assertEqual(runner.invoke(cli, [*words, name, "--help"]).exit_code, 0)
                seen += 1 + (visit(command, (*words, name)) if isinstance(command, click.Group) else 0)
            return seen

        self.assertGreater(visit(cli, ()), 40)
        self.assertEqual(program("no-such-command").returncode, 2)

    def test_a_command_loads_only_what_it_needs(self) -> None:
        code = (
            "import sys; from good_tide.cli import window_commands, main; print(*(one for one in sys.modules"
            " if 'numpy' in one or 'PySide6' in one))"
        )
        loaded = subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, check=True
        ).stdout.split()
        self.assertEqual(loaded, [])


if __name__ == "__main__":
    unittest.main()
