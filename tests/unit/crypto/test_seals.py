"""No key and nonce ever seal two different texts, whatever fails and however often: every seal is watched."""

from __future__ import annotations

import errno
import hashlib
import os
import random
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from unittest import mock

from good_tide.core.errors import GoodTideError, PlaceFullError
from good_tide.core.identifiers import ChunkId
from good_tide.core.progress import Silent
from good_tide.crypto.seals import EncryptingSeal
from good_tide.operations.integrity.verify import verify
from good_tide.operations.snapshot import holding
from good_tide.operations.stores import holding_area as areas
from good_tide.operations.stores.carrying import carry
from good_tide.storage.folder_place import LocalPlace
from good_tide.storage.packed import prepare
from good_tide.storage.packs import Holds, PackWriter
from good_tide.storage.store import Store
from good_tide.storage.writer import WriteSession
from tests.support.base import CHEAP, PASSPHRASE, GoodTideTest, create_store, open_store
from tests.support.memory_place import MemoryPlace, PowerCutError


@contextmanager
def watched(log: Path) -> Iterator[None]:
    """Each seal is noted in a file, so that it is seen in copies of the process too."""
    real_init, real_seal = EncryptingSeal.__init__, EncryptingSeal.seal
    keys: dict[int, str] = {}

    def init(self: EncryptingSeal, key: bytes) -> None:
        real_init(self, key)
        keys[id(self)] = key.hex()

    def seal(self: EncryptingSeal, number: int, plain: bytes, context: bytes) -> bytes:
        text = hashlib.sha256(len(context).to_bytes(4, "big") + context + plain).hexdigest()
        with log.open("a") as file:
            file.write(f"{keys[id(self)]} {number} {text}\n")
        return real_seal(self, number, plain, context)

    with mock.patch.object(EncryptingSeal, "__init__", init), mock.patch.object(EncryptingSeal, "seal", seal):
        yield


class SealingTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.log = self.folder / "seals.txt"
        for number in range(30):
            self.write(f"letters/letter {number}.txt", random.Random(number).randbytes(3000))
        self.write("sound.wav", random.Random(99).randbytes(600_000))

    def assert_each_seals_one_text(self, at_least: int = 20) -> None:
        texts: dict[tuple[str, str], set[str]] = {}
        for line in self.log.read_text().splitlines():
            key, number, text = line.split()
            texts.setdefault((key, number), set()).add(text)
        self.assertGreater(len(texts), at_least)
        self.assertEqual([where for where, found in texts.items() if len(found) > 1], [])

    def memory_store(self, place: MemoryPlace, keys: Store) -> Store:
        return Store(place, keys.header, keys.keys)

    def test_on_a_disk_that_is_full_at_every_size(self) -> None:
        keys = self.new_store()
        with watched(self.log), mock.patch("good_tide.storage.writer.PACK_BYTES", 128 * 1024):
            place, limit = MemoryPlace(limit=2000), 2000
            while True:
                place.limit = limit
                try:
                    self.snap(self.memory_store(place, keys), limit)
                    break
                except PlaceFullError:
                    limit += 23_000
        self.assertGreater(limit, 400_000, "it was full many times")
        self.assertTrue(verify(self.memory_store(place, keys), True, Silent()).ok)
        self.assert_each_seals_one_text(at_least=10)

    def test_with_room_that_ends_within_the_table_of_a_pack(self) -> None:
        keys, pieces = self.new_store().keys, [random.Random(number).randbytes(60) for number in range(300)]
        with watched(self.log):
            for limit in range(22_000, 38_000, 500):
                place = MemoryPlace(limit=limit)
                writer = PackWriter(place, keys, Holds.DATA, "one-")
                try:
                    for plain in pieces:
                        writer.add(prepare(ChunkId(keys.chunk_id(plain)), plain))
                    writer.finish()
                except PlaceFullError:
                    table = writer.salvage(limit)
                    self.assertGreater(len(table or ()), limit / 200, "most of the room is used")
        self.assert_each_seals_one_text()

    def test_with_the_power_cut_at_every_operation(self) -> None:
        keys = self.new_store()
        cut, place = 0, MemoryPlace()
        with watched(self.log), mock.patch("good_tide.storage.writer.PACK_BYTES", 128 * 1024):
            while True:
                place = place.after_power_cut()
                place.cut_after, cut = cut, cut + 1
                try:
                    self.snap(self.memory_store(place, keys), cut)
                    break
                except PowerCutError:
                    continue
        self.assertGreater(cut, 10)
        self.assert_each_seals_one_text(10)

    def test_with_a_disk_that_fails_now_and_then(self) -> None:
        store, chance = self.new_store(), random.Random(4)
        real = os.write

        def write(handle: int, data: bytes) -> int:
            if (
                os.readlink(f"/proc/self/fd/{handle}").startswith(str(self.folder / "store"))
                and chance.random() < 0.2
            ):
                raise OSError(errno.EIO if chance.random() < 0.5 else errno.ENOSPC, "no")
            return real(handle, data)

        with (
            watched(self.log),
            mock.patch("good_tide.storage.writer.PACK_BYTES", 128 * 1024),
            mock.patch("os.write", write),
        ):
            for hour in range(25):
                with suppress(GoodTideError):
                    self.snap(store, hour)
        self.assert_each_seals_one_text()

    def test_with_a_machine_that_is_copied_in_the_middle_and_both_go_on(self) -> None:
        store = self.new_store()
        with watched(self.log), WriteSession(store, "one-") as session:
            for number in range(5):
                session.put(random.Random(number).randbytes(50_000))
            session.settle()
            child = os.fork()
            for number in range(5):
                session.put(random.Random(f"{child == 0} {number}").randbytes(40_000))
            if not child:
                with suppress(BaseException):
                    session.keep()
                os._exit(0)
            os.waitpid(child, 0)
            session.keep()
        self.assert_each_seals_one_text(10)
        self.assertTrue(verify(open_store(self.folder / "store", PASSPHRASE), True, Silent()).ok)

    def test_with_a_machine_that_is_copied_while_a_pack_is_written(self) -> None:
        store = self.new_store()
        writer = PackWriter(store.place, store.keys, Holds.DATA, "one-")
        for number in range(6):
            plain = random.Random(number).randbytes(30_000)
            writer.add(prepare(ChunkId(store.keys.chunk_id(plain)), plain))
        real, parent = LocalPlace.create, os.getpid()

        def copied(place: LocalPlace, name: str, owner: str) -> object:
            file = real(place, name, owner)
            os.fork()
            return file

        with watched(self.log), mock.patch.object(LocalPlace, "create", copied):
            with suppress(GoodTideError):
                # both copies have one file open: what comes of it is no pack, but everything was sealed
                writer.finish()
            if os.getpid() != parent:
                os._exit(0)
        os.wait()
        self.assert_each_seals_one_text(6)

    def test_when_snapshots_are_carried_and_the_carry_is_cut_and_made_again(self) -> None:
        store = self.new_store()
        self.snap(store, 0)
        create_store(self.folder / "twin", PASSPHRASE, cost=CHEAP, twin=store.keys)
        create_store(self.folder / "stranger", PASSPHRASE, cost=CHEAP)
        area = areas.HoldingArea(self.folder / "area", store.header, store.keys)
        area.root.mkdir()
        with watched(self.log):
            held = self.snap(area, 3)
            for target in (
                open_store(self.folder / "twin", PASSPHRASE),
                open_store(self.folder / "stranger", PASSPHRASE),
            ):
                real = target.place.create
                failing = mock.Mock(
                    side_effect=lambda name, owner, real=real: (
                        (_ for _ in ()).throw(PlaceFullError("no"))
                        if "snapshots" in name
                        else real(name, owner)
                    )
                )
                with mock.patch.object(target.place, "create", failing), suppress(GoodTideError):
                    carry(store, target, None, self.state, Silent())
                carry(store, target, None, self.state, Silent())
                target.place.remove(f"snapshots/{target.snapshot_ids()[0]}")
                self.assertEqual(len(carry(store, target, None, self.state, Silent()).carried), 1)
            holding.drain(area, store, self.state, Silent())
        self.assertIn(held.id, store.snapshot_ids())
        self.assertEqual(store.read_snapshot(held.id), held)
        self.assert_each_seals_one_text()
