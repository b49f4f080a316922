"""Chunks that lean on others: what they save, and that nothing of what they lean on is lost, given back too
early, or kept for longer than it is worth."""

from __future__ import annotations

import random
import subprocess
import sys
from unittest import mock

import numpy as np

from good_tide.core.clock import SetClock
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import ChunkId, Nanoseconds, PackId
from good_tide.core.progress import Silent
from good_tide.core.records import Snapshot
from good_tide.operations.integrity.repair import repair
from good_tide.operations.integrity.verify import verify
from good_tide.operations.records.journal import Journal
from good_tide.operations.retention.purge import plan_purge, purge
from good_tide.operations.snapshot.holding import prime
from good_tide.operations.stores.carrying import carry
from good_tide.storage import header
from good_tide.storage.chunk_keys import each_id
from good_tide.storage.compression import CAREFUL_LEVEL, DATA_LEVEL, expand, shrink_against
from good_tide.storage.holding import HoldingArea
from good_tide.storage.index import ChunkIndex, Location
from good_tide.storage.leaning import leaning_places
from good_tide.storage.ledger import Ledger
from good_tide.storage.packed import BASES_LIMIT, Base, Form, pack_file, prepare
from good_tide.storage.packs import Holds, PackTable, checked
from good_tide.storage.store import Store
from good_tide.storage.upright import set_upright
from tests.support.base import CHEAP, T0, GoodTideTest, create_store, open_store
from tests.support.survival import content_of, on_disk
from tests.support.sweeping import release, sweep

_FILES = 6


def lines(chance: random.Random, count: int) -> list[str]:
    """Lines that do not shrink much, each too short to be worth an extent."""
    return [f"{chance.getrandbits(240):060x}" for _ in range(count)]


class LeaningTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.root = self.folder / "store"
        self.new_store(passphrase=None, parity=False)
        self.chance = random.Random(7)
        self.texts = [lines(self.chance, 500) for _ in range(_FILES)]
        self.states: list[dict[str, bytes]] = []
        self.taken: list[Snapshot] = []

    def fresh(self) -> Store:
        return open_store(self.root, None)

    def size(self) -> int:
        return self.fresh().place.total_bytes()

    def take(self, ending: str, files: int = _FILES, store: Store | None = None) -> int:
        """A snapshot of texts in which every line ends in some way; how much the store grew by it."""
        before = self.size()
        for number in range(files):
            self.write(f"scene {number}.txt", "".join(f"{line}{ending}\n" for line in self.texts[number]))
        self.taken.append(self.snap(store or self.fresh(), len(self.taken)))
        self.states.append(on_disk(self.work))
        return self.size() - before

    def leaning(self, store: Store | None = None) -> list[tuple[ChunkId, list[ChunkId]]]:
        """The chunks that lean on others, and on which."""
        return [
            (table.chunk_id(number), list(each_id(table.bases_of(number))))
            for table, number in leaning_places(store or self.fresh())
        ]

    def one_that_leans(self) -> tuple[Store, ChunkId, Location]:
        """The store, a chunk in it that leans on another, and where that lies."""
        store = self.fresh()
        (chunk, bases), *_ = self.leaning(store)
        base = store.place_of(bases[0])
        assert base is not None
        return store, chunk, base

    def harm(self, place: Location) -> None:
        """Flip bytes all over a chunk where it lies."""
        path = self.root / pack_file(place.pack)
        data = bytearray(path.read_bytes())
        for at in range(place.offset, place.offset + place.stored, 50):
            data[at] ^= 255
        path.write_bytes(data)

    def check(self, *numbers: int) -> None:
        """These snapshots stand, whole."""
        store = self.fresh()
        for number in numbers:
            self.assertEqual(content_of(store, self.taken[number].id), self.states[number])
        report = verify(store, True, Silent())
        self.assertTrue(report.ok, report)


class WhatIsSavedTest(LeaningTest):
    def test_versions_in_which_every_line_differs_cost_little_and_come_back(self) -> None:
        first = self.take("")
        later = [self.take(ending) for ending in (" a", " of the second night", "", " c")]
        self.assertLess(max(later), first // 4)
        self.assertTrue(self.leaning())
        self.check(*range(5))

    def test_who_leans_leans_on_what_leans_on_nothing(self) -> None:
        for ending in ("", " a", " b", " c"):
            self.take(ending)
        leaning = {chunk for chunk, _ in self.leaning()}
        self.assertGreaterEqual(len(leaning), 3)
        self.assertFalse(leaning & {base for _, bases in self.leaning() for base in bases})

    def test_files_above_the_small_size_lean_too(self) -> None:
        self.texts = [lines(self.chance, 4000) for _ in range(2)]
        first = self.take("", 2)
        self.assertLess(self.take(" a", 2), first // 3)
        self.check(0, 1)

    def test_what_has_nothing_in_common_stands_by_itself(self) -> None:
        self.take("")
        self.texts = [lines(self.chance, 500) for _ in range(_FILES)]
        self.take("")
        self.assertEqual(self.leaning(), [])

    def test_listings_lean_on_those_of_before(self) -> None:
        for number in range(400):
            self.write(f"{number}/note", self.chance.randbytes(40))
        self.snap(self.fresh(), 0)
        before = self.size()
        for number in range(400):
            self.write(f"{number}/note", (self.work / f"{number}/note").read_bytes())
        self.snap(self.fresh(), 1)
        tables = {table.pack: table for table in self.fresh().index.packs()}
        places = [(table, number) for table, number in leaning_places(self.fresh())]
        self.assertEqual([tables[table.pack].holds for table, _ in places], [Holds.TREE])
        self.assertLess(self.size() - before, 12_000)
        self.assertTrue(verify(self.fresh(), True, Silent()).ok)

    def test_a_store_that_was_made_before_gets_none(self) -> None:
        with mock.patch.object(header, "NEW_FEATURES", ()):
            create_store(self.folder / "older", None)
        older = open_store(self.folder / "older", None)
        for ending in ("", " a"):
            self.take(ending, store=older)
        self.assertEqual(self.leaning(older), [])
        self.assertEqual(content_of(older, self.taken[1].id), self.states[1])

    def test_the_recovery_script_reads_them(self) -> None:
        self.take("")
        self.take(" a")
        subprocess.run(
            [
                sys.executable,
                self.root / "recover.py",
                "--store",
                self.root,
                "extract",
                self.taken[1].id,
                self.folder / "out",
            ],
            check=True,
            capture_output=True,
        )
        out = next((self.folder / "out").rglob("scene 0.txt"))
        self.assertEqual(out.read_bytes(), (self.work / "scene 0.txt").read_bytes())


class WhatIsNeededTest(LeaningTest):
    def test_what_is_leaned_on_stays_when_its_own_snapshot_goes(self) -> None:
        self.take("")
        self.take(" a")
        release(self.fresh(), self.taken[0])
        sweep(self.fresh())
        self.check(1)

    def test_what_would_stay_for_the_sake_of_little_is_given_back(self) -> None:
        self.take("")
        for number in range(1, _FILES):
            (self.work / f"scene {number}.txt").unlink()
        self.take(" a", 1)
        self.assertTrue(self.leaning())
        release(self.fresh(), self.taken[0])
        sweep(self.fresh())
        self.assertEqual(self.leaning(), [])
        self.check(1)
        alone = self.folder / "alone"
        create_store(alone, None, cost=CHEAP, parity=False)
        self.snap(open_store(alone, None), 9)
        self.assertLess(self.size(), open_store(alone, None).place.total_bytes() + 20_000)

    def test_a_chunk_without_what_it_leans_on_counts_as_missing(self) -> None:
        self.take("")
        self.take(" a")
        store, chunk, base = self.one_that_leans()
        self.assertTrue(store.has(chunk))
        store.avoided = frozenset({base.pack})
        self.assertFalse(store.has(chunk))
        store.avoided = frozenset()
        store.place.remove(pack_file(base.pack))
        again = self.fresh()
        with self.assertRaises(DamageError) as caught:
            again.read_chunk(chunk)
        self.assertEqual(caught.exception.file, pack_file(base.pack))
        self.assertFalse(again.has(chunk))
        self.assertFalse(again.has_all(chunk))

    def test_damage_is_told_of_where_it_is_and_the_next_run_stores_again(self) -> None:
        self.take("")
        self.take(" a")
        _, chunk, base = self.one_that_leans()
        self.harm(base)
        report = verify(self.fresh(), True, Silent())
        self.assertEqual({one.file for one in report.damage}, {pack_file(base.pack)})
        told = {name for one in report.damage for name in one.snapshots}
        self.assertEqual(told, {one.id for one in self.taken})
        self.take(" a")
        self.assertEqual(content_of(self.fresh(), self.taken[2].id), self.states[1])
        self.assertEqual(content_of(self.fresh(), self.taken[1].id), self.states[1])
        self.assertTrue(self.fresh().has(chunk))

    def test_what_cannot_be_set_upright_is_noted_where_it_is_damaged(self) -> None:
        self.take("")
        self.take(" a")
        store, chunk, base = self.one_that_leans()
        self.harm(base)
        self.assertEqual(set_upright(store, [chunk], "test-", Silent()), 0)
        self.assertEqual(store.damage.packs, {base.pack: frozenset({base.number})})

    def test_what_leans_on_what_is_lost_for_good_hinders_no_sweep(self) -> None:
        self.take("")
        self.take(" a")
        store, chunk, base = self.one_that_leans()
        store.place.remove(pack_file(base.pack))
        for number in range(_FILES):
            (self.work / f"scene {number}.txt").unlink()
        verify(self.fresh(), True, Silent())
        repair(self.fresh(), (), self.state, Silent())
        release(self.fresh(), self.taken[0])
        for _ in range(2):
            self.assertEqual(sweep(self.fresh()).unclear, "")
            self.assertFalse(self.fresh().has_all(chunk), "without what it leans on it is not there")
        self.take(" a")
        self.assertEqual(content_of(self.fresh(), self.taken[2].id), self.states[2])
        release(self.fresh(), self.taken[1])
        sweep(self.fresh())
        self.assertFalse(self.fresh().damage.packs, "nothing needs what is lost any more")
        self.check(2)

    def test_listings_that_lean_on_lost_ones_hinder_no_sweep(self) -> None:
        for hour in range(2):
            for number in range(400):
                self.write(f"{number}/note", bytes([number % 256]) * 40)
            self.snap(self.fresh(), hour)
        store, chunk, base = self.one_that_leans()
        store.place.remove(pack_file(base.pack))
        verify(self.fresh(), True, Silent())
        repair(self.fresh(), (), self.state, Silent())
        for _ in range(2):
            self.assertEqual(sweep(self.fresh()).unclear, "")
            self.assertFalse(self.fresh().has_all(chunk))
        taken = self.snap(self.fresh(), 2)
        self.assertEqual(content_of(self.fresh(), taken.id), on_disk(self.work))

    def test_the_ledger_counts_what_is_leaned_on(self) -> None:
        self.take("")
        self.take(" a")
        ledger = Ledger(self.cache / "ledger", self.fresh(), Silent())
        first, second = (ledger.gain([one.id]) for one in self.taken)
        self.assertLess(first, 20_000)
        self.assertGreater(ledger.gain([one.id for one in self.taken]), first + second + 50_000)

    def test_taking_out_of_history_leaves_nothing_to_lean_on(self) -> None:
        secret = lines(self.chance, 300)
        self.write("secret.txt", "\n".join(secret))
        self.take("")
        (self.work / "secret.txt").unlink()
        self.take(" a")
        self.assertTrue(self.leaning())
        journal = Journal(self.state, SetClock(Nanoseconds(T0)))
        self.addCleanup(journal.close)
        clock = SetClock(Nanoseconds(T0))
        purge(
            self.fresh(),
            plan_purge(self.fresh(), "secret.txt", "", Silent()),
            self.state,
            clock,
            journal,
            Silent(),
        )
        sweep(self.fresh(), thorough=True)
        store = self.fresh()
        for table in store.index.packs():
            for chunk in table.chunk_ids():
                self.assertNotIn(secret[7].encode(), store.read_chunk(chunk))
                self.assertNotIn(b"secret.txt", store.read_chunk(chunk))
        found = [content_of(store, name) for name in store.snapshot_ids()]
        self.assertEqual(sorted(map(sorted, found)), [sorted(self.states[1])] * 2)
        self.assertTrue(verify(store, True, Silent()).ok)


class OtherStoresTest(LeaningTest):
    def test_they_are_carried_to_another_store(self) -> None:
        self.take("")
        self.take(" a")
        create_store(self.folder / "other", None, cost=CHEAP, twin=self.fresh().keys)
        other = open_store(self.folder / "other", None)
        carry(self.fresh(), other, None, self.state, Silent())
        there = open_store(self.folder / "other", None)
        for snapshot, state in zip(self.taken, self.states, strict=True):
            self.assertEqual(content_of(there, snapshot.id), state)
        self.assertEqual(self.leaning(there), self.leaning())

    def test_what_is_held_while_the_disk_is_away_leans_on_nothing(self) -> None:
        self.take("")
        self.take(" a")
        area = HoldingArea(self.folder / "held", self.fresh().header, self.fresh().keys)
        prime(area, self.fresh(), self.taken[1], self.state)
        self.take(" b", store=area)
        self.assertFalse([one for one in self.leaning(area) if area.index.find(one[0])])
        self.assertEqual(content_of(area, self.taken[2].id), self.states[2])


class ReadersTest(LeaningTest):
    def table(self, name: int, chunks: list[bytes], bases: list[bytes] | None = None) -> PackTable:
        count = len(chunks)
        return PackTable(
            pack=PackId(bytes([name]) * 16),
            holds=0,
            ids=b"".join(chunks),
            stored=np.full(count, 100, dtype="<u4").tobytes(),
            plain=np.full(count, 500, dtype="<u4").tobytes(),
            squeezed=bytes([Form.LEANING if bases else Form.SQUEEZED]) * count,
            leaning=bytes([len(bases)]) * count if bases else b"",
            bases=b"".join(bases or ()) * count,
        )

    def test_a_place_without_leaning_comes_first_and_one_without_its_base_is_none(self) -> None:
        one, base, third = (ChunkId(bytes([number]) * 32) for number in (1, 2, 3))
        index = ChunkIndex()
        index.add([self.table(1, [one], [base])])
        self.assertIsNone(index.find(one))
        index.add([self.table(2, [base], [third])])
        self.assertIsNone(index.find(one))
        index.add([self.table(3, [third])])
        found = index.find(one)
        assert found is not None
        self.assertEqual((found.pack, found.bases), (PackId(bytes([1]) * 16), base))
        index.add([self.table(4, [one])])
        found = index.find(one)
        assert found is not None
        self.assertEqual((found.pack, found.bases), (PackId(bytes([4]) * 16), b""))

    def test_chunks_that_lean_on_each_other_are_nowhere(self) -> None:
        one, other = (ChunkId(bytes([number]) * 32) for number in (1, 2))
        index = ChunkIndex()
        index.add([self.table(1, [one], [other]), self.table(2, [other], [one])])
        self.assertIsNone(index.find(one))

    def test_columns_that_contradict_each_other_are_refused(self) -> None:
        one, base = (ChunkId(bytes([number]) * 32) for number in (1, 2))
        right = self.table(1, [one], [base])
        checked([right])
        for wrong in (
            {"leaning": b""},
            {"bases": b""},
            {"bases": right.bases * 2},
            {"leaning": b"\0", "bases": b""},
            {"squeezed": b"\3"},
            {"squeezed": b"\1"},
        ):
            with self.subTest(wrong), self.assertRaises(DamageError):
                checked(
                    [
                        PackTable(
                            **{
                                name: wrong.get(name, getattr(right, name))
                                for name in right.__struct_fields__
                            }
                        )
                    ]
                )

    def test_more_than_it_may_lean_on_is_refused(self) -> None:
        self.take("")
        self.take(" a")
        store = self.fresh()
        (chunk, _), *_ = self.leaning(store)
        with mock.patch("good_tide.storage.store.BASES_LIMIT", -1), self.assertRaises(DamageError):
            store.read_chunk(chunk)
        self.assertGreater(BASES_LIMIT, 0)

    def test_another_base_is_no_base(self) -> None:
        keys = self.fresh().keys
        text = "\n".join(self.texts[0]).encode()
        base = Base(keys.chunk_id(text), text)
        made = prepare(ChunkId(bytes(32)), text.replace(b"\n", b" x\n"), lambda: [base])
        self.assertEqual((made.chunk.form, made.chunk.bases), (Form.LEANING, base.id))
        other = prepare(ChunkId(bytes(32)), text.replace(b"\n", b" x\n"))
        self.assertEqual(other.chunk.form, Form.SQUEEZED)
        self.assertNotEqual(made.chunk.context, other.chunk.context)

    def test_what_is_little_leans_with_more_care(self) -> None:
        random_texts = random.Random(3)
        words = [random_texts.randbytes(6).hex() for _ in range(400)]
        before = "\n".join(" ".join(random_texts.choices(words, k=9)) for _ in range(6000)).encode()
        after = b"\n".join(line.rpartition(b" ")[0] + b" x" for line in before.splitlines())
        much, little = (shrink_against(after, before, level) for level in (DATA_LEVEL, CAREFUL_LEVEL))
        self.assertLess(len(little), len(much))
        for small in (much, little):
            self.assertEqual(expand(small, len(after), before), after)


del LeaningTest
