"""What a run saw in each folder, kept on this machine, so that the next one knows what it need not look into.

A folder's listing in the store holds what a restore needs. Inode and change time, by which a file is known to
be the one that was read, are kept here instead: a program that writes all files anew with the same content
and times changes nothing in the store.

Only a cache. What it says of a folder holds for one listing, and is used only where the last snapshot has
that listing; a record that was damaged counts for nothing. Without it everything is read once.
"""

from __future__ import annotations

import contextlib
import hashlib
import sqlite3
import zlib
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from types import TracebackType
from typing import Self

import msgspec

from good_tide.core.entries import Kind
from good_tide.core.identifiers import PageId
from good_tide.core.pages import Page
from good_tide.operations.snapshot.cache_file import open_cache
from good_tide.source.folders import Found

_FORM = 1
"""Of the file; another form is begun anew."""
_TABLE = """CREATE TABLE IF NOT EXISTS {}
    (path BLOB PRIMARY KEY, look BLOB, pages BLOB, stamps BLOB) WITHOUT ROWID"""
_GROUND = "CREATE TABLE IF NOT EXISTS ground (one INTEGER PRIMARY KEY CHECK (one = 1), said BLOB)"
_BATCH = 500
_CHECK_BYTES = 4


class Ground(msgspec.Struct, array_like=True, frozen=True):
    """What the looks of a run stand on. While it is the same, a folder that looks the same is the same.

    :param snapshot: the one that was taken in it.
    :param terms: a digest of the rules, and of what else decides what is in.
    :param index: names of the index files of the store that were read.
    :param looked: when all folders were looked at last, ns since 1970 UTC.
    """

    snapshot: str
    terms: bytes
    index: tuple[str, ...]
    looked: int = 0


class Look(msgspec.Struct, array_like=True, frozen=True, gc=False):
    """What a folder looked like when its listing was made.

    :param seen: as ``source.sight``.
    :param files: files of it that are in, of ``size`` bytes, without those in folders inside.
    :param until: when an age limit of a rule next turns for one of its files, ns since 1970 UTC; 0: never.
    """

    seen: bytes
    files: int = 0
    size: int = 0
    until: int = 0


Stamps = Sequence[int]
"""For each entry of a listing its change time (ns since 1970 UTC; 0: to be read again) and its inode."""
NO_STAMPS = b"\x90"
"""No stamps, packed."""

_look_decoder = msgspec.msgpack.Decoder(Look)
_stamps_decoder = msgspec.msgpack.Decoder(list[int])
_ground_decoder = msgspec.msgpack.Decoder(Ground)
_encode = msgspec.msgpack.Encoder().encode


class Sightings:
    """What the runs of one machine saw of its folders for one store. A context manager, under the run's lock.
    Nothing is kept of a run that does not come to its end.
    """

    def __init__(self, file: Path) -> None:
        self.file = file
        self._db: sqlite3.Connection | None = None
        self._waiting: list[tuple[bytes, bytes, bytes, bytes]] = []
        self._anew = False
        self.ground: Ground | None = None
        """Of the last run that came to its end."""

    def __enter__(self) -> Self:
        with contextlib.suppress(OSError, sqlite3.Error):
            self._db = open_cache(self.file, _furnish)
            self.ground = self._said()
        return self

    def _said(self) -> Ground | None:
        assert self._db is not None
        row = self._db.execute("SELECT said FROM ground").fetchone()
        with contextlib.suppress(msgspec.MsgspecError):
            return _ground_decoder.decode(checked(row[0])) if row is not None else None
        return None

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._give_up()

    def _give_up(self) -> None:
        """Keep what the last run that came to its end has kept, and nothing of this one."""
        db, self._db, self._waiting = self._db, None, []
        if db is not None:
            with contextlib.suppress(sqlite3.Error):
                if db.in_transaction:
                    db.execute("ROLLBACK")
            db.close()

    def begin_anew(self) -> None:
        """All folders are walked in this run: nothing is kept of any other."""
        self._anew = True

    def stamps_of(self, path: bytes, pages: Sequence[PageId]) -> list[int] | None:
        """Change times and inodes of what a folder's listing names; None when they are not known for just
        this listing."""
        row = self._row(path, "pages, stamps") if pages else None
        if row is not None and row[0] == _name_of(pages):
            with contextlib.suppress(msgspec.MsgspecError):
                return read_stamps(checked(row[1]))
        return None

    def holds(self, path: bytes, pages: Sequence[PageId]) -> bool:
        """Whether what is kept of a folder is of this listing."""
        row = self._row(path, "pages")
        return row is not None and row[0] == _name_of(pages)

    def _row(self, path: bytes, columns: str) -> tuple[bytes, ...] | None:
        if self._db is None:
            return None
        with contextlib.suppress(sqlite3.Error):
            row: tuple[bytes, ...] | None = self._db.execute(
                f"SELECT {columns} FROM folder WHERE path = ?", (key_of(path),)
            ).fetchone()
            return row
        return None

    def note(self, path: bytes, look: bytes, pages: Sequence[PageId], stamps: bytes) -> None:
        """Keep what was seen of a folder.

        :param look: packed; empty: it has to be looked into each time. :param stamps: packed.
        """
        if self._db is None:
            return
        self._waiting.append((key_of(path), look, _name_of(pages), with_check(stamps)))
        if len(self._waiting) >= _BATCH:
            self._write()

    def _write(self) -> None:
        if self._db is None:
            return
        waiting, self._waiting = self._waiting, []
        try:
            self._begin(self._db)
            into = "anew" if self._anew else "folder"
            self._db.executemany(f"INSERT OR REPLACE INTO {into} VALUES (?, ?, ?, ?)", waiting)
        except sqlite3.Error:
            self._give_up()

    def _begin(self, db: sqlite3.Connection) -> None:
        if not db.in_transaction:
            db.execute("BEGIN")
            if self._anew:
                db.execute(_TABLE.format("anew"))

    def finish(self, ground: Ground, gone: Iterable[bytes]) -> None:
        """The run came to its end: keep what it saw.

        :param ground: what that stands on. :param gone: keys of folders of which nothing is kept any more.
        """
        self._write()
        if self._db is None:
            return
        try:
            self._begin(self._db)
            if self._anew:
                self._db.execute("DROP TABLE folder")
                self._db.execute("ALTER TABLE anew RENAME TO folder")
            self._db.executemany("DELETE FROM folder WHERE path = ?", [(key,) for key in gone])
            said = with_check(_encode(ground))
            self._db.execute("INSERT OR REPLACE INTO ground VALUES (1, ?)", (said,))
            self._db.execute("COMMIT")
        except sqlite3.Error:
            self._give_up()


def _furnish(db: sqlite3.Connection) -> None:
    if db.execute("PRAGMA user_version").fetchone()[0] not in (0, _FORM):
        raise sqlite3.DatabaseError
    db.execute(_TABLE.format("folder"))
    db.execute(_GROUND)
    db.execute(f"PRAGMA user_version = {_FORM}")
    db.execute("PRAGMA synchronous = NORMAL")


def look_of(seen: bytes, found: Iterable[Found], until: int) -> Look:
    """The look at a folder: its digest, what of it is in, and when that may turn."""
    sizes = [info.st_size for _, _, kind, info in found if kind is Kind.FILE]
    return Look(seen, len(sizes), sum(sizes), until)


def packed_look(look: Look) -> bytes:
    """A look as it is kept."""
    return with_check(_encode(look))


def packed_stamps(stamps: Stamps) -> bytes:
    """Stamps as MessagePack."""
    return _encode(stamps)


def read_stamps(packed: bytes) -> list[int]:
    """Stamps from MessagePack.

    Raises:
        msgspec.MsgspecError: they are none.
    """
    return _stamps_decoder.decode(packed)


def stamped_pages(pages: Sequence[Page], stamps: Stamps) -> list[Page]:
    """Pages of a listing with the stamps of all its entries; as they are when these are not as many."""
    if len(stamps) != 2 * sum(len(page.names) for page in pages):
        return list(pages)
    found, at = [], 0
    for page in pages:
        end = at + 2 * len(page.names)
        found.append(page.with_stamps(stamps[at:end]))
        at = end
    return found


def key_of(path: bytes) -> bytes:
    """A folder's key. In the order of keys it stands right before all that lies inside it."""
    return path.rstrip(b"/") + b"/"


def _name_of(pages: Sequence[PageId]) -> bytes:
    return pages[0] if len(pages) == 1 else hashlib.blake2b(b"".join(pages), digest_size=16).digest()


def with_check(body: bytes) -> bytes:
    """``body`` behind a checksum of it."""
    return zlib.crc32(body).to_bytes(_CHECK_BYTES, "big") + body


def checked(record: bytes) -> bytes:
    """The body of a record; empty when it is not what was written."""
    body = record[_CHECK_BYTES:]
    return body if zlib.crc32(body).to_bytes(_CHECK_BYTES, "big") == record[:_CHECK_BYTES] else b""


class KeptLooks:
    """The looks that are kept in a file, for reading beside the run that holds it.

    Raises:
        sqlite3.Error: by all methods, when the file cannot be read.
    """

    def __init__(self, file: Path) -> None:
        self._db = sqlite3.connect(f"{file.absolute().as_uri()}?mode=ro", uri=True)

    def close(self) -> None:
        """Read no more."""
        self._db.close()

    def between(self, first: bytes, end: bytes | None) -> Iterator[tuple[bytes, Look | None]]:
        """Keys in order from ``first`` to before ``end`` (None: all that follow), each with its look; None
        where there is none."""
        rows = self._db.execute(
            "SELECT path, look FROM folder WHERE path >= ? AND (? IS NULL OR path < ?) ORDER BY path",
            (first, end, end),
        )
        for path, record in rows:
            look = None
            with contextlib.suppress(msgspec.MsgspecError):
                look = _look_decoder.decode(checked(record))
            yield path, look
