"""Every command at one number of files and at ten times as many: processor time, and the ratio, which is near
10 where work is linear.

``python -m benchmarks.scaling [FILES]`` (10,000 and 100,000 files if not given). Start of Python is taken
off; what is too quick to be measured at the small size says so. It ends with 1 when a command is worse than
linear.
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np

TOLERATED = 14.0
"""Ratio from which on a command counts as worse than linear: caches fit less, trees get deeper."""
_LEAST = 0.15
"""Seconds of processor below which a ratio says nothing."""


def make_files(root: Path, count: int) -> None:
    """Small files, five hundred in a folder."""
    rng = np.random.default_rng(7)
    for number in range(count):
        folder = root / f"part {number // 25_000}" / f"folder {number // 500}"
        if number % 500 == 0:
            folder.mkdir(parents=True, exist_ok=True)
        (folder / f"note {number}.txt").write_bytes(rng.bytes(int(rng.integers(100, 900))))


_Commands = tuple[tuple[str, tuple[str | Path, ...]], ...]


class Machine:
    """A machine with so many files, and what commands cost on it."""

    def __init__(self, root: Path, count: int) -> None:
        self.root, self.count = root, count
        self.work, self.store, self.twin = root / "work", root / "store", root / "twin"
        self.spent: dict[str, float] = {}
        names = (
            "HOME",
            "XDG_CACHE_HOME",
            "XDG_STATE_HOME",
            "XDG_DATA_HOME",
            "XDG_CONFIG_HOME",
            "XDG_RUNTIME_DIR",
        )
        self._environment = {**os.environ, **{name: str(root / name.lower()) for name in names}}
        (root / "xdg_runtime_dir").mkdir(parents=True, mode=0o700)
        make_files(self.work, count)
        self._start = min(self._cost("history", "--help") for _ in range(3))

    def _cost(self, *words: str | Path) -> float:
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        ended = subprocess.run(
            [sys.executable, "-m", "good_tide", *map(str, words)],
            env=self._environment,
            capture_output=True,
            text=True,
            check=False,
        )
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        if ended.returncode not in (0, 1):
            raise RuntimeError(f"{words}: {ended.returncode} {ended.stderr[-500:]}")
        return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime

    def run(self, name: str, *words: str | Path) -> None:
        """Run a command, and note what it cost."""
        self.spent[name] = max(0.0, self._cost(*words) - self._start)

    def all(self, tell: Callable[[str], None]) -> None:
        """Every command that looks at files."""
        store, into = ("--store", self.store), self.root / "into"
        one = self.work / "part 0" / "folder 0" / "note 0.txt"
        self._cost("job", "add", "Office", "--folder", self.work, "--store", self.store, "--unencrypted")
        self._cost("store", "create", self.twin, "--unencrypted")
        first: _Commands = (
            ("snapshot, first", ("snapshot", "Office")),
            ("snapshot, unchanged", ("snapshot", "Office")),
            ("coverage", ("coverage", "Office", "--rule", "exclude kind sound")),
            ("contents", ("contents", *store, "latest", self.work, "--deep")),
            ("versions", ("versions", *store, one)),
            ("verify", ("verify", *store, "--read-all")),
            (
                "restore, plan",
                ("restore", *store, "--snapshot", "latest", "--path", self.work, "--into", into, "--plan"),
            ),
            ("restore", ("restore", *store, "--snapshot", "latest", "--path", self.work, "--into", into)),
            (
                "restore, identical",
                ("restore", *store, "--snapshot", "latest", "--path", self.work, "--in-place"),
            ),
            ("carry", ("store", "carry", self.store, self.twin)),
            ("room", ("room", self.store, "--by", "folder")),
        )
        self._run_all(first, tell)
        for folder in (self.work / "part 0").iterdir():
            for file in folder.iterdir():
                file.write_bytes(file.read_bytes() + b"changed")
        changed: _Commands = (
            ("snapshot, much changed", ("snapshot", "Office")),
            ("versions, read anew", ("versions", *store, one)),
            (
                "restore, set aside",
                ("restore", *store, "--snapshot", self._first(), "--path", self.work, "--in-place"),
            ),
        )
        self._run_all(changed, tell)
        aside = next(path for path in self.work.iterdir() if path.name.startswith("Set aside"))
        last: _Commands = (
            ("undo", ("undo", *store, aside)),
            ("purge, plan", ("purge", self.store, "note 1*.txt", "--plan")),
            ("purge", ("purge", self.store, "note 1*.txt")),
            ("sweep", ("sweep", self.store)),
            ("history", ("history", *store)),
            ("status", ("status",)),
        )
        self._run_all(last, tell)
        tell("release")
        self.run("release", "release", self.store, self._first())

    def _run_all(self, commands: _Commands, tell: Callable[[str], None]) -> None:
        for name, words in commands:
            tell(name)
            self.run(name, *words)

    def _first(self) -> str:
        return min(
            (path for path in (self.store / "snapshots").iterdir()), key=lambda path: path.stat().st_mtime_ns
        ).name


def _tell(files: int, name: str) -> None:
    print(f"\r{files:>9,} files: {name:<30}", end="", file=sys.stderr)


def main() -> int:
    """Measure, and print the table."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    with tempfile.TemporaryDirectory(prefix="good-tide-scaling-") as folder:
        machines = []
        for files in (count, 10 * count):
            made = Machine(Path(folder) / str(files), files)
            made.all(partial(_tell, files))
            machines.append(made)
    print(file=sys.stderr)
    small, large = machines
    print(f"| processor seconds | {small.count:,} files | {large.count:,} files | ratio |\n|---|---|---|---|")
    worse = []
    for name, few in small.spent.items():
        many = large.spent[name]
        ratio = many / few if few >= _LEAST else 0.0
        worse += [name] * (ratio > TOLERATED or (few < _LEAST and many > TOLERATED * _LEAST))
        print(f"| {name} | {few:.2f} | {many:.2f} | {f'{ratio:.1f}' if ratio else 'too quick'} |")
    rate = large.count / large.spent["restore"]
    print(f"\nRestored: {rate:,.0f} small files a second of processor time.")
    if worse:
        print(f"Worse than linear: {', '.join(worse)}")
    return int(bool(worse) or rate < 3000)


if __name__ == "__main__":
    sys.exit(main())
