"""How files that lie in pieces are cut into chunks, kept on this machine.

The chunks of such a file are not in the store, which has what they are made of. So that a run need not read
them back from there to see that they are as they were, their identities are kept here, by the digest of the
whole content. Only a cache: without it, or with a part of it damaged, more is read. What it says is checked
by a digest with the store's key, as a flipped bit would put other bytes into a snapshot.
"""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Sequence
from pathlib import Path
from types import TracebackType
from typing import Self

import msgspec

from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.crypto.seals import StoreKeys
from good_tide.operations.snapshot.cache_file import open_cache

_MOST_FILES = 2000
"""Contents that are known at most; those that were used last stay."""
_MOST_CUTS = 200_000
"""Of a content with more chunks (some 150 GB) none are kept."""
_CHECKED = b"cuts"

Cut = tuple[ChunkId, int]
"""A chunk's identity and its length in bytes."""


class KnownCuts:
    """The cuts of one machine's files in one store. A context manager, under the run's lock.

    :param file: where they are kept.
    """

    def __init__(self, file: Path, keys: StoreKeys) -> None:
        self.file, self._keys = file, keys
        self._db: sqlite3.Connection | None = None

    def __enter__(self) -> Self:
        with contextlib.suppress(OSError, sqlite3.Error):
            self._db = open_cache(self.file, _furnish)
            self._db.execute("BEGIN")
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._db is not None:
            with contextlib.suppress(sqlite3.Error):
                self._db.execute("COMMIT")
            self._db.close()
            self._db = None

    def of(self, digest: ContentDigest) -> list[Cut]:
        """The chunks of a content in their order; none if they are not known."""
        if self._db is None:
            return []
        with contextlib.suppress(sqlite3.Error, msgspec.MsgspecError):
            row = self._db.execute("SELECT cuts, checked FROM content WHERE digest = ?", (digest,)).fetchone()
            if row is not None and row[1] == self._check(digest, row[0]):
                return [(ChunkId(chunk), length) for chunk, length in _decode(row[0])]
        return []

    def keep(self, digest: ContentDigest, cuts: Sequence[Cut]) -> None:
        """Keep the chunks of a content. What cannot be kept only means that more is read."""
        if self._db is None or len(cuts) > _MOST_CUTS:
            return
        packed = msgspec.msgpack.encode(cuts)
        with contextlib.suppress(sqlite3.Error):
            self._db.execute(
                "INSERT OR REPLACE INTO content VALUES (?, ?, ?)",
                (digest, packed, self._check(digest, packed)),
            )
            self._db.execute(
                "DELETE FROM content WHERE rowid <= (SELECT max(rowid) FROM content) - ?", (_MOST_FILES,)
            )

    def _check(self, digest: ContentDigest, packed: bytes) -> bytes:
        return self._keys.digest(_CHECKED + digest + packed)


def _furnish(db: sqlite3.Connection) -> None:
    db.execute("PRAGMA synchronous = OFF")
    db.execute("CREATE TABLE IF NOT EXISTS content (digest BLOB PRIMARY KEY, cuts BLOB, checked BLOB)")


def _decode(packed: bytes) -> list[tuple[bytes, int]]:
    return msgspec.msgpack.decode(packed, type=list[tuple[bytes, int]])
