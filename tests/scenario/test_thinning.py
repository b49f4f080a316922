"""Releasing snapshots: the catalog afterwards, pins, thinning by the ladder, and the commands for it."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

from tests.support.base import PASSPHRASE, GoodTideTest, program


class CommandTest(GoodTideTest):
    def ok(self, *words: str | Path, code: int = 0) -> dict[str, Any]:
        found = program(*words, "--json")
        self.assertEqual(found.returncode, code, found.stdout + found.stderr)
        return dict(json.loads(found.stdout))

    def test_ladder_thin_pin_release_and_sweep(self) -> None:
        self.ok(
            "job", "add", "Office", "--folder", self.work, "--store", self.folder / "store", "--unencrypted"
        )
        store = self.folder / "store"
        for _ in range(5):
            self.write("a.bin", os.urandom(50_000))
            self.ok("snapshot", "Office")
        self.ok("pin", store, "latest", "--label", "as handed over")
        looked = self.ok(
            "ladder", "Office", "--rung", "1h every", "--rung", "forever year", "--picture", "2040-01-01"
        )
        self.assertEqual((len(looked["keeps"]), len(looked["releases"])), (1, 4))
        self.assertGreater(looked["gives_back"], 190_000)
        self.assertEqual(len(self.ok("ladder", "Office")["releases"]), 0)
        self.ok("ladder", "Office", "--rung", "1h year")
        self.assertEqual(
            self.ok("thin", "Office", "--plan")["released"], self.ok("thin", "Office", "--plan")["released"]
        )
        thinned = self.ok("thin", "Office", code=1)
        self.assertEqual((thinned["waits_for_yes"], thinned["released"]), (True, []))
        self.assertEqual(len(self.ok("thin", "Office", "--yes")["released"]), 4)
        self.assertEqual(self.ok("thin", "Office")["released"], [])
        self.assertGreater(self.ok("sweep", store, "--plan")["freed"], 190_000)
        self.assertGreater(self.ok("sweep", store)["freed"], 190_000)
        self.assertTrue(self.ok("verify", "--store", store, "--read-all")["ok"])
        self.write("a.bin", os.urandom(50_000))
        self.ok("snapshot", "Office")
        self.assertEqual(program("release", store, "latest").returncode, 2)
        self.ok("pin", store, self.ok("history", "--store", store)["snapshots"][0]["snapshot"], "--off")
        self.assertEqual(
            self.ok("release", store, "--since", "2038-01-01", "--before", "2039-01-01")["released"], []
        )
        self.assertEqual(program("release", store).returncode, 2)
        self.assertEqual(program("release", store, "latest", "--before", "2039-01-01").returncode, 2)
        pinned_one = self.ok("history", "--store", store)["snapshots"][0]["snapshot"]
        self.ok("pin", store, pinned_one)
        self.assertEqual(self.ok("release", store, "--before", "2039-01-01", "--plan")["released"], [])
        self.ok("pin", store, pinned_one, "--off")
        self.assertEqual(len(self.ok("release", store, "--before", "2039-01-01")["released"]), 1)
        self.assertEqual(len(self.ok("history", "--store", store)["snapshots"]), 1)
        self.assertEqual(program("ladder", "Office", "--rung", "2d fortnight").returncode, 2)

    def test_an_encrypted_store_is_thinned_by_scripts_too(self) -> None:
        secret = self.folder / "secret"
        secret.write_text(PASSPHRASE)
        self.ok(
            "job",
            "add",
            "Office",
            "--folder",
            self.work,
            "--store",
            self.folder / "store",
            "--passphrase-file",
            secret,
        )
        for number in range(2):
            self.write("a.txt", str(number))
            self.ok("snapshot", "Office", "--passphrase-file", secret)
        locked = program("ladder", "Office", "--rung", "1h year")
        self.assertEqual(locked.returncode, 2)
        self.assertIn("Office keeps", locked.stdout, "what was kept is said before what could not be told")
        self.assertEqual(len(self.ok("ladder", "Office", "--passphrase-file", secret)["releases"]), 1)
        self.assertEqual(len(self.ok("thin", "Office", "--yes", "--passphrase-file", secret)["released"]), 1)

    def test_room_its_limits_and_what_takes_it(self) -> None:
        store = self.folder / "store"
        self.ok("job", "add", "Office", "--folder", self.work, "--store", store, "--unencrypted")
        self.write("a.bin", os.urandom(50_000))
        self.write("note.txt", "stays")
        self.ok("snapshot", "Office")
        room = self.ok("room", store, "--by", "machine")
        self.assertEqual((room["limit"], room["short"], room["full_on"], len(room["by"])), (None, 0, None, 1))
        self.assertGreater(room["by"][0]["only_here"], 50_000)
        limited = self.ok("room", store, "--limit", "40 KB", "--floor", "0", "--when-short", "thin", code=1)
        self.assertGreater(limited["short"], 10_000)
        self.assertEqual(self.ok("room", store, "--limit", "50 %", "--reserve", "1 KB")["reserve"], 1000)
        for limit in ("much", "150 %", "0 %", "-5"):
            self.assertEqual(program("room", store, "--limit", limit).returncode, 2)
        planned = self.ok("purge", store, "a.bin", "--plan")
        self.assertEqual(
            (planned["snapshots"], planned["done"], planned["paths"][0]["versions"]), (1, False, 1)
        )
        self.assertTrue(self.ok("purge", store, "a.bin")["done"])
        self.assertEqual(program("purge", store, "a.bin").returncode, 2, "nothing was found")
