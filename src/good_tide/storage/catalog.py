"""The local catalog: who was where when, in a SQLite file that can be thrown away at any time.

Per machine, snapshots are numbered in order of time (``seq``, from 1). A *span* is one version of one name: the
range of snapshots it stood in; ``last`` is NULL while it stands in the newest. Taking in a snapshot costs only what
changed, because folders with the same listing as before are skipped as a whole.
"""

from __future__ import annotations

import contextlib
import functools
import hashlib
import itertools
import os
import sqlite3
import threading
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Concatenate, ParamSpec, Self, TypeVar

from good_tide.core.entries import Extent, Kind
from good_tide.core.errors import DamageError
from good_tide.core.history import Lifeline, Span, TidePoint
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.core.records import Snapshot
from good_tide.storage.catalog_intake import Intake
from good_tide.storage.catalog_release import forget_released
from good_tide.storage.store import Store

_SCHEMA_VERSION = 1
_SCHEMA = """
CREATE TABLE machine (id INTEGER PRIMARY KEY, key TEXT UNIQUE NOT NULL, name TEXT NOT NULL);
CREATE TABLE snapshot (
    machine INTEGER NOT NULL, seq INTEGER NOT NULL, name TEXT UNIQUE NOT NULL, time INTEGER NOT NULL, label TEXT NOT NULL,
    files INTEGER, bytes INTEGER, stored INTEGER, gaps INTEGER,
    added INTEGER DEFAULT 0, changed INTEGER DEFAULT 0, removed INTEGER DEFAULT 0,
    added_bytes INTEGER DEFAULT 0, changed_bytes INTEGER DEFAULT 0, removed_bytes INTEGER DEFAULT 0,
    PRIMARY KEY (machine, seq)) WITHOUT ROWID;
CREATE TABLE folder (
    id INTEGER PRIMARY KEY, machine INTEGER NOT NULL, parent INTEGER NOT NULL, name BLOB NOT NULL, listing BLOB,
    UNIQUE (machine, parent, name));
CREATE TABLE span (
    folder INTEGER NOT NULL, name BLOB NOT NULL, kind TEXT NOT NULL, size INTEGER NOT NULL, modified INTEGER NOT NULL,
    identity BLOB NOT NULL, first INTEGER NOT NULL, last INTEGER, chunk BLOB, offset INTEGER);
CREATE INDEX span_by_folder ON span (folder, name, first);
CREATE INDEX span_by_identity ON span (identity) WHERE kind = 'f';
CREATE TABLE activity (folder INTEGER NOT NULL, seq INTEGER NOT NULL, PRIMARY KEY (folder, seq)) WITHOUT ROWID;
"""
_DISK_ERRORS = (sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_NOLFS)
_TABLES = ("machine", "snapshot", "folder", "span", "activity")


_DAMAGED = (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB)
Values = ParamSpec("Values")
Answer = TypeVar("Answer")


def _mended(method: Callable[Concatenate[Catalog, Values], Answer]) -> Callable[Concatenate[Catalog, Values], Answer]:
    """Where the file turns out to be damaged it is begun anew, and the method goes on with that: it is a cache."""

    @functools.wraps(method)
    def asked(self: Catalog, /, *values: Values.args, **named: Values.kwargs) -> Answer:
        with self._lock:
            try:
                return method(self, *values, **named)
            except sqlite3.DatabaseError as error:
                self._begin_anew(error)
                return method(self, *values, **named)

    return asked


def _told(method: Callable[Concatenate[Catalog, Values], Answer]) -> Callable[Concatenate[Catalog, Values], Answer]:
    """The same for questions about history, which one that is begun anew cannot answer yet: ``DamageError``."""

    @functools.wraps(method)
    def asked(self: Catalog, /, *values: Values.args, **named: Values.kwargs) -> Answer:
        with self._lock:
            try:
                return method(self, *values, **named)
            except sqlite3.DatabaseError as error:
                self._begin_anew(error)
                raise DamageError(
                    "What this machine remembers of the store was damaged, and is made anew from the store", "Ask again"
                ) from error

    return asked


class Catalog:
    """The catalog of one store. Safe to use from several threads, one at a time.

    :param path: the SQLite file; made when missing, made anew when it is of another version or damaged.
    :param fingerprint: of the store's keys: a catalog of another store that says it is this one is forgotten. Empty: whatever it is of.
    """

    def __init__(self, path: Path, fingerprint: str = "") -> None:
        self._file = path
        self._mark = int(fingerprint[:7] or "0", 16)
        self._lock = threading.RLock()
        self._stamp: tuple[tuple[str, int, int], str] | None = None
        self.trouble = ""
        """Why the catalog is kept in memory only, and made anew each time: the disk that it should be on takes nothing. Empty: it is not."""
        try:
            path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._db = self._open_file()
        except (OSError, sqlite3.OperationalError) as error:
            self._db = self._open_in_memory(error)

    def _open_file(self) -> sqlite3.Connection:
        os.close(os.open(self._file, os.O_CREAT | os.O_RDWR | os.O_CLOEXEC, 0o600))
        try:
            return self._open(str(self._file))
        except sqlite3.OperationalError:
            raise
        except sqlite3.DatabaseError:
            self._file.unlink()
            os.close(os.open(self._file, os.O_CREAT | os.O_RDWR | os.O_CLOEXEC, 0o600))
            return self._open(str(self._file))

    def _open_in_memory(self, error: OSError | sqlite3.OperationalError) -> sqlite3.Connection:
        """A catalog for as long as this object lives: snapshots and restores go on while a home is full. Other errors are raised."""
        if isinstance(error, sqlite3.OperationalError) and getattr(error, "sqlite_errorcode", 0) & 0xFF not in _DISK_ERRORS:
            raise error
        self.trouble = str(error)
        return self._open(":memory:")

    def _begin_anew(self, error: sqlite3.DatabaseError) -> None:
        """Begin a damaged file anew. Errors of another kind are raised."""
        if isinstance(error, sqlite3.OperationalError) or getattr(error, "sqlite_errorcode", 0) & 0xFF not in _DAMAGED:
            raise error
        self._db.close()
        self._stamp = None
        try:
            for extra in ("", "-wal", "-shm"):
                Path(f"{self._file}{extra}").unlink(missing_ok=True)
            self._db = self._open_file()
        except (OSError, sqlite3.OperationalError) as refused:
            self._db = self._open_in_memory(refused)

    def _open(self, file: str) -> sqlite3.Connection:
        db: sqlite3.Connection = sqlite3.connect(file, check_same_thread=False, isolation_level=None, timeout=30)
        try:
            db.execute("PRAGMA journal_mode = WAL")
            db.execute("PRAGMA synchronous = OFF")
            if db.execute("PRAGMA user_version").fetchone()[0] != _SCHEMA_VERSION:
                self._furnish(db)
            if self._mark and db.execute("PRAGMA application_id").fetchone()[0] != self._mark:
                self._take_over(db)
        except sqlite3.DatabaseError:
            db.close()
            raise
        return db

    def _take_over(self, db: sqlite3.Connection) -> None:
        """Mark the catalog as the store's. What one of another store holds is forgotten; one without a mark is of an earlier version."""
        db.execute("BEGIN IMMEDIATE")
        try:
            if db.execute("PRAGMA application_id").fetchone()[0] not in (0, self._mark):
                for table in _TABLES:
                    db.execute(f"DELETE FROM {table}")
            db.execute(f"PRAGMA application_id = {self._mark}")
        except BaseException:
            db.execute("ROLLBACK")
            raise
        db.execute("COMMIT")

    @staticmethod
    def _furnish(db: sqlite3.Connection) -> None:
        """Make the tables, unless another opening made them meanwhile."""
        db.execute("BEGIN IMMEDIATE")
        try:
            if db.execute("PRAGMA user_version").fetchone()[0] != _SCHEMA_VERSION:
                if db.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]:
                    raise sqlite3.DatabaseError("another version")
                for statement in _SCHEMA.split(";"):
                    db.execute(statement)
                db.execute(f"PRAGMA user_version = {_SCHEMA_VERSION}")
        except BaseException:
            db.execute("ROLLBACK")
            raise
        db.execute("COMMIT")

    def close(self) -> None:
        """Close the file."""
        self._db.close()

    @contextlib.contextmanager
    def _transaction(self) -> Iterator[None]:
        with self._lock:
            self._db.execute("BEGIN IMMEDIATE")
            try:
                yield
                self._db.execute("COMMIT")
            except BaseException:
                if self._db.in_transaction:  # a full disk has ended it already
                    self._db.execute("ROLLBACK")
                raise

    @contextlib.contextmanager
    def held_still(self) -> Iterator[Self]:
        """Several questions that belong together: nobody changes what is asked between them, in this process or another."""
        with self._lock:
            nested = self._db.in_transaction
            if not nested:
                self._db.execute("BEGIN")
            try:
                yield self
            finally:
                if not nested and self._db.in_transaction:
                    self._db.execute("COMMIT")

    @_told
    def history(self, machine: str) -> str:
        """Stands for the snapshots of a machine and their order: spans count them, and mean other ones when this is another."""
        query = "SELECT name FROM snapshot WHERE machine = ? ORDER BY seq"
        with self._lock:
            version = (machine, self._db.execute("PRAGMA data_version").fetchone()[0], self._db.total_changes)
            if self._stamp is None or self._stamp[0] != version:
                names = "".join(name for (name,) in self._db.execute(query, (self._machine(machine),)))
                self._stamp = version, hashlib.blake2b(names.encode(), digest_size=8).hexdigest()
            return self._stamp[1]

    @_mended
    def sync(self, store: Store, tell: Callable[[int, int], None] | None = None) -> list[DamageError]:
        """Bring the catalog to what the store holds now; returns what could not be read.

        :param tell: given the snapshots taken in so far, and those there are to take in.

        Raises:
            PlaceError: the store cannot be read.
        """
        with self._lock:
            try:
                return self._sync(store, tell)
            except sqlite3.OperationalError as error:
                if self.trouble:
                    raise
                in_memory = self._open_in_memory(error)
                self._db.close()
                self._db = in_memory
                return self._sync(store, tell)

    def _sync(self, store: Store, tell: Callable[[int, int], None] | None) -> list[DamageError]:
        present = store.snapshot_names()
        with self._lock:
            known = self.names()
            if known == set(present):
                return []
            known = self._forget(known, set(present))
            found, damage = store.snapshots()
            fresh = [snapshot for snapshot in found if snapshot.name not in known]
            if any(self._is_late(snapshot) for snapshot in fresh):
                self._clear()
                fresh = found
            for number, snapshot in enumerate(fresh):
                if tell is not None:
                    tell(number, len(fresh))
                try:
                    with self._transaction():
                        if not self._has(snapshot):
                            Intake(self._db, store, snapshot).run()
                except DamageError as error:
                    damage.append(error)
            return damage

    def _forget(self, known: set[str], present: set[str]) -> set[str]:
        """Take out what is no longer in the store; the names that are left."""
        gone = known - present
        if gone:
            with self._transaction():
                done = forget_released(self._db, gone)
            if not done:
                self._clear()
                return set()
        return known - gone

    def _has(self, snapshot: Snapshot) -> bool:
        """Whether a snapshot is in; another process may have taken it in meanwhile."""
        return self._db.execute("SELECT 1 FROM snapshot WHERE name = ?", (snapshot.name,)).fetchone() is not None

    def _is_late(self, snapshot: Snapshot) -> bool:
        """Whether a snapshot belongs before one that was taken in already."""
        query = "SELECT max(time) FROM snapshot JOIN machine ON machine.id = snapshot.machine WHERE key = ?"
        newest = self._db.execute(query, (snapshot.record.machine.id,)).fetchone()[0]
        return newest is not None and newest >= snapshot.record.time

    def _clear(self) -> None:
        with self._transaction():
            for table in _TABLES:
                self._db.execute(f"DELETE FROM {table}")

    @_told
    def machines(self) -> list[tuple[str, str]]:
        """Identity and name of each machine with snapshots."""
        with self._lock:
            return list(self._db.execute("SELECT key, name FROM machine ORDER BY id"))

    def _machine(self, key: str) -> int:
        row = self._db.execute("SELECT id FROM machine WHERE key = ?", (key,)).fetchone()
        return -1 if row is None else int(row[0])

    @_told
    def tide(self, machine: str) -> list[TidePoint]:
        """What each snapshot of a machine added, changed and removed, in order of time."""
        query = f"SELECT {', '.join(TidePoint.__struct_fields__)} FROM snapshot WHERE machine = ? ORDER BY seq"
        with self._lock:
            return [TidePoint(*row) for row in self._db.execute(query, (self._machine(machine),))]

    @_told
    def folder(self, machine: str, path: bytes) -> int | None:
        """The number of a folder that was ever in a snapshot, or None."""
        with self._lock:
            number = self._machine(machine)
            roots = dict(self._db.execute("SELECT name, id FROM folder WHERE machine = ? AND parent = 0", (number,)))
            for root, identity in sorted(roots.items(), key=lambda item: -len(item[0])):
                if path == root or path.startswith(root.rstrip(b"/") + b"/"):
                    return self._descend(number, identity, path[len(root) :])
            return None

    def _descend(self, machine: int, folder: int, rest: bytes) -> int | None:
        for part in rest.split(b"/"):
            if part:
                query = "SELECT id FROM folder WHERE machine = ? AND parent = ? AND name = ?"
                row = self._db.execute(query, (machine, folder, part)).fetchone()
                if row is None:
                    return None
                folder = row[0]
        return folder

    @_told
    def roots(self, machine: str) -> list[Lifeline]:
        """Lifelines of the covered folders themselves."""
        with self._lock:
            return self._lifelines(-self._machine(machine))

    @_told
    def lifelines(self, folder: int) -> list[Lifeline]:
        """Lifelines of everything that was ever in a folder, folders first, then by name."""
        with self._lock:
            return self._lifelines(folder)

    def _lifelines(self, folder: int) -> list[Lifeline]:
        spans: dict[bytes, list[Span]] = {}
        query = "SELECT name, kind, size, modified, identity, first, last FROM span WHERE folder = ? ORDER BY name, first"
        for name, *rest in self._db.execute(query, (folder,)):
            spans.setdefault(name, []).append(Span(*rest))
        children = dict(self._db.execute("SELECT name, id FROM folder WHERE parent = ? AND machine >= 0", (folder,))) if folder > 0 else {}
        if folder < 0:
            children = dict(self._db.execute("SELECT name, id FROM folder WHERE parent = 0 AND machine = ?", (-folder,)))
        lines = []
        for name, own in spans.items():
            inside: tuple[int, ...] = ()
            if own[-1].kind == Kind.FOLDER and name in children:
                rows = self._db.execute("SELECT seq FROM activity WHERE folder = ? ORDER BY seq", (children[name],))
                inside = tuple(seq for (seq,) in rows)
            lines.append(Lifeline(name, tuple(own), inside))
        lines.sort(key=lambda line: (line.kind != Kind.FOLDER, line.name.lower(), line.name))
        return lines

    @_told
    def standing_files(self, machine: str) -> list[tuple[bytes, list[bytes], list[int], list[int]]]:
        """The files of a machine's newest snapshot, folder by folder: its path, and their names, sizes and modification times."""
        query = """SELECT span.folder, span.name, size, modified FROM span JOIN folder ON folder.id = span.folder
                   WHERE folder.machine = ? AND last IS NULL AND kind = 'f' ORDER BY span.folder"""
        with self._lock:
            rows = self._db.execute(query, (self._machine(machine),)).fetchall()
            found = []
            for folder, group in itertools.groupby(rows, key=lambda row: int(row[0])):
                _, names, sizes, modified = map(list, zip(*group, strict=True))
                found.append((self._path(folder), names, sizes, modified))
            return found

    @_told
    def spans(self, folder: int, name: bytes) -> list[Span]:
        """The versions of one name in a folder, oldest first."""
        query = "SELECT kind, size, modified, identity, first, last FROM span WHERE folder = ? AND name = ? ORDER BY first"
        with self._lock:
            return [Span(*row) for row in self._db.execute(query, (folder, name))]

    @_told
    def same_content(self, machine: str, identity: bytes, around: Sequence[int]) -> list[bytes]:
        """Paths at which files with this content begin or end near some snapshots: where a renamed file came from or went."""
        with self._lock:
            number = self._machine(machine)
            query = """SELECT span.folder, span.name, first, last FROM span JOIN folder ON folder.id = span.folder
                       WHERE identity = ? AND kind = 'f' AND folder.machine = ? LIMIT 200"""
            rows = self._db.execute(query, (identity, number)).fetchall()
            near = [(folder, name) for folder, name, first, last in rows if first in around or (last is not None and last + 1 in around)]
            return [self._path(folder) + b"/" + name for folder, name in near]

    @_told
    def find(self, machine: str, words: str, limit: int = 200) -> list[bytes]:
        """Paths of everything whose name ever contained ``words``, without regard to case."""
        pattern = "%" + words.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
        query = """SELECT DISTINCT span.folder, span.name FROM span JOIN folder ON folder.id = span.folder
                   WHERE folder.machine = ? AND CAST(span.name AS TEXT) LIKE ? ESCAPE '\\' LIMIT ?"""
        with self._lock:
            rows = self._db.execute(query, (self._machine(machine), pattern, limit)).fetchall()
            return [self._path(folder) + b"/" + name for folder, name in rows]

    @_told
    def find_near(self, path: bytes) -> list[bytes]:
        """Paths that a mistyped one may have meant: what its folder ever held, or the covered folders."""
        parent, _, name = path.rpartition(b"/")
        with self._lock:
            for machine, _ in self.machines():
                folder = self.folder(machine, parent)
                if folder is not None:
                    return [parent + b"/" + line.name for line in self._lifelines(folder)]
            everywhere = [found for machine, _ in self.machines() for found in self.find(machine, os.fsdecode(name)[:4])]
            return everywhere or [line.name for machine, _ in self.machines() for line in self.roots(machine)]

    def _path(self, folder: int) -> bytes:
        parts: list[bytes] = []
        while folder:
            folder, name = self._db.execute("SELECT parent, name FROM folder WHERE id = ?", (folder,)).fetchone()
            parts.append(name)
        return b"/".join(reversed(parts))

    @_mended
    def names(self) -> set[str]:
        """Names of the snapshots it has taken in."""
        with self._lock:
            return {name for (name,) in self._db.execute("SELECT name FROM snapshot")}

    @_mended
    def stored_small(self, digest: ContentDigest) -> Extent | None:
        """Where a small file with this content lies in the store, if the catalog knows."""
        query = "SELECT chunk, offset, size FROM span WHERE identity = ? AND kind = 'f' AND chunk IS NOT NULL LIMIT 1"
        with self._lock:
            row = self._db.execute(query, (digest,)).fetchone()
        return None if row is None else Extent(ChunkId(row[0]), row[1], row[2])
