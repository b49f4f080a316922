"""Hostile stores, against the program and against ``recover.py``: nothing outside the target, no hang, no
flood of memory, a clear end."""

from __future__ import annotations

import json
import os
import re
import resource
import stat
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec

from good_tide.crypto.slots import Cost
from good_tide.storage.folder_place import LocalPlace
from tests.support.base import (
    CHEAP,
    PASSPHRASE,
    REPOSITORY,
    WARM,
    GoodTideTest,
    create_store,
    open_store,
    program,
    tree,
)
from tests.support.hostile import ESCAPE, MAKERS, Hostile

_MOST_KIB = 700 * 1024
"""Resident memory that no command may pass, whatever a store says. The program itself takes some 100 MiB."""
_SECONDS = 600
"""After which a command counts as hanging; none takes more than some ten of processor time."""


class Ended(NamedTuple):
    """How some commands ended: the code of each, what they said together, and the most memory they took."""

    codes: list[str]
    out: str
    kib: int


def run(what: str | Path, *commands: Sequence[str | Path]) -> Ended:
    """Run commands of the program, or of a script, in one process of their own."""
    words = json.dumps([list(map(str, command)) for command in commands])
    with (
        tempfile.TemporaryFile() as asked,
        tempfile.TemporaryFile() as said,
        tempfile.TemporaryFile() as errors,
    ):
        asked.write(words.encode())
        asked.seek(0)
        WARM.run([str(what)], (asked, said, errors), _SECONDS, "tests.support.hostile_run")
        said.seek(0)
        errors.seek(0)
        out = (said.read() + errors.read()).decode(errors="replace")
    peak = re.search(r"== peak (\d+)", out)
    return Ended(re.findall(r"^== (\w+) after", out, re.MULTILINE), out, int(peak[1]) if peak else -1)


class HostileTest(GoodTideTest):
    """One suite for both: what a maker made is listed, verified and brought back."""

    def setUp(self) -> None:
        super().setUp()
        self.outside = self.folder / "outside"
        self.outside.mkdir()
        (self.outside / "mine.txt").write_text("mine")
        self.untouched = tree(self.outside)
        self.write("letter.txt", "a letter")
        self.write("deep/er/note.txt", "a note" * 4000)

    def hostile(self, name: str) -> Path:
        """A store that was whole before the maker had it."""
        store = self.new_store(f"store {len(list(self.folder.iterdir()))}", None)
        self.snap(store, 0)
        MAKERS[name](Hostile(store, self.outside))
        return Path(store.place.title)

    def check(self, ended: Ended, count: int) -> None:
        self.assertEqual(len(ended.codes), count, ended.out[-2000:])
        self.assertLessEqual(set(ended.codes), set("012345"), ended.out[-2000:])
        self.assertNotIn("Traceback", ended.out)
        self.assertNotIn("\x1b", re.sub(r"\x1b\[[013]?m", "", ended.out), "nothing moves the terminal")
        self.assertTrue(0 < ended.kib < _MOST_KIB, f"{ended.kib} KiB")
        self.assertEqual(tree(self.outside), self.untouched)

    def check_restored(self, into: Path) -> None:
        """Nothing leads out of the target, and nothing in it gives powers."""
        waiting = [into] if into.exists() else []
        while waiting:
            for path in waiting.pop().iterdir():
                info = path.lstat()
                self.assertFalse(info.st_mode & 0o6000 and info.st_uid != 12345, path)
                if stat.S_ISREG(info.st_mode):
                    powers = {key for key in os.listxattr(path) if not key.startswith("user.")}
                    self.assertLessEqual(powers, {"security.capability"} if info.st_uid == 12345 else set())
                elif stat.S_ISDIR(info.st_mode) and len(str(path)) < 2000:
                    waiting.append(path)

    def program(self, name: str) -> None:
        root, into = self.hostile(name), self.folder / "into"
        restore = ("restore", "--store", root, "--snapshot", "latest", "--path", "/office", "--into", into)
        self.check(
            run(
                "program",
                ("history", "--store", root),
                ("verify", "--store", root),
                restore,
                ("store", "about", root),
            ),
            4,
        )
        self.check_restored(into)

    def script(self, name: str) -> None:
        root, into = self.hostile(name), self.folder / "recovered"
        script = REPOSITORY / "src/good_tide/storage/recover.py"
        self.check(run(script, ("--store", root, "list"), ("--store", root, "extract", "latest", into)), 2)
        self.check_restored(into)


def _add(name: str, which: str) -> None:
    def test(self: HostileTest) -> None:
        getattr(self, which)(name)

    setattr(HostileTest, f"test_{which}_" + re.sub(r"\W+", "_", name), test)


for _name in MAKERS:
    for _which in ("program", "script"):
        _add(_name, _which)


class HostileSlotTest(GoodTideTest):
    """Slots that ask for more than anybody would give: the true one opens all the same."""

    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "store"
        create_store(self.root, PASSPHRASE, f"the hint {ESCAPE}", CHEAP)
        self.words = self.folder / "words"
        self.words.write_text(PASSPHRASE)

    def add_slots(self, count: int, cost: Cost) -> None:
        from good_tide.storage.header import header_binding, named_slots, write_slot

        place = LocalPlace(self.root)
        slot = next(slot for slot in named_slots(place).values() if slot.kind == "passphrase")
        for _ in range(count):
            write_slot(
                place, msgspec.structs.replace(slot, cost=cost, sealed=bytes(80)), header_binding(place)
            )

    def test_absurd_slots_are_passed_over(self) -> None:
        self.add_slots(30, Cost(memory_kib=1 << 40, passes=1 << 40, lanes=1))
        self.add_slots(10, Cost(memory_kib=-1, passes=0, lanes=0))
        began = time.process_time()
        open_store(self.root, PASSPHRASE)
        self.assertLess(time.process_time() - began, 2)
        script = REPOSITORY / "src/good_tide/storage/recover.py"
        self.assertEqual(
            run(script, ("--store", self.root, "--passphrase-file", self.words, "list")).codes, ["0"]
        )

    def test_many_dear_slots_cost_no_more_than_some_seconds(self) -> None:
        self.add_slots(6, Cost(memory_kib=1 << 20, passes=4, lanes=4))
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        wrong = self.folder / "wrong"
        wrong.write_text("not the words")
        ended = program("history", "--store", self.root, passphrase=wrong, prefix=["env"], timeout=900)
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        self.assertEqual(ended.returncode, 4, ended.stderr)
        self.assertTrue(0.1 < after.ru_utime - before.ru_utime < 90)
        open_store(self.root, PASSPHRASE)

    def test_thousands_of_slots_are_refused(self) -> None:
        self.add_slots(200, CHEAP)
        ended = program("history", "--store", self.root, passphrase=self.words)
        self.assertEqual(ended.returncode, 4)
        self.assertIn("202 key slots", ended.stderr)

    def test_a_hint_does_not_move_the_terminal(self) -> None:
        for words in (("store", "about", self.root), ("store", "slots", self.root)):
            ended = program(*words)
            self.assertEqual(ended.returncode, 0, ended.stderr)
            self.assertNotIn("\x1b]0", ended.stdout)
            self.assertIn("the hint", ended.stdout)
