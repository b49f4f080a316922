"""What this machine keeps of a store far away, so that it is not carried over the line each time: files that
never change under their names (index, snapshots, summaries), and listings. All of it lies here as it lies
there, sealed, and is authenticated when it is read; what does not hold is as if it were not there.

Only a cache: who checks a store does without it (``Store.forget_recent``).
"""

from __future__ import annotations

import contextlib
import sqlite3
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

from good_tide.core.errors import DamageError

_MOST_BYTES = 256 << 20
"""Bytes that are kept of one store. What was not used for longest goes."""
_LONGEST = 64 << 20
_CHECKED_EACH = 16 << 20
"""After so many new bytes it is looked how many there are."""
_USED_STEP = 24 * 3600
"""When something was used is noted to the day, so that reading does not write each time."""
_SCHEMA = "CREATE TABLE IF NOT EXISTS kept (name TEXT PRIMARY KEY, used INTEGER NOT NULL, data BLOB NOT NULL)"


class NothingKept:
    """Of a store on a disk nothing is kept elsewhere."""

    def get(self, name: str) -> bytes | None:
        """What lies under a name, as it lies in the store; None: nothing."""
        return None

    def put(self, items: Iterable[tuple[str, bytes]]) -> None:
        """Keep files, or pieces of them, by their names."""

    def forget(self, name: str) -> None:
        """Something is not what it should be."""

    def drop_gone(self, folder: str, present: Iterable[str]) -> None:
        """Let go what is no longer in a folder of the store.

        :param present: the files in it, as ``Place.names`` gives them.
        """

    def clear(self) -> None:
        """Let go everything."""

    def held(self, name: str, use: Callable[[bytes], bytes], read: Callable[[], bytes]) -> bytes:
        """What ``use`` makes of what is kept; where nothing is, or it does not hold, of what ``read`` gives,
        which is then kept.

        Raises:
            Whatever ``use`` and ``read`` raise over what is in the store.
        """
        kept = self.get(name)
        if kept is not None:
            with contextlib.suppress(DamageError):
                return use(kept)
            self.forget(name)
        data = read()
        made = use(data)
        self.put([(name, data)])
        return made


NOTHING_KEPT = NothingKept()


class KeptHere(NothingKept):
    """Keeps it in an SQLite file; nothing, where its disk does not take it. Threads and processes may use it
    at once."""

    def __init__(self, file: Path) -> None:
        self._file = file
        self._guard = threading.Lock()
        self._db: sqlite3.Connection | None = None
        self._ended = False
        self._new_bytes = _CHECKED_EACH

    @contextlib.contextmanager
    def _asking(self) -> Iterator[sqlite3.Connection | None]:
        """The open file, one at a time. What goes wrong with it is its end, here and on the disk."""
        with self._guard:
            if self._db is None and not self._ended:
                try:
                    self._db = self._open()
                except (OSError, sqlite3.Error) as error:
                    self._end(error)
            try:
                yield self._db
            except sqlite3.Error as error:
                self._end(error)

    def _open(self) -> sqlite3.Connection:
        self._file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        db = sqlite3.connect(self._file, check_same_thread=False, isolation_level=None, timeout=5)
        db.execute("PRAGMA journal_mode = WAL")
        db.execute("PRAGMA synchronous = OFF")
        db.execute("PRAGMA secure_delete = ON")  # what was taken out of all history is to be nowhere
        db.execute(_SCHEMA)
        return db

    def _end(self, error: Exception) -> None:
        self._ended = True
        if self._db is not None:
            with contextlib.suppress(sqlite3.Error):
                self._db.close()
            self._db = None
        if (getattr(error, "sqlite_errorcode", None) or 0) & 0xFF in (
            sqlite3.SQLITE_CORRUPT,
            sqlite3.SQLITE_NOTADB,
        ):
            with contextlib.suppress(OSError):
                for extra in ("-wal", "-shm", ""):  # what is left of a log must not get into the next file
                    Path(f"{self._file}{extra}").unlink(missing_ok=True)

    def get(self, name: str) -> bytes | None:
        with self._asking() as db:
            row = db.execute("SELECT data, used FROM kept WHERE name = ?", (name,)).fetchone() if db else None
            if row is None:
                return None
            now = int(time.time())
            if db is not None and abs(now - row[1]) > _USED_STEP:
                db.execute("UPDATE kept SET used = ? WHERE name = ?", (now, name))
            return bytes(row[0])
        return None

    def put(self, items: Iterable[tuple[str, bytes]]) -> None:
        rows = [(name, int(time.time()), data) for name, data in items if len(data) <= _LONGEST]
        with self._asking() as db:
            if db is None or not rows:
                return
            db.execute("BEGIN IMMEDIATE")
            try:
                db.executemany("INSERT OR REPLACE INTO kept VALUES (?, ?, ?)", rows)
                self._new_bytes += sum(len(data) for *_, data in rows)
                if self._new_bytes >= _CHECKED_EACH:
                    self._new_bytes = 0
                    self._trim(db)
            finally:
                db.execute("COMMIT")

    @staticmethod
    def _trim(db: sqlite3.Connection) -> None:
        """Let go what was not used for longest, beyond what is kept."""
        db.execute(
            "DELETE FROM kept WHERE name IN (SELECT name FROM (SELECT name, sum(length(data)) OVER"
            " (ORDER BY used DESC, rowid DESC) AS bytes FROM kept) WHERE bytes > ?)",
            (_MOST_BYTES,),
        )

    def forget(self, name: str) -> None:
        with self._asking() as db:
            if db is not None:
                db.execute("DELETE FROM kept WHERE name = ?", (name,))

    def drop_gone(self, folder: str, present: Iterable[str]) -> None:
        there = {f"{folder}/{name}" for name in present}
        with self._asking() as db:
            if db is None:
                return
            rows = db.execute(
                "SELECT name FROM kept WHERE name >= ? AND name < ?", (f"{folder}/", f"{folder}0")
            )
            gone = [(name,) for (name,) in rows if not {name, name.rpartition("/")[0]} & there]
            if gone:
                db.execute("BEGIN IMMEDIATE")
                try:
                    db.executemany("DELETE FROM kept WHERE name = ?", gone)
                finally:
                    db.execute("COMMIT")

    def clear(self) -> None:
        with self._asking() as db:
            if db is not None:
                db.execute("DELETE FROM kept")
