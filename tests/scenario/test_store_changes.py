"""Power cuts, kills and full disks while slots are changed, snapshots carried and jobs run."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
import unittest
from unittest import mock

from good_tide.core.errors import WrongPassphraseError
from good_tide.core.progress import Silent
from good_tide.operations.integrity.verify import verify
from good_tide.operations.stores.carrying import carry
from good_tide.storage.folder_place import LocalPlace
from good_tide.storage.header import unlock
from good_tide.storage.keyslots import add_recovery, change_passphrase, list_slots
from good_tide.storage.store import Store
from tests.support.base import CHEAP, PASSPHRASE, REPOSITORY, GoodTideTest, create_store, open_store, tree
from tests.support.memory_place import MemoryPlace, PowerCutError


class SlotPowerCutTest(GoodTideTest):
    def test_a_power_cut_while_the_passphrase_is_changed_never_locks_everybody_out(self) -> None:
        new = create_store(self.folder / "s", PASSPHRASE, cost=CHEAP)
        source = LocalPlace(self.folder / "s")
        files = {name: source.read(name) for name in source.names("") if not name.startswith("tmp/")}
        opened_by, cut, finished = [], 0, False
        while not finished:
            place = MemoryPlace(cut_after=cut)
            place.files = dict(files)
            try:
                change_passphrase(place, new.keys, PASSPHRASE, "another one", cost=CHEAP)
                finished = True
            except PowerCutError:
                pass
            left = place.after_power_cut()
            words = []
            for passphrase in (PASSPHRASE, "another one"):
                try:
                    self.assertEqual(unlock(left, passphrase)[1].secret, new.keys.secret)
                    words.append(passphrase)
                except WrongPassphraseError:
                    continue
            self.assertTrue(words, f"nothing opens the store after {cut} operations")
            opened_by.append(words)
            cut += 1
        self.assertEqual((opened_by[0], opened_by[-1]), ([PASSPHRASE], ["another one"]))

    def test_a_slot_that_is_half_written_or_of_another_store_does_not_count(self) -> None:
        new, other = (
            create_store(self.folder / "s", PASSPHRASE, cost=CHEAP),
            create_store(self.folder / "o", "x y z", cost=CHEAP),
        )
        place = LocalPlace(self.folder / "s")
        add_recovery(place, new.keys, CHEAP)
        self.assertNotEqual(other.header.store, new.header.store)
        count = len(list_slots(place))
        stranger = next((self.folder / "o" / "keys").glob("*.json")).read_bytes()
        (self.folder / "s" / "keys" / "deadbeef.json").write_bytes(stranger)
        (self.folder / "s" / "keys" / "deadbee1.json").write_bytes(stranger[: len(stranger) // 2])
        self.assertEqual(len(list_slots(place)), count)
        with self.assertRaises(WrongPassphraseError):
            unlock(place, "x y z")


class CarryPowerCutTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.new_store("from")
        for hour in range(3):
            for number in range(5):
                self.write(f"sub {number % 2}/file {number} {hour}.txt", f"{number} {hour} " * 300)
            self.write("large.bin", random.Random(hour).randbytes(400_000))
            self.snap(self.source, hour)
        self.whole = tree(self.work)

    def test_a_power_cut_while_carrying_leaves_whole_snapshots_and_the_next_carry_goes_on(self) -> None:
        for twin in (True, False):
            new = create_store(
                self.folder / f"to {twin}", PASSPHRASE, cost=CHEAP, twin=self.source.keys if twin else None
            )
            cut, finished = 0, False
            while not finished:
                place = MemoryPlace(cut_after=cut)
                target = Store(place, new.header, new.keys)
                try:
                    with mock.patch("good_tide.storage.writer.PACK_BYTES", 64 * 1024):
                        carry(self.source, target, None, self.state, Silent())
                    finished = True
                except PowerCutError:
                    pass
                left = Store(place.after_power_cut(), new.header, new.keys)
                self.assertTrue(verify(left, True, Silent()).ok, f"cut after {cut} operations")
                seen = set(left.snapshot_ids())
                self.assertLessEqual(seen, set(self.source.snapshot_ids()))
                report = carry(self.source, left, None, self.state, Silent())
                self.assertEqual((len(report.carried), report.already), (3 - len(seen), len(seen)))
                if cut % 7 == 0 or finished:
                    newest = left.snapshots()[0][-1]
                    self.restore(left, newest, self.work, self.folder / f"out {twin} {cut}")
                    self.assertEqual(tree(self.folder / f"out {twin} {cut}" / "work"), self.whole)
                cut += 1
            self.assertGreater(cut, 8)

    def test_a_killed_carry_goes_on(self) -> None:
        create_store(self.folder / "to", PASSPHRASE, cost=CHEAP)
        code = (
            "import sys; from tests.support.base import *; from good_tide.operations.stores.carrying import"
            " carry\nsource, target = (open_store(Path(one), PASSPHRASE) for one in sys.argv[1:3]);"
            " print('begun', flush=True)\ncarry(source, target, None, Path(sys.argv[3]), Silent())\n"
        )
        chance = random.Random(3)
        for _ in range(5):
            child = subprocess.Popen(
                [
                    sys.executable,
                    "-c",
                    code,
                    str(self.folder / "from"),
                    str(self.folder / "to"),
                    str(self.state),
                ],
                cwd=REPOSITORY,
                stdout=subprocess.PIPE,
            )
            assert child.stdout is not None
            child.stdout.readline()
            time.sleep(chance.uniform(0, 0.12))
            child.send_signal(signal.SIGKILL)
            child.wait()
            child.stdout.close()
            self.assertEqual(verify(open_store(self.folder / "to", PASSPHRASE), True, Silent()).damage, [])
        target = open_store(self.folder / "to", PASSPHRASE)
        carry(self.source, target, None, self.state, Silent())
        self.assertEqual(target.snapshot_ids(), self.source.snapshot_ids())
        self.assertEqual(target.place.names("tmp"), [])


@unittest.skipUnless(os.geteuid() == 0, "mounting needs root")
class FullDiskTest(GoodTideTest):
    """A job with two stores, one of them on a small real disk that fills."""

    def test_a_full_disk_keeps_what_it_has_and_does_not_stop_the_other_store(self) -> None:
        self.write("small.txt", "small")
        small, large, secret = self.folder / "disk", self.folder / "large", self.folder / "secret"
        small.mkdir()
        secret.write_text(PASSPHRASE)
        program = f"{sys.executable} -m good_tide"
        script = f"""set -e
            mount -t tmpfs -o size=6m none {small}
            {program} store create {small}/s --passphrase-file {secret} > /dev/null
            {program} job add Office --folder {self.work} --store {large} \\
                --passphrase-file {secret} > /dev/null
            {sys.executable} - <<'END'
from pathlib import Path
import msgspec
from good_tide.core.settings import StoreRef
from good_tide.operations.workplace import load_jobs, save_job, this_workplace
here = this_workplace()
job = load_jobs(here.settings)[0]
stores = (StoreRef(path="{small}/s", name="small"), *job.stores)
save_job(here.settings, msgspec.structs.replace(job, stores=stores))
END
            {program} snapshot Office --passphrase-file {secret} --json
            head -c 9000000 /dev/urandom > {self.work}/film
            {program} snapshot Office --passphrase-file {secret} --json || echo "code $?"
            rm {self.work}/film
            {program} snapshot Office --passphrase-file {secret} --json
            {program} verify --store {small}/s --passphrase-file {secret} --read-all --json
        """
        done = subprocess.run(
            ["unshare", "-m", "sh", "-c", script], capture_output=True, text=True, check=False
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        first, second, code, third, verified = done.stdout.strip().splitlines()
        self.assertEqual([one["store"] for one in json.loads(first)["snapshots"]], [f"{small}/s", str(large)])
        self.assertEqual([one["store"] for one in json.loads(second)["snapshots"]], [str(large)])
        self.assertEqual(code, "code 1")
        self.assertIn("no room left", done.stderr)
        self.assertEqual(len(json.loads(third)["snapshots"]), 2)
        self.assertTrue(json.loads(verified)["ok"])


class OpenFilesTest(GoodTideTest):
    def test_a_run_leaves_no_handle_open_whatever_happens_to_it(self) -> None:
        for number in range(40):
            self.write(f"folder {number}/file.txt", "x")
        store = self.new_store()
        self.snap(store)
        before = len(os.listdir("/proc/self/fd"))
        for act in ("read", "finish"):
            with (
                mock.patch(
                    f"good_tide.operations.snapshot.small_files.SmallFiles.{act}", side_effect=RuntimeError
                ),
                self.assertRaises(RuntimeError),
            ):
                self.write("folder 1/new.txt", act)
                self.snap(store, 1)
        with (
            mock.patch(
                "good_tide.operations.snapshot.small_files.SmallFiles.entry", side_effect=RuntimeError
            ),
            self.assertRaises(RuntimeError),
        ):
            self.write("folder 2/new.txt", "new")
            self.snap(store, 2)
        self.assertEqual(len(os.listdir("/proc/self/fd")), before)
