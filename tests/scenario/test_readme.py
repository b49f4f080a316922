"""The README, line by line, as an ordinary person in a fresh account: the program is installed from its wheel
into an environment of its own, and every command that stands there in a line of its own is run in that order.
Then the second machine, from the first one's job file."""

from __future__ import annotations

import json
import os
import re
import shutil
import site
import stat
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import ClassVar

from tests.support.base import REPOSITORY, as_ordinary_person

_PERSON = 54_321
"""The number of an account that nobody has."""
_LINE = re.compile(r"^    (good-tide .*?)(?:\s{2,}#.*|\s+#.*)?$", re.MULTILINE)
_ENDS_WITH_1 = ("good-tide status",)
"""Reports have nowhere to go yet, and it says so."""


class ReadmeTest(unittest.TestCase):
    """As root the lines are run under an account's number of their own, where such an account may look at
    this Python; otherwise without the powers of root, in a home of their own."""

    root: ClassVar[Path]
    program: ClassVar[Path]
    person: ClassVar[list[str]]
    other: ClassVar[bool]

    @classmethod
    def setUpClass(cls) -> None:
        cls.root = Path(tempfile.mkdtemp(prefix="good-tide-readme-"))
        cls.addClassCleanup(shutil.rmtree, cls.root, ignore_errors=True)
        cls.root.chmod(0o755)
        wheels = cls.root / "wheels"
        own: list[str | Path]
        pip = [sys.executable, "-m", "pip", "--quiet", "--disable-pip-version-check"]
        source = cls.root / "source"
        shutil.copytree(REPOSITORY / "src" / "good_tide", source / "src" / "good_tide")
        for name in ("pyproject.toml", "README.md", "LICENSE"):
            shutil.copy(REPOSITORY / name, source / name)
        subprocess.run([*pip, "wheel", "--no-deps", "--no-build-isolation", "-w", wheels, source], check=True)
        app = cls.root / "app"
        subprocess.run([sys.executable, "-m", "venv", app], check=True)
        own = [app / "bin" / "python", "-m", "pip", "--quiet", "--disable-pip-version-check", "install"]
        subprocess.run([*own, "--no-deps", "--no-index", *wheels.glob("*.whl")], check=True)
        (packages,) = (app / "lib").glob("python*/site-packages")
        there = site.getsitepackages()[0]
        (packages / "dependencies.pth").write_text(there + "\n")  # what the lock file has installed already
        cls.program = app / "bin" / "good-tide"
        cls.person = ["setpriv", f"--reuid={_PERSON}", f"--regid={_PERSON}", "--clear-groups", "--"]
        reached = (
            os.geteuid() == 0
            and not subprocess.run(
                [*cls.person, "sh", "-c", f"{cls.program} --version"], capture_output=True, check=False
            ).returncode
        )
        if not reached:
            with as_ordinary_person() as prefix:
                cls.person = prefix
        cls.other = reached

    def setUp(self) -> None:
        self.homes: list[Path] = []
        self.home = self.account("ada")
        self.disk = self.root / f"media {self._testMethodName}" / "pier"
        self.disk.mkdir(parents=True)
        self.disk.chmod(0o777)
        self.addCleanup(self.end_agents)

    def account(self, name: str) -> Path:
        """A fresh home, with some files to keep."""
        home = self.root / f"{self._testMethodName} {name}"
        for path, text in (
            ("Documents/budget.csv", "item,cost\nlamps,120\n"),
            ("Documents/Drafts/letter.txt", "dear all"),
            ("Pictures/stage.txt", "a picture"),
            ("secret", "low tide at noon by the pier\n"),
            ("run/here", ""),
        ):
            (home / path).parent.mkdir(parents=True, exist_ok=True)
            (home / path).write_text(text)
        (home / "run").chmod(0o700)
        (home / "secret").chmod(0o600)
        if self.other:
            for one in [home, *home.rglob("*")]:
                os.chown(one, _PERSON, _PERSON)
        self.homes.append(home)
        return home

    def end_agents(self) -> None:
        for home in self.homes:
            self.run_line("good-tide agent remove", home)

    def run_line(self, line: str, home: Path) -> subprocess.CompletedProcess[str]:
        """Run a line by a shell, as this person."""
        environment = {
            "HOME": str(home),
            "USER": "ada",
            "XDG_RUNTIME_DIR": str(home / "run"),
            "PATH": f"{self.program.parent}:/usr/bin:/bin",
            "LC_ALL": "C.UTF-8",
            "QT_QPA_PLATFORM": "offscreen",
        }
        return subprocess.run(
            [*self.person, "sh", "-c", line],
            cwd=home,
            env=environment,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            timeout=300,
            check=False,
        )

    def ok(self, line: str, home: Path, code: int = 0) -> str:
        done = self.run_line(line, home)
        self.assertNotIn("Traceback", done.stderr, line)
        self.assertEqual(done.returncode, code, f"{line}\n{done.stdout}{done.stderr}")
        return done.stdout

    def here(self, line: str, taken: str) -> str:
        """A line of the README with this account's disk, and the moment of its snapshot."""
        for said, meant in (
            ("/media/pier", f"'{self.disk}'"),
            ("/media/mole", f"'{self.disk.parent}/mole'"),
            ("Pier ", "desk "),
            ("STORE", "desk"),
            (" DIR", f" '{self.disk}'/good-tide/desk"),
            ("2026-11-17T12:00", taken),
        ):
            line = line.replace(said, meant)
        return line

    def test_every_line(self) -> None:
        (self.disk.parent / "mole" / "good-tide").mkdir(parents=True)
        lines = _LINE.findall((REPOSITORY / "README.md").read_text())
        self.assertGreater(len(lines), 20)
        if self.other:
            subprocess.run(["chown", "-R", f"{_PERSON}:{_PERSON}", self.disk.parent], check=True)
        taken, secret = "", self.home / "secret"
        for said in lines:
            line = self.here(said, taken)
            passphrase = "" if "--passphrase-file" in line else f" --passphrase-file '{secret}'"
            asks = any(f"good-tide {word} " in line for word in _OPENS) or "store carry" in line
            if "unlock" in line:  # there is no key ring here: as the comment says
                line = line.replace("--remember", f"--keep-in '{self.home / 'words'}'")
                asks = True
            if "store carry" in line:
                line = (
                    f"good-tide store create '{self.disk.parent}/mole/good-tide/desk'{passphrase} && {line}"
                    f" --to-passphrase-file '{secret}'"
                )
            if "replace-store" in line:
                line = f"find '{self.disk}'/good-tide/desk -mindepth 1 -delete && {line}"
                passphrase, asks = f" --passphrase-file '{secret}'", True
            with self.subTest(said):
                done = self.run_line(line + (passphrase if asks else ""), self.home)
                self.assertNotIn("Traceback", done.stderr)
                codes = (0, 1) if said in _ENDS_WITH_1 else (0,)
                self.assertIn(done.returncode, codes, f"{line}\n{done.stdout}{done.stderr}")
            if said.startswith("good-tide snapshot"):
                (self.home / "Documents" / "budget.csv").write_text("item,cost\nlamps,0\n")
                history = json.loads(
                    self.ok(f"good-tide history desk --json{passphrase or self._secret()}", self.home)
                )
                taken = history["snapshots"][-1]["time"]

    def _secret(self) -> str:
        return f" --passphrase-file '{self.home / 'secret'}'"

    def test_the_second_machine_from_the_first_ones_job_file(self) -> None:
        store = f"'{self.disk}'/$(uname -n)/store"
        add = f"good-tide job add Office --folder ~/Documents --store {store} --passphrase-file secret"
        self.ok(add, self.home)
        self.ok("good-tide job change Office --set rhythm.every=2h --set kinds.scores=musx", self.home)
        self.ok("good-tide snapshot Office --passphrase-file secret", self.home)
        self.ok("good-tide job save Office office.toml --portable", self.home)
        other = self.account("ben")
        text = (self.home / "office.toml").read_text()
        self.assertIn("{machine}/store", text)
        shutil.copy(self.home / "office.toml", other / "office.toml")
        (other / "office.toml").chmod(stat.S_IRUSR | stat.S_IRGRP | stat.S_IROTH)
        self.ok("good-tide job load office.toml --passphrase-file secret", other)
        settings = json.loads(self.ok("good-tide job show Office --settings --json", other))["settings"]
        self.assertEqual(settings["folders"], ["$DOCUMENTS"])
        self.assertEqual((settings["rhythm.every"], settings["kinds.scores"]), ("2h", ["musx"]))
        taken = self.ok("good-tide snapshot Office --passphrase-file secret", other)
        self.assertIn("Snapshot", taken)
        first = json.loads(self.ok("good-tide job show Office --settings --json", self.home))["settings"]
        self.assertEqual({**first, "store": 0}, {**settings, "store": 0}, "but for nothing else")
        self.ok("good-tide job load office.toml --plan", other)
        self.ok("good-tide demo --no-window", other)
        listed = self.ok("good-tide uninstall", other)
        self.assertIn("demo", listed)


_OPENS = (
    "versions",
    "differences",
    "restore",
    "verify",
    "find",
    "fleet",
    "repair",
    "prove",
    "snapshot",
)
