"""The recovery script on a machine that has nothing else: older packages, none, no terminal, names half
remembered."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from tests.support.base import CHEAP, PASSPHRASE, GoodTideTest, create_store, open_store, program


class OldLibrariesTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("Bühne/Entwurf Türen.txt", "doors")
        self.write("sub/plan.txt", "plan")
        self.write("gone.txt", "gone later")
        self.root = self.folder / "store"
        create_store(self.root, PASSPHRASE, cost=CHEAP)
        store = open_store(self.root, PASSPHRASE)
        self.first = self.snap(store, 0)
        (self.work / "gone.txt").unlink()
        self.snap(store, 1)
        self.secret = self.folder / "secret"
        self.secret.write_text(PASSPHRASE + "\n")

    def run_script(self, *words: str | Path, without: str = "", secret: bool = True) -> tuple[int, str, str]:
        """The script's code and what it said; with some modules as if they were not installed."""
        hidden = self.folder / "hidden"
        hidden.mkdir(exist_ok=True)
        (hidden / "sitecustomize.py").write_text(
            f"import sys\nfor name in {without.split()!r}:\n    sys.modules[name] = None\n"
        )
        given = ["--passphrase-file", str(self.secret)] if secret else []
        done = subprocess.run(
            [sys.executable, str(self.root / "recover.py"), *given, *map(str, words)],
            env={**os.environ, "PYTHONPATH": str(hidden)},
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            check=False,
            start_new_session=True,
        )
        self.assertNotIn("Traceback", done.stderr)
        return done.returncode, done.stdout, done.stderr

    def test_an_older_cryptography_is_helped_by_another_package(self) -> None:
        argon = "cryptography.hazmat.primitives.kdf.argon2"
        out = self.folder / "out"
        code, _, said = self.run_script("extract", "latest", out, without=argon)
        self.assertEqual(code, 0, said)
        self.assertEqual(next(out.rglob("plan.txt")).read_text(), "plan")
        code, _, said = self.run_script("list", without=f"{argon} argon2")
        self.assertEqual(code, 3)
        self.assertIn("apt install", said)
        self.assertIn("argon2-cffi", said)

    def test_what_is_missing_is_said_with_how_to_install_it(self) -> None:
        for module in ("zstandard", "cryptography"):
            code, _, said = self.run_script("list", without=module)
            self.assertEqual(code, 3)
            self.assertIn(f"needs the Python package {module}", said)
            self.assertIn("pip install", said)

    def test_names_are_found_in_all_snapshots(self) -> None:
        code, found, _ = self.run_script("find", "buhne", "TÜREN")
        self.assertEqual((code, found.count("\n")), (0, 1))
        self.assertIn("Entwurf Türen.txt", found)
        code, found, _ = self.run_script("find", "gone")
        self.assertTrue(found.startswith(self.first.id), "the newest snapshot that has it")
        self.assertEqual(self.run_script("find", "nowhere")[0], 1)

    def test_what_is_not_there_is_an_error_and_the_rest_comes(self) -> None:
        out = self.folder / "out"
        code, _, said = self.run_script("extract", "latest", out, self.work / "gone.txt")
        self.assertEqual((code, out.exists()), (1, False))
        self.assertIn("not in this snapshot", said)
        code, _, _ = self.run_script("extract", "latest", out, self.work / "nothing", self.work / "sub")
        self.assertEqual(code, 1)
        self.assertEqual(next(out.rglob("plan.txt")).read_text(), "plan")
        self.assertEqual(
            self.run_script("extract", "latest", self.folder / "all", self.folder)[0], 0, "above them all"
        )

    def test_a_wrong_or_missing_passphrase_is_said(self) -> None:
        self.assertIn("give --passphrase-file", self.run_script("list", secret=False)[2])
        self.secret.write_bytes(b"\xff\xfe\xff")
        self.assertIn("no text file", self.run_script("list")[2])
        self.secret.write_text("wrong")
        self.assertIn("neither as a passphrase nor as a recovery key", self.run_script("list")[2])
        self.secret.unlink()
        self.assertEqual(self.run_script("list")[0], 3)
        self.assertIn("no store here", self.run_script("--store", self.work, "list")[2])
        self.assertEqual(self.run_script("--store", self.folder / "nowhere", "list")[0], 3)

    def test_a_recovery_key_however_it_was_written(self) -> None:
        root = self.folder / "open me"
        made = program("store", "create", root, passphrase=self.secret)
        key = next(word for word in made.stdout.split() if word.count("-") == 5)
        self.secret.write_text(key.lower().replace("-", " "))
        self.root = root
        self.assertEqual(self.run_script("list")[0], 0)

    def test_whoever_reads_only_the_beginning_hears_of_no_fault(self) -> None:
        command = (
            f"{sys.executable} {self.root / 'recover.py'} --passphrase-file {self.secret} list latest |"
            " head -1"
        )
        done = subprocess.run(["sh", "-c", command], capture_output=True, text=True, check=False)
        self.assertEqual((done.stdout.count("\n"), done.stderr), (1, ""))
