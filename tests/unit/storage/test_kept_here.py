"""What this machine keeps of a store far away: used, bounded, and never believed more than the store."""

from __future__ import annotations

import sqlite3
import threading
from collections import Counter
from pathlib import Path
from unittest import mock

from good_tide.core.errors import DamageError
from good_tide.core.progress import Silent
from good_tide.operations.history.browse import contents
from good_tide.operations.integrity.verify import verify
from good_tide.storage import kept_here
from good_tide.storage.folder_place import LocalPlace
from good_tide.storage.kept_here import NOTHING_KEPT, KeptHere
from good_tide.storage.store import Store
from good_tide.storage.summaries import known_snapshots
from tests.support.base import PASSPHRASE, GoodTideTest, open_store


class KeptHereTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.file = self.folder / "cache" / "kept.sqlite3"
        self.kept = KeptHere(self.file)

    def names(self) -> set[str]:
        return {name for name in ("a", "b", "c") if self.kept.get(name) is not None}

    def test_what_was_kept_is_there_for_the_next_process(self) -> None:
        self.kept.put([("a", b"1"), ("b", b"2")])
        self.kept.put([("a", b"3")])
        again = KeptHere(self.file)
        self.assertEqual([again.get(name) for name in ("a", "b", "c")], [b"3", b"2", None])
        again.forget("a")
        self.assertIsNone(self.kept.get("a"))

    def test_what_was_not_used_for_longest_goes(self) -> None:
        day = 24 * 3600
        with (
            mock.patch.object(kept_here, "_MOST_BYTES", 250),
            mock.patch.object(kept_here, "_CHECKED_EACH", 1),
            mock.patch("time.time") as clock,
        ):
            for number, name in enumerate("ab"):
                clock.return_value = 1000 + number
                self.kept.put([(name, bytes(100))])
            clock.return_value = 1000 + 3 * day
            self.assertIsNotNone(self.kept.get("a"))
            self.kept.put([("c", bytes(100))])
            self.assertEqual(self.names(), {"a", "c"})

    def test_a_file_that_is_damaged_or_cannot_be_is_done_without(self) -> None:
        self.kept.put([("a", b"1")])
        self.kept = KeptHere(self.file)
        self.file.with_name("kept.sqlite3-wal").unlink(missing_ok=True)
        self.file.write_bytes(b"no database at all" * 1000)
        self.kept.put([("a", b"1")])
        self.assertIsNone(self.kept.get("a"))
        self.assertEqual(list(self.file.parent.iterdir()), [], "the next begins anew")
        self.kept = KeptHere(self.write("in the way") / "kept.sqlite3")
        self.kept.put([("a", b"1")])
        self.assertIsNone(self.kept.get("a"))

    def test_what_does_not_hold_is_read_from_the_store(self) -> None:
        def use(data: bytes) -> bytes:
            if data != b"right":
                raise DamageError("changed")
            return data + b"!"

        self.kept.put([("a", b"wrong")])
        self.assertEqual(self.kept.held("a", use, lambda: b"right"), b"right!")
        self.assertEqual(self.kept.get("a"), b"right")
        with self.assertRaises(DamageError):
            self.kept.held("b", use, lambda: b"wrong")
        self.assertIsNone(self.kept.get("b"))
        self.assertEqual(NOTHING_KEPT.held("a", use, lambda: b"right"), b"right!")

    def test_what_is_no_longer_in_the_store_goes(self) -> None:
        names = "packs/a/x/0", "packs/a/x/1", "packs/b/y/0", "index/i", "snapshots/s"
        self.kept.put((name, b"secret words") for name in names)
        self.kept.drop_gone("packs", ["b/y"])
        self.kept.drop_gone("index", [])
        self.assertEqual([name for name in names if self.kept.get(name)], ["packs/b/y/0", "snapshots/s"])
        self.kept.clear()
        self.assertFalse([name for name in names if self.kept.get(name)])
        with sqlite3.connect(self.file) as db:
            db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        self.assertNotIn(b"secret words", self.file.read_bytes())

    def test_threads_at_once(self) -> None:
        wrong: list[int] = []

        def work(own: int) -> None:
            for number in range(60):
                self.kept.put([(f"{own}/{number}", b"%d" % number)])
                if self.kept.get(f"{own}/{number}") != b"%d" % number:
                    wrong.append(number)

        threads = [threading.Thread(target=work, args=(own,)) for own in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(wrong, [])


class KeptOfAStoreTest(GoodTideTest):
    """A store on a disk that counts what is read of it, opened as one that is far away."""

    def setUp(self) -> None:
        super().setUp()
        self.new_store()
        for number in range(50):
            self.write(f"sub/{number}.txt", f"{number}" * 100)
        self.read: Counter[str] = Counter()

    def opened(self) -> Store:
        store = open_store(self.folder / "store", PASSPHRASE)
        store.keep_with(KeptHere(self.folder / "kept.sqlite3"))
        return store

    def looked(self, store: Store) -> list[bytes]:
        """Everything in the newest snapshot; what is read of the store for that is counted."""
        read, self.read = LocalPlace.read, Counter()

        def counted(place: LocalPlace, name: str, *where: int) -> bytes:
            self.read[name.partition("/")[0]] += 1
            return read(place, name, *where)

        with mock.patch.object(LocalPlace, "read", counted):
            newest = known_snapshots(store)[0][-1]
            return [path for path, _ in contents(store, newest, None, deep=True)]

    def test_neither_index_nor_snapshots_nor_listings_are_read_twice(self) -> None:
        self.snap(self.opened())
        found = self.looked(self.opened())
        self.assertEqual(len(found), 52)
        self.assertFalse({"index", "snapshots", "packs"} & set(self.read), "it wrote them itself")
        (self.folder / "kept.sqlite3").unlink()
        self.looked(self.opened())
        self.assertTrue({"index", "snapshots", "packs"} <= set(self.read))
        self.assertEqual(self.looked(self.opened()), found)
        self.assertFalse({"index", "snapshots", "packs"} & set(self.read))

    def test_what_somebody_put_there_is_not_believed(self) -> None:
        self.snap(self.opened())
        found = self.looked(self.opened())
        with sqlite3.connect(self.folder / "kept.sqlite3") as db:
            db.execute("UPDATE kept SET data = zeroblob(length(data))")
        self.assertEqual(self.looked(self.opened()), found)
        self.assertTrue({"index", "snapshots", "packs"} <= set(self.read))

    def test_who_checks_the_store_reads_the_store(self) -> None:
        store = self.opened()
        self.snap(store)
        self.looked(store)
        self.assertTrue(verify(store, False, Silent()).ok)
        for file in self.files("index", "snapshots", "copies/index", "copies/snapshots"):
            data = bytearray(file.read_bytes())
            data[len(data) // 2] ^= 1
            file.write_bytes(data)
        store = self.opened()
        self.assertEqual(len(self.looked(store)), 52, "what is kept here is whole")
        damaged = {one.file.partition("/")[0] for one in verify(store, False, Silent()).damage}
        self.assertEqual(damaged, {"index", "snapshots"})
        self.assertEqual(len(self.looked(self.opened())), 52)

    def test_what_another_machine_took_out_of_the_store_goes_with_the_next_run(self) -> None:
        store = self.opened()
        first = self.snap(store)
        self.write("sub/1.txt", "changed")
        self.snap(store, 1)
        self.assertIsNotNone(store.kept.get(f"snapshots/{first.id}"))
        other = open_store(self.folder / "store", PASSPHRASE)
        other.place.remove(f"snapshots/{first.id}")
        self.snap(store, 2)
        self.assertIsNone(store.kept.get(f"snapshots/{first.id}"))

    def files(self, *folders: str) -> list[Path]:
        return [file for folder in folders for file in (self.folder / "store" / folder).iterdir()]
