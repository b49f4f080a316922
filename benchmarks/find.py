"""Finding names in a catalog of a million of them with a long history, against ``grep`` through the same
names in a text file, in the same run.

``python -m benchmarks.find [NAMES]``.
"""

from __future__ import annotations

import os
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from good_tide.core.identifiers import MachineId
from good_tide.core.name_query import NameQuery, parse_query
from good_tide.storage.catalog import Catalog

_WORDS = [
    "budget",
    "letter",
    "scene",
    "act",
    "cue",
    "light",
    "plot",
    "stage",
    "winter",
    "summer",
    "cast",
    "photo",
    "invoice",
    "contract",
    "plan",
    "draft",
]
_SNAPSHOTS = 5000
_FIRST = 100
_SEARCHES = (
    "004217",
    "budget 004217",
    "budget",
    "*.csv",
    "winter/budget",
    "UBERSICHT",
    "photo 12345",
    "zzzqqq",
)


def make_catalog(file: Path, names: Path, count: int) -> Catalog:
    """A catalog with so many names in a twentieth as many folders, each with one to five versions; and its
    names as text."""
    rng = random.Random(1)
    catalog = Catalog(file)
    with catalog._transaction(), names.open("w") as text:
        add = catalog._db.execute
        add("INSERT INTO machine VALUES (1, 'm', 'desk')")
        for seq in range(1, _SNAPSHOTS + 1):
            add(
                "INSERT INTO snapshot (machine, seq, name, time, label, files, bytes, stored, gaps)"
                " VALUES (1, ?, ?, ?, '', 1, 1, 1, 0)",
                (seq, f"{seq:064x}", seq * 3600 * 10**9),
            )
        add("INSERT INTO folder (id, machine, parent, name) VALUES (1, 1, 0, ?)", (b"/home/anna",))
        add("INSERT INTO span VALUES (-1, ?, 'd', 0, 0, x'', 1, NULL, NULL, NULL)", (b"/home/anna",))
        for number in range(2, count // 20):
            parent = rng.randrange(max(1, number - 3000), number) if number % 2 else rng.randrange(1, 300)
            name = f"{rng.choice(_WORDS)} {rng.choice(_WORDS)} {number}".encode()
            add("INSERT INTO folder VALUES (?, 1, ?, ?, NULL)", (number, min(parent, number - 1), name))
            add(
                "INSERT INTO span VALUES (?, ?, 'd', 0, 0, x'', 1, NULL, NULL, NULL)",
                (min(parent, number - 1), name),
            )
        for number in range(count):
            ending = rng.choice(("txt", "odt", "csv"))
            called = f"{rng.choice(_WORDS)} {rng.choice(_WORDS)} {number:06d}.{ending}"
            called = called if number % 1000 else f"Übersicht {number:06d}.odt"
            text.write(called + "\n")
            folder = rng.randrange(1, max(2, count // 20))
            begins = sorted(rng.sample(range(1, _SNAPSHOTS), rng.choice((1, 1, 1, 2, 5))))
            ends = [begin - 1 for begin in begins[1:]] + [None if rng.random() < 0.8 else _SNAPSHOTS - 1]
            for begin, end in zip(begins, ends, strict=True):
                row = (folder, called.encode(), begin, os.urandom(16), begin, end)
                add("INSERT INTO span VALUES (?, ?, 'f', 1000, ?, ?, ?, ?, NULL, NULL)", row)
    return catalog


def _best(act: Callable[[], object], tries: int = 3) -> float:
    """Seconds of the quickest of some tries."""
    found = []
    for _ in range(tries):
        begun = time.perf_counter()
        act()
        found.append(time.perf_counter() - begun)
    return min(found)


def main() -> None:
    """Print a table."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    with tempfile.TemporaryDirectory() as folder:
        names = Path(folder) / "names.txt"
        catalog = make_catalog(Path(folder) / "catalog.db", names, count)
        begun = time.perf_counter()
        catalog._complete_names()
        print(f"{count:,} names laid out once: {time.perf_counter() - begun:.1f} s")
        machine = MachineId("m")
        print(f"{'search':16} {'found':>6} {'first':>8} {'again':>8} {'grep -i':>8} {'ratio':>6}")
        for typed in _SEARCHES:
            query = NameQuery(parse_query(typed))
            begun = time.perf_counter()
            found = catalog.find(machine, query, _FIRST)
            first = time.perf_counter() - begun
            again = _best(partial(catalog.find, machine, query, _FIRST))
            longest = max(typed.replace("/", " ").replace("*", "").split(), key=len)
            command = ["grep", "-aic", longest, str(names)]
            grep = _best(partial(subprocess.run, command, check=False, capture_output=True))
            kind = "near" if found.near else "more" if found.more else ""
            print(
                f"{typed:16} {found.count:5}{kind[:1] or ' '} {first * 1000:6.0f} ms {again * 1000:5.0f} ms"
                f" {grep * 1000:5.0f} ms {again / grep:6.2f}"
            )
        catalog.close()


if __name__ == "__main__":
    main()
