"""The store: chunking, keys, and its invariants, each with something that tries to break it."""

from __future__ import annotations

import os
import random
import secrets
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from unittest import mock

import numpy as np

from good_tide.core.errors import (
    DamageError,
    GoodTideError,
    PlaceFullError,
)
from good_tide.core.progress import Silent
from good_tide.operations.integrity.verify import verify
from good_tide.operations.stores.carrying import carry
from good_tide.storage.chunker import Chunker
from good_tide.storage.packed import pack_file
from good_tide.storage.packs import padded_size
from good_tide.storage.recovery_script import SCRIPT_FILE, recovery_script
from good_tide.storage.store import Store
from good_tide.storage.writer import WriteSession
from tests.support.base import (
    CHEAP,
    MACHINE,
    OTHER_MACHINE,
    PASSPHRASE,
    REPOSITORY,
    T0,
    GoodTideTest,
    create_store,
    open_store,
    tree,
)
from tests.support.memory_place import MemoryPlace, PowerCutError

FROZEN = (
    ("v1-open", None),
    ("v1-encrypted", "frozen tide"),
    ("v2-open", None),
    ("v2-encrypted", "frozen tide"),
)


class InvariantTest(GoodTideTest):
    """The invariants of ``docs/architecture.md`` that the storage layer keeps."""

    def fill(self) -> None:
        random.seed(5)
        for number in range(12):
            self.write(f"letters/letter {number}.txt", f"letter {number} " * number * 40)
        self.write("sound.wav", random.randbytes(900_000))

    def memory_store(self, place: MemoryPlace, keys: Store) -> Store:
        return Store(place, keys.header, keys.keys)

    def test_1_visible_means_complete_with_power_cuts_at_every_operation(self) -> None:
        self.fill()
        keys = self.new_store()
        cut, finished = 0, False
        while not finished:
            place = MemoryPlace(cut_after=cut)
            store = self.memory_store(place, keys)
            try:
                with mock.patch("good_tide.storage.writer.PACK_BYTES", 64 * 1024):
                    self.snap(store, 0)
                    self.write("sound.wav", random.Random(cut).randbytes(300_000))
                    self.snap(store, 1)
                finished = True
            except PowerCutError:
                pass
            left = self.memory_store(place.after_power_cut(), keys)
            self.assertTrue(verify(left, True, Silent()).ok, f"cut after {cut} operations")
            again = self.snap(left, 5)
            out = self.folder / "out" / str(cut)
            for snapshot in [*left.snapshots()[0], again]:
                self.restore(left, snapshot, self.work, out / snapshot.id)
            self.assertEqual(tree(out / again.id / "work"), tree(self.work))
            cut += 1
        self.assertGreater(cut, 10)

    def test_1_and_2_killed_processes_leave_only_whole_snapshots(self) -> None:
        self.fill()
        store_folder = self.folder / "store"
        create_store(store_folder, PASSPHRASE, cost=CHEAP)
        code = (
            "import sys, random; from pathlib import Path; from tests.support.base import *\nstore ="
            " open_store(Path(sys.argv[1]), PASSPHRASE); work = Path(sys.argv[2])\nfor hour in range(1000):\n"
            "    (work / 'sound.wav').write_bytes(random.randbytes(400_000)); print(hour, flush=True)\n   "
            " capture(store, CaptureRequest((work,), MACHINE), SetClock(Nanoseconds(T0 + (int(sys.argv[4]) *"
            " 1000 + hour) * HOUR)), Silent(), Path(sys.argv[3]))\n"
        )
        chance = random.Random(6)
        for run in range(8):
            child = subprocess.Popen(
                [sys.executable, "-c", code, str(store_folder), str(self.work), str(self.state), str(run)],
                cwd=REPOSITORY,
                stdout=subprocess.PIPE,
            )
            assert child.stdout is not None
            child.stdout.readline()
            time.sleep(chance.uniform(0, 0.25))
            child.send_signal(signal.SIGKILL)
            child.wait()
            child.stdout.close()
            store = open_store(store_folder, PASSPHRASE)
            self.assertEqual(verify(store, True, Silent()).damage, [])
        before = len(store.snapshots()[0])
        self.snap(store, 100_000)
        self.assertEqual(len(store.snapshots()[0]), before + 1)
        self.assertEqual(store.place.names("tmp"), [])

    def test_3_no_changed_cut_or_swapped_byte_is_believed(self) -> None:
        self.fill()
        for passphrase in (PASSPHRASE, None):
            store = self.new_store(f"s{passphrase is None}", passphrase)
            first = self.snap(store, 0)
            self.write("sound.wav", b"short")
            self.snap(store, 1)
            root = Path(store.place.title)
            expected = self.folder / f"expected{passphrase is None}"
            self.restore(store, first, self.work, expected)
            chance = random.Random(7)
            groups = [
                sorted(path for path in (root / kind).rglob("*") if path.is_file())
                for kind in ("index", "snapshots", "packs")
            ]
            for files in groups:
                for file in files:
                    whole = file.read_bytes()
                    spots = [
                        0,
                        4,
                        5,
                        len(whole) - 1,
                        len(whole) - 5,
                        *(chance.randrange(len(whole)) for _ in range(6)),
                    ]
                    changed = [
                        whole[:at] + bytes([whole[at] ^ (1 << chance.randrange(8))]) + whole[at + 1 :]
                        for at in spots
                    ]
                    changed += [
                        whole[: len(whole) // 2],
                        b"",
                        whole + b"\0",
                        files[0].read_bytes() if file != files[0] else files[-1].read_bytes(),
                    ]
                    for number, data in enumerate(changed):
                        file.write_bytes(data)
                        with self.subTest(
                            file=file.relative_to(root), number=number, encrypted=passphrase is not None
                        ):
                            self._only_true_bytes_or_an_error(root, passphrase, expected)
                    file.write_bytes(whole)

    def _only_true_bytes_or_an_error(self, root: Path, passphrase: str | None, expected: Path) -> None:
        store = open_store(root, passphrase)
        try:
            report = verify(store, True, Silent())
            self.assertTrue(report.damage or report.mended)
        except GoodTideError:
            pass
        known = tree(expected)
        out = self.folder / "probe" / secrets.token_hex(4)
        try:
            for snapshot in open_store(root, passphrase).snapshots()[0][:1]:
                if snapshot.record.tally.bytes > 500_000:
                    self.restore(store, snapshot, self.work, out)
        except GoodTideError:
            pass
        for path, what in tree(out).items() if out.exists() else ():
            if what[0] == "file":
                self.assertEqual(what[3], known[path][3])

    def test_3_without_secrecy_the_identity_tells_whether_bytes_are_right(self) -> None:
        store = self.new_store("plain", passphrase=None, parity=False)
        self.write("plan.bin", random.Random(5).randbytes(300_000))
        self.snap(store)
        chunk = next(one for table in store.index.tables.values() for one in table.chunk_ids())
        place = store.index.find(chunk)
        assert place is not None
        pack = next((self.folder / "plain" / "packs").rglob(place.pack.hex()))
        whole, plain = pack.read_bytes(), store.read_chunk(chunk)
        for at, is_seal in ((place.offset + place.stored - 1, True), (place.offset + 5, False)):
            pack.write_bytes(whole[:at] + bytes([whole[at] ^ 1]) + whole[at + 1 :])
            again = open_store(self.folder / "plain", None)
            if is_seal:
                self.assertEqual(again.read_chunk(chunk), plain)
            else:
                with self.assertRaises(DamageError):
                    again.read_chunk(chunk)
            again = open_store(self.folder / "plain", None)
            with again.read_back(), self.assertRaises(DamageError):
                again.read_chunk(chunk)
            self.assertFalse(verify(open_store(self.folder / "plain", None), True, Silent()).ok)
        pack.write_bytes(whole)

    def test_4_without_the_passphrase_no_name_or_content_shows(self) -> None:
        self.write("a secret name.txt", b"a secret content " * 100)
        store = self.new_store()
        self.snap(store, 0)
        everything = b"".join(
            path.read_bytes() for path in Path(store.place.title).rglob("*") if path.is_file()
        )
        for words in (b"secret name", b"secret content", b"desk", os.fsencode(self.work)):
            self.assertNotIn(words, everything)
        other = self.new_store("other")
        data = np.frombuffer(random.Random(1).randbytes(6_000_000), dtype=np.uint8)
        cut = [list(Chunker(one.keys.border_secret).lengths(data, True)) for one in (store, other)]
        self.assertNotEqual(*cut)

    def test_4_of_the_size_of_a_pack_only_the_upper_bits_show(self) -> None:
        sizes = range(5000, 400_000, 7)
        padded = [padded_size(size) for size in sizes]
        self.assertTrue(
            all(0 <= more - size <= size * 0.12 for size, more in zip(sizes, padded, strict=True))
        )
        self.assertLess(len(set(padded)), 200)
        store, sizes_of = self.new_store(), []
        for number in range(8):
            self.write("plan.bin", random.Random(number).randbytes(150_000 + 40 * number))
            self.snap(store, number)
            packs = [path for path in Path(store.place.title, "packs").rglob("*") if path.is_file()]
            sizes_of = sorted(path.stat().st_size for path in packs)
        self.assertLessEqual(len(set(sizes_of[-8:])), 2)

    def test_6_two_machines_write_at_once_and_share_chunks(self) -> None:
        self.fill()
        store = self.new_store()
        twin = open_store(Path(store.place.title), PASSPHRASE)
        with WriteSession(store, "one-") as first, WriteSession(twin, "two-") as second:
            first.put(b"x" * 100_000)
            second.put(b"x" * 100_000)
        self.snap(store, 0)
        taken = self.snap(twin, 0, OTHER_MACHINE)
        self.assertEqual(taken.record.tally.new_bytes, 0)
        fresh = open_store(Path(store.place.title), PASSPHRASE)
        self.assertEqual(
            {snapshot.record.machine.id for snapshot in fresh.snapshots()[0]}, {MACHINE.id, OTHER_MACHINE.id}
        )
        self.assertTrue(verify(fresh, True, Silent()).ok)

    def test_7_frozen_stores_open_for_ever(self) -> None:
        for name, passphrase in FROZEN:
            with self.subTest(name):
                store = open_store(REPOSITORY / "tests" / "frozen" / name, passphrase)
                snapshots, damage = store.snapshots()
                self.assertEqual((len(snapshots), damage), (2, []))
                self.assertTrue(verify(store, True, Silent()).ok)
                self.restore(
                    store, snapshots[0], store.roots(snapshots[0].record)[0].name, self.folder / name
                )
                self.assertEqual(
                    (self.folder / name / "office" / "letter.txt").read_text(), "frozen in time\n"
                )

    def test_frozen_stores_are_written_on_and_carried(self) -> None:
        for name, passphrase in FROZEN:
            with self.subTest(name):
                root = self.folder / name
                shutil.copytree(REPOSITORY / "tests" / "frozen" / name, root)
                self.write("new.txt", name)
                taken = self.snap(open_store(root, passphrase), 50)
                store = open_store(root, passphrase)
                self.assertEqual(
                    store.place.read(pack_file(next(iter(store.index.tables))), 4, 1)[0], store.header.format
                )
                self.assertTrue(verify(store, True, Silent()).ok)
                self.assertEqual((root / SCRIPT_FILE).read_bytes(), recovery_script(), "it reads what is new")
                twin = self.new_store(f"{name} carried")
                self.assertEqual(len(carry(store, twin, None, self.state, Silent()).carried), 3)
                self.assertTrue(verify(open_store(Path(twin.place.title), PASSPHRASE), True, Silent()).ok)
                self.restore(twin, twin.read_snapshot(taken.id), self.work, self.folder / f"{name} out")
                self.assertEqual((self.folder / f"{name} out" / "work" / "new.txt").read_text(), name)

    def test_a_run_that_fills_a_place_leaves_room_for_the_next_to_begin(self) -> None:
        keys = self.new_store()
        for limit in range(1_000_000, 1_200_000, 50_000):
            place, pieces = MemoryPlace(limit=limit), random.Random(limit)
            with (
                self.subTest(limit),
                self.assertRaises(PlaceFullError),
                WriteSession(self.memory_store(place, keys), "one-") as session,
            ):
                for _ in range(1000):
                    session.put(pieces.randbytes(2000))
                session.keep()
            free = place.room()[0]
            self.assertTrue(limit // 80 < free < limit // 10, free)

    def test_a_full_place_keeps_what_is_whole_and_the_next_run_goes_on(self) -> None:
        self.fill()
        keys = self.new_store()
        place = MemoryPlace(limit=5_000_000)
        self.write("sound.wav", random.Random(9).randbytes(9_000_000))
        with self.assertRaises(PlaceFullError):
            self.snap(self.memory_store(place, keys), 0)
        self.assertEqual(place.volatile, {})
        kept = sum(map(len, place.files.values()))
        place.limit = 1 << 40
        taken = self.snap(self.memory_store(place, keys), 1)
        self.assertGreater(kept, 100_000)
        self.assertLess(taken.record.tally.new_bytes, 9_000_000)
        self.assertTrue(verify(self.memory_store(place, keys), True, Silent()).ok)
        self.assertEqual(taken.record.time, T0 + 3600 * 10**9)
