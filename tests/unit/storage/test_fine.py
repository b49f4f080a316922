"""Files that change a little: every version comes back, and costs what changed."""

from __future__ import annotations

import random
from pathlib import Path
from unittest import mock

from good_tide.core.clock import SetClock
from good_tide.core.entries import Entry, Extent, Kind, Stat
from good_tide.core.identifiers import ChunkId, ContentDigest, Nanoseconds
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.operations.history.browse import entry_at
from good_tide.operations.integrity.verify import verify
from good_tide.operations.records.journal import Journal
from good_tide.operations.retention.purge import plan_purge, purge
from good_tide.operations.stores.carrying import carry
from good_tide.storage.content import SMALL_FILE_BYTES, ContentHasher
from good_tide.storage.fine import EarlierVersion
from good_tide.storage.packs import Holds
from good_tide.storage.store import Store
from tests.support.base import T0, GoodTideTest, open_store
from tests.support.sweeping import sweep

MIB = 1024 * 1024


def noise(seed: int, size: int) -> bytes:
    return random.Random(seed).randbytes(size)


class FineTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.new_store(passphrase=None)
        self.hour = 0
        self.versions: list[tuple[Snapshot, dict[str, bytes]]] = []

    def take(self, **files: bytes) -> int:
        """A snapshot with some files changed; how many plain bytes of contents it added."""
        for name, content in files.items():
            self.write(name.replace("_", "."), content)
        self.hour += 1
        before = self.plain_bytes()
        taken = self.snap(open_store(self.root, None), self.hour)
        self.store = open_store(self.root, None)
        here = {file.name: file.read_bytes() for file in self.work.iterdir()}
        self.versions.append((taken, here))
        return self.plain_bytes() - before

    @property
    def root(self) -> Path:
        return self.folder / "store"

    def plain_bytes(self) -> int:
        store = open_store(self.root, None)
        tables = [table for table in store.index.packs() if table.holds == Holds.DATA]
        return sum(sum(memoryview(table.plain).cast("I")) for table in tables)

    def entry(self, number: int, name: str) -> Entry:
        return entry_at(self.store, self.versions[number][0], str(self.work / name).encode())

    def assert_all_come_back(self, store: Store | None = None) -> None:
        store = store or open_store(self.root, None)
        for number, (snapshot, files) in enumerate(self.versions):
            into = self.folder / f"back {number} of {Path(store.place.title).name}"
            self.restore(store, store.read_snapshot(snapshot.id), self.work, into)
            found = {file.name: file.read_bytes() for file in (into / self.work.name).iterdir()}
            self.assertEqual(
                {name: found[name] == content for name, content in files.items()}, dict.fromkeys(files, True)
            )
        self.assertTrue(verify(store, True, Silent()).ok)

    def test_each_kind_of_edit_costs_what_changed(self) -> None:
        base = bytearray(noise(1, 6 * MIB))
        self.take(film_mov=bytes(base))
        base[2 * MIB : 2 * MIB + 4096] = noise(2, 4096)
        self.assertLess(self.take(film_mov=bytes(base)), 5000)
        del base[MIB : MIB + 200]
        self.assertLess(self.take(film_mov=bytes(base)), 100)
        base[100:100] = b"a tag of a few words"
        self.assertLess(self.take(film_mov=bytes(base)), 200)
        base += noise(3, 10_000)
        self.assertLess(self.take(film_mov=bytes(base)), 11_000)
        del base[4 * MIB :]
        self.assertLess(self.take(film_mov=bytes(base)), 100)
        self.assertEqual(self.take(film_mov=self.versions[0][1]["film.mov"]), 0, "as it was at first")
        self.assert_all_come_back()

    def test_a_file_that_shares_nothing_with_its_earlier_version_is_stored_whole(self) -> None:
        self.take(film_mov=noise(1, 2 * MIB))
        self.assertEqual(self.take(film_mov=noise(2, 2 * MIB)), 2 * MIB)
        self.assertTrue(all(not extent.offset for extent in self.entry(1, "film.mov").extents))
        self.assert_all_come_back()

    def test_holes_come_and_go(self) -> None:
        base = bytearray(noise(1, 3 * MIB))
        self.take(disk_img=bytes(base))
        file = self.work / "disk.img"
        with file.open("r+b") as out:
            out.truncate(MIB)
            out.truncate(5 * MIB)
            out.seek(4 * MIB)
            out.write(noise(4, 3000))
        self.assertLess(self.take(), 4100)
        base[:MIB] = bytes(MIB)
        self.take(disk_img=bytes(base))
        self.assert_all_come_back()

    def test_small_files_cost_what_changed_too(self) -> None:
        lines = [f"cue {number}: {noise(number, 12).hex()}\n" for number in range(600)]
        self.take(cues_txt="".join(lines).encode())
        lines[300] = "cue 300: cut\n"
        self.assertLess(self.take(cues_txt="".join(lines).encode()), 300)
        self.assertLess(self.take(cues_txt="".join(lines[100:]).encode()), 300)
        grown = "".join(lines).encode() * 4
        self.assertGreater(len(grown), SMALL_FILE_BYTES)
        self.take(cues_txt=grown)
        self.assertLess(self.take(cues_txt=grown[: SMALL_FILE_BYTES // 2]), 300)
        self.assert_all_come_back()

    def test_after_many_changes_a_version_lies_in_no_more_pieces_than_it_may(self) -> None:
        base = bytearray(noise(1, 2 * MIB))
        self.take(base_db=bytes(base))
        chance = random.Random(5)
        for number in range(50):
            for at in (chance.randrange(2 * MIB - 100) for _ in range(24)):
                base[at : at + 100] = noise(number, 100)
            self.take(base_db=bytes(base))
        most = max(len(self.entry(number, "base.db").extents) for number in range(51))
        self.assertGreater(most, 200)
        self.assertLess(most, 2 * 2 * MIB // 4096)
        self.versions = self.versions[::25]
        self.assert_all_come_back()

    def test_what_earlier_snapshots_had_stays_as_long_as_later_ones_need_it(self) -> None:
        base = bytearray(noise(1, 2 * MIB))
        for number in range(6):
            base[number * 100_000 : number * 100_000 + 50] = noise(number, 50)
            self.take(base_db=bytes(base), note_txt=b"%d" % number + noise(9, 5000))
        for snapshot, _ in self.versions[:4]:
            self.store.place.remove(f"snapshots/{snapshot.id}")
        self.versions = self.versions[4:]
        sweep(open_store(self.root, None))
        self.assert_all_come_back()

    def test_carried_to_stores_with_the_same_keys_and_with_others(self) -> None:
        base = bytearray(noise(1, 2 * MIB))
        for number in range(3):
            base[number * 100_000 : number * 100_000 + 50] = noise(number, 50)
            self.take(base_db=bytes(base), note_txt=b"%d" % number + noise(9, 5000))
        other = self.new_store("other", passphrase=None)
        carry(open_store(self.root, None), other, None, self.state, Silent())
        other = open_store(self.folder / "other", None)
        self.assert_all_come_back(other)
        before = sum(map(len, other.index.packs()))
        taken = self.snap(other, 50)
        self.assertEqual(taken.record.tally.changed_files, 0, "it knows the contents by its own keys")
        self.assertLessEqual(sum(map(len, open_store(self.folder / "other", None).index.packs())), before + 3)

    def test_a_chunk_that_is_lost_is_not_built_on(self) -> None:
        base = bytearray(noise(1, 3 * MIB))
        self.take(film_mov=bytes(base))
        for pack in self.root.glob("packs/*/*"):
            pack.unlink()
        base[MIB] ^= 1
        self.take(film_mov=bytes(base))
        self.versions = self.versions[1:]
        snapshot, files = self.versions[0]
        self.restore(self.store, snapshot, self.work, self.folder / "back")
        self.assertEqual((self.folder / "back" / "work" / "film.mov").read_bytes(), files["film.mov"])

    def test_what_is_taken_out_of_history_stays_in_no_chunk_of_another_file(self) -> None:
        secret = noise(7, 5000)
        base = noise(1, MIB) + secret + noise(2, MIB)
        self.take(film_mov=base)
        (self.work / "film.mov").unlink()
        self.assertLess(self.take(cut_mov=base.replace(secret, b"")), 100, "compared with what it replaces")
        store, clock = open_store(self.root, None), SetClock(Nanoseconds(T0))
        journal = Journal(self.state, clock)
        self.addCleanup(journal.close)
        plan = plan_purge(store, "film.mov", str(self.folder), Silent())
        self.assertEqual(purge(store, plan, self.state, clock, journal, Silent()), 2)
        sweep(open_store(self.root, None), thorough=True)
        store = open_store(self.root, None)
        left = [store.read_chunk(one) for table in store.index.packs() for one in table.chunk_ids()]
        self.assertTrue(left)
        self.assertFalse(any(secret[:100] in chunk for chunk in left))
        (last,) = [one for one in store.snapshots()[0] if one.record.time == self.versions[1][0].record.time]
        self.restore(store, last, self.work, self.folder / "back")
        self.assertEqual((self.folder / "back/work/cut.mov").read_bytes(), base.replace(secret, b""))

    def test_a_chunk_of_which_only_the_beginning_is_left_is_not_taken_for_whole(self) -> None:
        base = noise(1, 3 * MIB)
        self.take(film_mov=base)
        first = self.entry(0, "film.mov").extents[0].length
        self.take(film_mov=base[: first - 1000] + noise(2, 2000) + base[first + 1000 :])
        begins = self.entry(1, "film.mov").extents[0]
        self.assertEqual((begins.offset, begins.length), (0, first - 1000))
        chunk, has = begins.chunk, Store.has
        with mock.patch.object(Store, "has", lambda store, one: one != chunk and has(store, one)):
            self.take(film_mov=base)  # as when the first snapshot is being swept
        self.assert_all_come_back()

    def test_a_digest_says_what_the_content_is_and_not_how_it_was_cut(self) -> None:
        base = bytearray(noise(1, 3 * MIB) + bytes(2 * MIB))
        self.take(film_mov=bytes(base))
        base[MIB : MIB + 10] = b"0123456789"
        self.take(film_mov=bytes(base), again_mov=bytes(base))
        self.assertEqual(self.entry(1, "film.mov").digest, self.entry(1, "again.mov").digest)
        self.assertNotEqual(self.entry(1, "film.mov").digest, self.entry(0, "film.mov").digest)
        hasher = ContentHasher()
        for at in range(0, 3 * MIB, 100_000):
            hasher.update(memoryview(bytes(base))[at : min(at + 100_000, 3 * MIB)])
        hasher.zeros(2 * MIB)
        self.assertEqual(hasher.digest(self.store.keys), self.entry(1, "film.mov").digest)

    def test_files_of_earlier_versions_keep_their_digest_while_their_content_stays(self) -> None:
        content = noise(1, 2 * MIB)
        earlier = ContentDigest(b"of another kind!")
        with mock.patch.object(ContentHasher, "digest", lambda *unused: earlier):
            self.take(film_mov=content)
        self.take(film_mov=content)
        self.assertEqual(self.entry(1, "film.mov").digest, earlier)
        self.assertEqual(self.versions[1][0].record.tally.changed_files, 0)


class EarlierVersionTest(GoodTideTest):
    def test_any_stretch_is_read_and_named(self) -> None:
        store = self.new_store()
        self.write("film.mov", noise(1, 3 * MIB))
        entry = entry_at(store, self.snap(store), str(self.work / "film.mov").encode())
        pieces = [
            Extent(entry.extents[0].chunk, 100, 1000),
            Extent(None, 0, 500),
            Extent(entry.extents[0].chunk, 50_000, 2000),
        ]
        earlier = EarlierVersion(store, pieces)
        chunk = entry.extents[0].chunk
        assert chunk is not None
        whole = store.read_chunk(chunk)
        content = whole[100:1100] + bytes(500) + whole[50_000:52_000]
        chance = random.Random(3)
        for _ in range(50):
            begin = chance.randrange(3500)
            end = chance.randrange(begin, 3500)
            self.assertEqual(earlier.read(begin, end), content[begin:end])
        self.assertEqual(earlier.read(0, 3500), content)
        self.assertEqual(earlier.place_of(chunk), None, "only parts of it are there")
        self.assertFalse(earlier.has_whole(chunk, len(whole)))
        partly = EarlierVersion(store, [Extent(chunk, 0, 1000), Extent(None, 0, len(whole))])
        self.assertEqual(partly.place_of(chunk), 0)
        self.assertFalse(partly.has_whole(chunk, len(whole)), "only its beginning is there")
        self.assertTrue(EarlierVersion(store, entry.extents).has_whole(chunk, len(whole)))
        gone = Entry(b"x", Kind.FILE, Stat(size=10), extents=(Extent(ChunkId(bytes(32)), 0, 10),))
        self.assertIsNone(EarlierVersion(store, gone.extents).read(0, 10))
