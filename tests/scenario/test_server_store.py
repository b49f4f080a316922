"""A store on a server does all that one on a disk does: it is thinned and swept, mended, carried there and
back, and used by many machines at once."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

from good_tide.lines.client import line_to
from good_tide.storage.server_place import ServerPlace
from good_tide.storage.store import open_store
from tests.support.base import GoodTideTest, program
from tests.support.ssh_server import server_for
from tests.support.store_life import StoreCommands

_CLIENTS = 10
_AS_ANOTHER = """
import sys
from pathlib import Path
from good_tide.system import machine
machine._MACHINE_ID = Path(sys.argv.pop(1))
from good_tide.start import main
main()
"""
"""The program, on a machine of its own."""


class ServerStoreTest(StoreCommands, GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.server = server_for(self, Path(os.environ["XDG_CONFIG_HOME"]) / "good-tide")
        self.address = self.server.address.inside("store")
        self.addCleanup(line_to(self.address).end)
        self.done("store", "create", str(self.address), "--unencrypted")

    def packs(self) -> list[Path]:
        """The packs on the server, the largest first."""
        found = [path for path in (self.server.files / "store/packs").rglob("*") if path.is_file()]
        return sorted(found, key=lambda path: -path.stat().st_size)

    def test_released_swept_mended_and_carried_there_and_back(self) -> None:
        store = str(self.address)
        self.done("release", store, *self.take_three(store)[:2])
        before = sum(path.stat().st_size for path in self.packs())
        self.assertIn("gave back", self.done("sweep", store))
        self.assertLess(sum(path.stat().st_size for path in self.packs()), before / 2)
        with open(self.packs()[0], "r+b") as file:
            file.seek(100_000)
            file.write(b"\xff" * 2000)
        self.assertIn("Put right", self.done("verify", store, "--read-all"))
        self.assertIn("All is well", self.done("verify", store, "--read-all"))
        local, again = self.folder / "local", str(self.server.address.inside("again"))
        self.done("store", "create", local, "--unencrypted")
        self.done("store", "create", again, "--unencrypted")
        self.assertIn("1 snapshot carried", self.done("store", "carry", store, local))
        self.assertIn("1 snapshot carried", self.done("store", "carry", local, again))
        out = self.folder / "out"
        self.done("restore", again, "--all", "--snapshot", "latest", "--into", out)
        self.assertEqual((out / "work/2.bin").read_bytes(), (self.work / "2.bin").read_bytes())

    def test_a_job_moves_no_more_than_it_may(self) -> None:
        self.write("large.bin", os.urandom(3_000_000))
        self.done("job", "add", "Office", "--folder", self.work, "--store", str(self.address))
        self.done("job", "change", "Office", "--set", "line.up_bytes=1 MB", "--set", "line.down_bytes=1 MB")
        self.assertIn("line.up_bytes", self.done("job", "show", "Office", "--settings"))
        for words in (
            ("snapshot", "Office"),
            ("restore", "Office", "--all", "--snapshot", "latest", "--into", self.folder / "out"),
        ):
            began = time.monotonic()
            self.done(*words)
            self.assertGreater(time.monotonic() - began, 2.5, words)
        self.done("job", "change", "Office", "--set", "line.hours=mon 00:00-00:01")
        wrong = program("job", "change", "Office", "--set", "line.hours=whenever")
        self.assertEqual((wrong.returncode, "are no hours" in wrong.stderr), (2, True), wrong.stderr)

    def test_ten_machines_at_once(self) -> None:
        running = []
        for number in range(_CLIENTS):
            own = self.folder / f"machine {number}"
            (own / "files").mkdir(parents=True)
            (own / "machine-id").write_text(f"{number:032}")
            (own / "files" / "name.txt").write_text(f"machine {number}")
            (own / "files" / "same.bin").write_bytes(b"the same for all" * 50_000)
            places = {f"XDG_{kind}_HOME": str(own / kind) for kind in ("STATE", "CACHE", "DATA")}
            command = ["snapshot", "--store", str(self.address), "--folder", str(own / "files")]
            running.append(
                subprocess.Popen(
                    [sys.executable, "-c", _AS_ANOTHER, str(own / "machine-id"), *command],
                    env={**os.environ, **places},
                    stdout=subprocess.PIPE,
                    stderr=subprocess.STDOUT,
                )
            )
        said = [process.communicate(timeout=240)[0] for process in running]
        self.assertEqual([process.returncode for process in running], [0] * _CLIENTS, said)
        store = open_store(ServerPlace(self.address), None)
        found, damage = store.snapshots()
        self.assertEqual((len(found), len({one.record.machine.id for one in found}), damage), (10, 10, []))
        self.assertIn("All is well", self.done("verify", str(self.address), "--read-all"))
        for folder in ("tmp", "writers"):
            self.assertEqual(list((self.server.files / "store" / folder).iterdir()), [])
