"""Databases that are written while a snapshot is taken come back in one state."""

from __future__ import annotations

import contextlib
import os
import sqlite3
import subprocess
import sys
import threading
import time
from pathlib import Path
from unittest import mock

from good_tide.core.records import Snapshot
from good_tide.storage.store import Store
from tests.support.base import GoodTideTest, open_store

_ACCOUNTS, _SUM = 400, 400 * 100


def open_books(file: Path) -> sqlite3.Connection:
    """Books whose accounts always have the same sum, in a database with a log that is never taken in."""
    db = sqlite3.connect(file, isolation_level=None)
    db.execute("PRAGMA journal_mode = WAL")
    db.execute("PRAGMA wal_autocheckpoint = 300")
    db.execute("PRAGMA synchronous = OFF")
    db.execute("CREATE TABLE IF NOT EXISTS account (id INTEGER PRIMARY KEY, worth INTEGER, note TEXT)")
    if not db.execute("SELECT count(*) FROM account").fetchone()[0]:
        rows = [(number, 100, "made up " * 40) for number in range(_ACCOUNTS)]
        db.executemany("INSERT INTO account VALUES (?, ?, ?)", rows)
    return db


def move(db: sqlite3.Connection, count: int) -> None:
    """Move something between two accounts that lie far from each other."""
    db.execute("BEGIN")
    db.execute("UPDATE account SET worth = worth - ? WHERE id = ?", (count, count % 200))
    db.execute("UPDATE account SET worth = worth + ? WHERE id = ?", (count, 399 - count % 200))
    db.execute("COMMIT")


class DatabasesTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.new_store(passphrase=None)
        self.file = self.work / "office/bücher & more.db"
        self.file.parent.mkdir(parents=True)
        self.db = open_books(self.file)
        self.addCleanup(self.db.close)

    def fresh(self) -> Store:
        return open_store(self.folder / "store", None)

    def restored(self, snapshot: Snapshot, number: int) -> Path:
        into = self.folder / f"back {number}"
        self.restore(self.fresh(), snapshot, self.work, into)
        return into / self.work.name / "office" / self.file.name

    def assert_sound(self, file: Path) -> int:
        """A database opens, is whole, and its books are of one moment; how often something was moved."""
        with contextlib.closing(sqlite3.connect(file)) as db:
            self.assertEqual(db.execute("PRAGMA integrity_check").fetchone(), ("ok",))
            self.assertEqual(db.execute("SELECT sum(worth) FROM account").fetchone(), (_SUM,))
            return int(db.execute("SELECT worth FROM account WHERE id = 399").fetchone()[0])

    def test_while_somebody_writes_every_snapshot_has_one_state(self) -> None:
        ended = threading.Event()
        waited: list[float] = []

        def write() -> None:
            with contextlib.closing(open_books(self.file)) as db:
                count = 0
                while not ended.is_set():
                    began = time.monotonic()
                    move(db, count)
                    waited.append(time.monotonic() - began)
                    count += 1

        writer = threading.Thread(target=write)
        writer.start()
        try:
            taken = [self.snap(self.fresh(), hour) for hour in range(8)]
        finally:
            ended.set()
            writer.join()
        self.assertGreater(len(waited), 50)
        self.assertLess(sorted(waited)[len(waited) // 2], 0.5, "whoever writes is not held up")
        for number, snapshot in enumerate(taken):
            self.assert_sound(self.restored(snapshot, number))
            self.assertEqual(snapshot.record.unsteady, ())

    def test_what_is_in_the_log_is_in_the_snapshot_and_nothing_is_left_in_the_folder(self) -> None:
        self.db.execute("PRAGMA wal_autocheckpoint = 0")
        for count in range(1, 60):
            move(self.db, count)
        before = {
            path.name: path.read_bytes() for path in self.file.parent.iterdir() if "shm" not in path.name
        }
        first = self.snap(self.fresh(), 0)
        after = {
            path.name: path.read_bytes() for path in self.file.parent.iterdir() if "shm" not in path.name
        }
        self.assertEqual(before, after)
        back = self.restored(first, 0)
        self.assertEqual(back.with_name(f"{back.name}-wal").read_bytes(), b"")
        worth = self.db.execute("SELECT worth FROM account WHERE id = 340").fetchone()[0]
        with contextlib.closing(sqlite3.connect(back)) as db:
            self.assertEqual(db.execute("SELECT worth FROM account WHERE id = 340").fetchone()[0], worth)
        self.assertFalse((self.state / "scratch").exists() and list((self.state / "scratch").iterdir()))
        move(self.db, 77)
        second = self.snap(self.fresh(), 1)
        self.assertLess(second.tally.stored_bytes, 30_000, "compared with its earlier version, as any file")
        self.assert_sound(self.restored(second, 1))

    def test_a_log_that_nobody_has_open_is_taken_as_it_is(self) -> None:
        move(self.db, 5)
        left = self.work / "left"
        left.mkdir()
        for ending in ("", "-wal"):  # as after a crash: nobody shares anything
            (left / f"a.db{ending}").write_bytes(Path(f"{self.file}{ending}").read_bytes())
        snapshot = self.snap(self.fresh(), 0)
        self.assertEqual(sorted(path.name for path in left.iterdir()), ["a.db", "a.db-wal"])
        back = self.restored(snapshot, 0).parents[1] / "left"
        for ending in ("", "-wal"):
            self.assertEqual((back / f"a.db{ending}").read_bytes(), (left / f"a.db{ending}").read_bytes())
        self.assert_sound(back / "a.db")

    def test_one_that_is_held_by_somebody_alone_does_not_hold_up_the_run(self) -> None:
        self.db.execute("PRAGMA locking_mode = EXCLUSIVE")
        move(self.db, 3)
        # by a process of its own, as locks are shared within one
        script = (
            "import sqlite3, sys; db = sqlite3.connect(sys.argv[1]);"
            "db.execute('PRAGMA locking_mode = EXCLUSIVE'); db.execute('UPDATE account SET worth = worth');"
            "db.commit(); print('held', flush=True); sys.stdin.read()"
        )
        self.db.close()
        holder = subprocess.Popen(
            [sys.executable, "-c", script, self.file], stdin=subprocess.PIPE, stdout=subprocess.PIPE
        )
        self.addCleanup(holder.communicate)
        assert holder.stdout is not None
        self.assertEqual(holder.stdout.readline(), b"held\n")
        Path(f"{self.file}-shm").touch()
        began = time.monotonic()
        snapshot = self.snap(self.fresh(), 0)
        self.assertLess(time.monotonic() - began, 20)
        self.assertEqual(self.restored(snapshot, 0).read_bytes(), self.file.read_bytes())

    def test_without_room_for_a_copy_it_is_taken_as_any_file(self) -> None:
        move(self.db, 3)
        with mock.patch("good_tide.source.databases._ROOM_LEFT", 1 << 60):
            snapshot = self.snap(self.fresh(), 0)
        back = self.restored(snapshot, 0)
        self.assertEqual(back.read_bytes(), self.file.read_bytes())
        self.assertEqual(os.path.getsize(f"{back}-wal"), os.path.getsize(f"{self.file}-wal"))
