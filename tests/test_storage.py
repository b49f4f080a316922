"""The store: chunking, keys, and its invariants, each with something that tries to break it."""

from __future__ import annotations

import contextlib
import os
import random
import secrets
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path
from unittest import mock

import msgspec
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.errors import (
    DamageError,
    GoodTideError,
    NameTakenError,
    NotInPlaceError,
    PersonError,
    PlaceError,
    PlaceFullError,
    WrongPassphraseError,
)
from good_tide.core.identifiers import PackId
from good_tide.core.progress import Silent
from good_tide.crypto.slots import Cost, new_recovery_key, parse_recovery_key, unwrap, wrap
from good_tide.operations.integrity.verify import verify
from good_tide.storage.chunker import Chunker, ChunkSizes
from good_tide.storage.header import create_store, read_header, unlock
from good_tide.storage.index import ChunkIndex
from good_tide.storage.packs import PackTable
from good_tide.storage.place import LocalPlace, Place
from good_tide.storage.store import Store, open_store
from good_tide.storage.writer import WriteSession
from tests.base import CHEAP, MACHINE, OTHER_MACHINE, PASSPHRASE, REPOSITORY, T0, GoodTideTest, tree
from tests.memory_place import MemoryPlace, PowerCutError

SMALL = ChunkSizes(minimum=512, mean_extra=1024, maximum=8192, block=4096)


def lengths(data: bytes, secret: bytes = b"s" * 32, sizes: ChunkSizes = SMALL) -> list[int]:
    return list(Chunker(secret, sizes).lengths(np.frombuffer(data, dtype=np.uint8), True))


class ChunkerTest(GoodTideTest):
    @settings(deadline=None, max_examples=60)
    @given(st.integers(0, 60_000), st.integers(0, 2**32))
    def test_chunks_cover_everything_within_their_limits(self, size: int, seed: int) -> None:
        found = lengths(random.Random(seed).randbytes(size))
        self.assertEqual(sum(found), size)
        self.assertTrue(all(SMALL.minimum <= length <= SMALL.maximum for length in found[:-1]))

    def test_an_insertion_moves_borders_along(self) -> None:
        data = random.Random(1).randbytes(400_000)

        def chunks(content: bytes) -> set[bytes]:
            at, found = 0, set()
            for length in lengths(content):
                found.add(content[at : at + length])
                at += length
            return found

        before, after = chunks(data), chunks(b"some new bytes at the front" + data)
        self.assertLess(len(after - before), 6)
        self.assertGreater(len(before), 150)

    def test_mean_length_is_near_its_aim_on_noise_and_text(self) -> None:
        noise = random.Random(2).randbytes(3_000_000)
        words = b" ".join(
            random.Random(3).choices([b"tide", b"harbour", b"lamp", b"curtain", b"of", b"the"], k=600_000)
        )
        for name, data in (("noise", noise), ("text", words)):
            with self.subTest(name):
                mean = sum(lengths(data)) / len(lengths(data))
                self.assertAlmostEqual(mean, SMALL.minimum + SMALL.mean_extra, delta=0.25 * 1536)

    def test_borders_are_keyed_and_do_not_depend_on_reading_pieces(self) -> None:
        data = random.Random(4).randbytes(200_000)
        self.assertNotEqual(lengths(data), lengths(data, b"t" * 32))
        chunker, at, found = Chunker(b"s" * 32, SMALL), 0, []
        while at < len(data):
            piece = np.frombuffer(data[at : at + 20_000], dtype=np.uint8)
            taken = list(chunker.lengths(piece, at + 20_000 >= len(data)))
            found += taken
            at += sum(taken)
        self.assertEqual(found, lengths(data))

    def test_runs_of_one_byte_end_at_the_maximum(self) -> None:
        self.assertTrue(
            all(length == SMALL.maximum for length in lengths(bytes(80_000))[:-1])
            or len(set(lengths(bytes(80_000))[:-1])) == 1
        )


class KeyTest(GoodTideTest):
    def test_recovery_keys_are_read_however_they_are_typed(self) -> None:
        key = new_recovery_key()
        digits = parse_recovery_key(key)
        self.assertIsNotNone(digits)
        for typed in (
            key.lower(),
            key.replace("-", " "),
            f"  {key}\n",
            key.replace("0", "O").replace("1", "l"),
        ):
            self.assertEqual(parse_recovery_key(typed), digits)
        wrong = ("1" if key[0] != "1" else "2") + key[1:]
        for typed in (wrong, key[:-1], "", "harbour lantern"):
            self.assertIsNone(parse_recovery_key(typed))

    def test_slots_open_with_their_words_and_their_store_only(self) -> None:
        secret = secrets.token_bytes(64)
        slot = wrap("passphrase", "café", secret, b"binding", CHEAP)
        self.assertEqual(unwrap([slot], "cafe\u0301", b"binding"), secret)
        for words, binding in (("cafe", b"binding"), ("café", b"another")):
            with self.assertRaises(WrongPassphraseError):
                unwrap([slot], words, binding)

    def test_a_slot_that_asks_for_too_much_memory_is_refused_before_it_is_taken(self) -> None:
        slot = wrap("passphrase", "x", bytes(64), b"", CHEAP)
        greedy = msgspec.structs.replace(slot, cost=Cost(memory_kib=1 << 30, passes=1, lanes=1))
        with self.assertRaises(DamageError):
            unwrap([greedy], "x", b"")

    def test_recovery_key_opens_the_store(self) -> None:
        new = create_store(self.folder / "s", PASSPHRASE, "hint", CHEAP)
        assert new.recovery_key is not None
        self.assertEqual(open_store(self.folder / "s", new.recovery_key).keys.secret, new.keys.secret)
        with self.assertRaises(WrongPassphraseError):
            open_store(self.folder / "s", "tide and tine")
        with self.assertRaises(WrongPassphraseError):
            open_store(self.folder / "s", None)


class HeaderTest(GoodTideTest):
    def test_directories_that_are_no_store_say_so(self) -> None:
        (self.folder / "plain").mkdir()
        half = self.folder / "half"
        with (
            mock.patch("good_tide.storage.header.write_slot", side_effect=PowerCutError),
            self.assertRaises(PowerCutError),
        ):
            create_store(half, None)
        for root, words in (
            (self.folder / "plain", "no store"),
            (half, "not made to the end"),
            (self.folder / "missing", "no folder"),
        ):
            with self.subTest(root.name), self.assertRaises(PlaceError) as caught:
                open_store(root, None)
            self.assertIn(words, str(caught.exception))
        create_store(half, None)
        open_store(half, None)

    def test_a_newer_store_is_refused_and_a_full_folder_is_not_taken(self) -> None:
        root = self.folder / "s"
        create_store(root, None)
        header = root / "store.json"
        header.write_bytes(header.read_bytes().replace(b'"format": 1', b'"format": 2'))
        with self.assertRaisesRegex(PlaceError, "newer version"):
            read_header(LocalPlace(root))
        (self.folder / "full").mkdir()
        (self.folder / "full" / "letter.txt").write_text("mine")
        for case in (root, self.folder / "full"):
            with self.assertRaises(PersonError):
                create_store(case, None)
        self.assertEqual((self.folder / "full" / "letter.txt").read_text(), "mine")

    def test_bad_passphrases_and_hints_are_refused(self) -> None:
        for passphrase, hint in (("", ""), ("Harbour", "the harbour one")):
            with self.subTest(passphrase), self.assertRaises(PersonError):
                create_store(self.folder / "s", passphrase, hint)

    def test_any_changed_byte_of_header_or_slots_is_noticed_or_harmless(self) -> None:
        root = self.folder / "s"
        create_store(root, PASSPHRASE, cost=CHEAP)
        secret = unlock(LocalPlace(root), PASSPHRASE)[1].secret
        files = [root / "store.json", *sorted((root / "keys").iterdir())]
        for file in files:
            whole = file.read_bytes()
            for at in range(0, len(whole), 7):
                file.write_bytes(whole[:at] + bytes([whole[at] ^ 1]) + whole[at + 1 :])
                with contextlib.suppress(GoodTideError):
                    self.assertEqual(unlock(LocalPlace(root), PASSPHRASE)[1].secret, secret)
            file.write_bytes(whole)


class PlaceContract:
    """Every place behaves like this."""

    place: Place

    def test_contract(self) -> None:
        place, case = self.place, self
        assert isinstance(case, GoodTideTest)
        with place.create("packs/a/one", "me-") as file:
            file.write(b"hello ")
            file.write(b"world")
            case.assertEqual(file.size, 11)
            case.assertEqual(place.names("packs"), [])
            file.commit()
        case.assertEqual(place.names("packs"), ["a/one"])
        case.assertEqual(
            (place.read("packs/a/one"), place.read("packs/a/one", 1, 3), place.read("packs/a/one", 3, 99)),
            (b"hello world", b"ell", b"lo world"),
        )
        case.assertEqual((place.size("packs/a/one"), place.names("none")), (11, []))
        with place.create("packs/a/two", "me-") as file:
            file.write(b"lost")
        case.assertEqual(place.names("packs"), ["a/one"])
        with place.create("packs/a/one", "me-") as file, case.assertRaises(NameTakenError):
            file.commit(exclusive=True)
        with place.create("packs/a/three", "me-") as file:
            file.commit(exclusive=True)
        place.remove("packs/a/one")
        place.remove("packs/a/one")
        case.assertEqual(place.names("packs"), ["a/three"])
        for act in (lambda: place.read("nothing"), lambda: place.size("nothing")):
            with case.assertRaises(NotInPlaceError):
                act()


class LocalPlaceTest(PlaceContract, GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.place = LocalPlace(self.folder)

    def test_a_file_is_durable_before_its_name_and_the_name_before_commit_returns(self) -> None:
        done: list[str] = []
        real_fsync, real_rename = os.fsync, os.rename

        def fsync(handle: int) -> None:
            done.append("folder" if os.path.isdir(f"/proc/self/fd/{handle}") else "file")
            real_fsync(handle)

        def rename(source: str, target: str, **folders: int) -> None:
            done.append("rename")
            real_rename(source, target, **folders)

        with (
            mock.patch("os.fsync", fsync),
            mock.patch("os.rename", rename),
            self.place.create("index/x", "me-") as file,
        ):
            file.write(b"x")
            done.clear()
            file.commit()
        self.assertEqual([step for step in done if step != "folder"], ["file", "rename"])
        self.assertEqual(done[-1], "folder")

    def test_leftovers_are_cleared_by_their_owner_only(self) -> None:
        for owner in ("me-", "you-"):
            self.place.create("packs/x", owner).write(b"left behind")
        self.place.clear_temporary("me-")
        self.assertEqual([name[:4] for name in self.place.names("tmp")], ["you-"])


class MemoryPlaceTest(PlaceContract, GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.place = MemoryPlace()


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
            "import sys, random; from pathlib import Path; from tests.base import *\nstore ="
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
        report_ok = True
        try:
            report_ok = verify(store, True, Silent()).ok
        except GoodTideError:
            report_ok = False
        self.assertFalse(report_ok)
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
        for name, passphrase in (("v1-open", None), ("v1-encrypted", "frozen tide")):
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


class ChunkIndexTest(GoodTideTest):
    def test_threads_find_every_chunk_while_others_add(self) -> None:
        def table(number: int) -> PackTable:
            ids = random.Random(number).randbytes(32 * 40)
            lengths = np.full(40, 100, dtype="<u4").tobytes()
            return PackTable(PackId(number.to_bytes(16, "big")), 0, ids, lengths, lengths, bytes(40))

        tables = [table(number) for number in range(300)]
        index = ChunkIndex()
        index.add(tables[:1])
        missed: list[int] = []

        def look(seed: int) -> None:
            chance = random.Random(seed)
            while not finished.is_set():
                there = chance.randrange(len(index.tables))
                if index.find(next(tables[there].chunk_ids())) is None:
                    missed.append(there)

        finished = threading.Event()
        interval = sys.getswitchinterval()
        sys.setswitchinterval(1e-6)
        self.addCleanup(sys.setswitchinterval, interval)
        threads = [threading.Thread(target=look, args=(seed,)) for seed in range(4)]
        for thread in threads:
            thread.start()
        try:
            for one in tables[1:]:
                index.add([one])
                index.find(next(one.chunk_ids()))
        finally:
            finished.set()
            for thread in threads:
                thread.join()
        self.assertEqual(missed, [])
        self.assertEqual(len(index), 300 * 40)
