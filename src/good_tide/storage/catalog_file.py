"""The SQLite file of the local catalog: opening it, and going on where its disk is full or it is damaged."""

from __future__ import annotations

import contextlib
import functools
import os
import sqlite3
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Concatenate, ParamSpec, Self, TypeVar

from good_tide.core.errors import DamageError
from good_tide.core.identifiers import HistoryId
from good_tide.core.translation import tr
from good_tide.storage import catalog_names as names

_SCHEMA_VERSION = 1
INDEX_OF_IDENTITIES = "CREATE INDEX span_by_identity ON span (identity) WHERE kind = 'f'"
_SCHEMA = f"""
CREATE TABLE machine (id INTEGER PRIMARY KEY, key TEXT UNIQUE NOT NULL, name TEXT NOT NULL);
CREATE TABLE snapshot (
    machine INTEGER NOT NULL, seq INTEGER NOT NULL, name TEXT UNIQUE NOT NULL, time INTEGER NOT NULL,
        label TEXT NOT NULL,
    files INTEGER, bytes INTEGER, stored INTEGER, gaps INTEGER,
    added INTEGER DEFAULT 0, changed INTEGER DEFAULT 0, removed INTEGER DEFAULT 0,
    added_bytes INTEGER DEFAULT 0, changed_bytes INTEGER DEFAULT 0, removed_bytes INTEGER DEFAULT 0,
    PRIMARY KEY (machine, seq)) WITHOUT ROWID;
CREATE TABLE folder (
    id INTEGER PRIMARY KEY, machine INTEGER NOT NULL, parent INTEGER NOT NULL, name BLOB NOT NULL,
        listing BLOB,
    UNIQUE (machine, parent, name));
CREATE TABLE span (
    folder INTEGER NOT NULL, name BLOB NOT NULL, kind TEXT NOT NULL, size INTEGER NOT NULL,
        modified INTEGER NOT NULL,
    identity BLOB NOT NULL, first INTEGER NOT NULL, last INTEGER, chunk BLOB, offset INTEGER);
CREATE INDEX span_by_folder ON span (folder, name, first);
{INDEX_OF_IDENTITIES};
CREATE TABLE activity (folder INTEGER NOT NULL, seq INTEGER NOT NULL, PRIMARY KEY (folder,
    seq)) WITHOUT ROWID;
"""
_MARKS = ("user_version", "application_id")
_LOST = (
    "CREATE TABLE IF NOT EXISTS lost (identity BLOB, chunk BLOB, PRIMARY KEY (identity, chunk)) WITHOUT ROWID"
)
"""Made in catalogs of earlier versions too, which know no losses."""
_OPEN_SPANS = "CREATE INDEX IF NOT EXISTS span_open ON span (folder) WHERE last IS NULL"
"""What stands in a folder now, however many versions it had; made in catalogs of earlier versions too."""
_PLAIN = "CREATE TABLE IF NOT EXISTS plain (machine INTEGER PRIMARY KEY, lists INTEGER NOT NULL)"
"""Histories that were read from their beginning on, and whether access control lists are in them; made in
catalogs of earlier versions too, which know of none."""
_DISK_ERRORS = (
    sqlite3.SQLITE_FULL,
    sqlite3.SQLITE_IOERR,
    sqlite3.SQLITE_READONLY,
    sqlite3.SQLITE_CANTOPEN,
    sqlite3.SQLITE_NOLFS,
)
TABLES = ("machine", "snapshot", "folder", "span", "activity", "names", "plain")
_DAMAGED = (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB)
Values = ParamSpec("Values")
Answer = TypeVar("Answer")
Own = TypeVar("Own", bound="CatalogFile")


def mended(method: Callable[Concatenate[Own, Values], Answer]) -> Callable[Concatenate[Own, Values], Answer]:
    """Where the file turns out to be damaged it is begun anew, and the method goes on with that: it is a
    cache."""

    @functools.wraps(method)
    def asked(self: Own, /, *values: Values.args, **named: Values.kwargs) -> Answer:
        with self._lock:
            try:
                return method(self, *values, **named)
            except sqlite3.DatabaseError as error:
                self._begin_anew(error)
                return method(self, *values, **named)

    return asked


def damage_noted(
    method: Callable[Concatenate[Own, Values], Answer],
) -> Callable[Concatenate[Own, Values], Answer]:
    """The same for questions about history, which one that is begun anew cannot answer yet:
    ``DamageError``."""

    @functools.wraps(method)
    def asked(self: Own, /, *values: Values.args, **named: Values.kwargs) -> Answer:
        with self._lock:
            try:
                return method(self, *values, **named)
            except sqlite3.DatabaseError as error:
                self._begin_anew(error)
                raise DamageError(
                    tr(
                        "What this machine remembers of the store was damaged, and is made anew from the"
                        " store"
                    ),
                    tr("Ask again"),
                ) from error

    return asked


class CatalogFile:
    """The file of the catalog of one store, opened, and begun anew where it must be. ``_db`` is asked with
    ``_lock`` held.

    :param path: the SQLite file; made when missing, made anew when it is of another version or damaged.
    :param fingerprint: of the store's keys: a catalog of another store that says it is this one is forgotten.
        Empty: whatever it is of.
    """

    def __init__(self, path: Path, fingerprint: str = "") -> None:
        self._file = path
        self._mark = int(fingerprint[:7] or "0", 16)
        self._lock = threading.RLock()
        self._stamp: tuple[tuple[str, int, int], HistoryId] | None = None
        self.trouble = ""
        """Why the catalog is kept in memory only, and made anew each time: the disk that it should be on
        takes nothing. Empty: it is not."""
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
        """A catalog for as long as this object lives: snapshots and restores go on while a home is full.
        Other errors are raised."""
        if (
            isinstance(error, sqlite3.OperationalError)
            and getattr(error, "sqlite_errorcode", 0) & 0xFF not in _DISK_ERRORS
        ):
            raise error
        self.trouble = str(error)
        return self._open(":memory:")

    def _begin_anew(self, error: sqlite3.DatabaseError) -> None:
        """Begin a damaged file anew. Errors of another kind are raised."""
        if (
            isinstance(error, sqlite3.OperationalError)
            or getattr(error, "sqlite_errorcode", 0) & 0xFF not in _DAMAGED
        ):
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
        db: sqlite3.Connection = sqlite3.connect(
            file, check_same_thread=False, isolation_level=None, timeout=30
        )
        try:
            db.execute("PRAGMA journal_mode = WAL")
            db.execute("PRAGMA synchronous = OFF")
            if db.execute("PRAGMA user_version").fetchone()[0] != _SCHEMA_VERSION:
                self._furnish(db)
            self._add_what_came_later(db)
            if self._mark and db.execute("PRAGMA application_id").fetchone()[0] != self._mark:
                self._take_over(db)
        except sqlite3.DatabaseError:
            db.close()
            raise
        return db

    @staticmethod
    def _add_what_came_later(db: sqlite3.Connection) -> None:
        """Make what catalogs of earlier versions have not."""
        for statement in (_LOST, _OPEN_SPANS, _PLAIN, names.SCHEMA):
            db.execute(statement)

    def _take_over(self, db: sqlite3.Connection) -> None:
        """Mark the catalog as the store's. What one of another store holds is forgotten; one without a mark
        is of an earlier version."""
        db.execute("BEGIN IMMEDIATE")
        try:
            if db.execute("PRAGMA application_id").fetchone()[0] not in (0, self._mark):
                for table in (*TABLES, "lost"):
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
                    raise sqlite3.DatabaseError(tr("another version"))
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

    def write_image(self, file: Path) -> None:
        """Write all that is in it into a new file.

        Raises:
            sqlite3.Error: the disk does not take it.
        """
        with self._lock:
            self._db.execute("VACUUM INTO ?", (str(file),))

    def take_image(self, file: Path) -> bool:
        """Take what is in such a file in place of all that is here, if it is whole, of this version and of
        the same store."""
        with self._lock, contextlib.closing(sqlite3.connect(file)) as image:
            try:
                if image.execute("PRAGMA quick_check").fetchone()[0] != "ok":
                    return False
                marks = [image.execute(f"PRAGMA {name}").fetchone()[0] for name in _MARKS]
                if marks != [_SCHEMA_VERSION, self._mark]:
                    return False
                image.backup(self._db)
                self._add_what_came_later(self._db)
            except sqlite3.DatabaseError:
                return False
            self._stamp = None
            return True

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
        """Several questions that belong together: nobody changes what is asked between them, in this process
        or another."""
        with self._lock:
            nested = self._db.in_transaction
            if not nested:
                self._db.execute("BEGIN")
            try:
                yield self
            finally:
                if not nested and self._db.in_transaction:
                    self._db.execute("COMMIT")
