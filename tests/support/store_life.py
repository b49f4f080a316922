"""Commands that use a store, wherever it lies, and its whole life by them."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import TYPE_CHECKING

from tests.support.base import GoodTideTest, program

if TYPE_CHECKING:
    Base = GoodTideTest
else:
    Base = object  # what is no test of its own is not run as one where it is imported


class StoreCommands(Base):
    """Commands that have to go well."""

    def done(self, *words: str | Path) -> str:
        """What a command says that has to go well."""
        found = program(*words)
        self.assertEqual(found.returncode, 0, f"{words}: {found.stdout}{found.stderr}")
        return found.stdout

    def take_three(self, store: str) -> list[str]:
        """Take snapshots of three states that have nothing in common; their names, the oldest first."""
        for number in range(3):
            self.write(f"{number}.bin", os.urandom(2_000_000))
            (self.work / f"{number - 1}.bin").unlink(missing_ok=True)
            self.done("snapshot", "--store", store, "--folder", str(self.work))
        return [one["snapshot"] for one in json.loads(self.done("history", store, "--json"))["snapshots"]]

    def live_through(self, store: str) -> None:
        """Make a store, take, release, sweep, verify and bring back."""
        self.assertIn(store, self.done("store", "create", store, "--unencrypted"))
        self.done("release", store, *self.take_three(store)[:2])
        self.assertIn("gave back", self.done("sweep", store))
        self.done("verify", store, "--read-all")
        self.done("restore", store, "--all", "--snapshot", "latest", "--into", self.folder / "out")
        self.assertEqual((self.folder / "out/work/2.bin").read_bytes(), (self.work / "2.bin").read_bytes())
