"""The eight bytes every store file begins with, and sealed files that are read as a whole (index, snapshot)."""

from __future__ import annotations

import enum

from good_tide.core.errors import DamageError, PlaceError
from good_tide.core.identifiers import FORMAT_VERSION
from good_tide.crypto.seals import StoreKeys
from good_tide.storage.compression import expand, shrink

MAGIC = b"GDTD"
HEAD_BYTES = 8
WHOLE_FILE_LIMIT = 1 << 30
"""Bytes an index or snapshot may expand to; refused before memory is taken."""


class FileKind(enum.IntEnum):
    """Kinds of sealed store files, as stored in the sixth byte."""

    PACK = 1
    INDEX = 2
    SNAPSHOT = 3
    STATUS = 4
    DOOMED = 5
    PIN = 6

    @property
    def word(self) -> str:
        """The word that goes into the derivation of the file's key."""
        return self.name.lower()


def head(kind: FileKind, encrypted: bool) -> bytes:
    """Magic, format version, kind, suite (0 open, 1 AES-256-GCM), a zero."""
    return MAGIC + bytes([FORMAT_VERSION, kind, int(encrypted), 0])


def check_head(data: bytes, kind: FileKind, encrypted: bool, file: str) -> None:
    """Refuse a file that does not begin as it must.

    Raises:
        PlaceError: written by a newer version.
        DamageError: anything else.
    """
    if data[:4] == MAGIC and len(data) >= HEAD_BYTES and data[4] > FORMAT_VERSION and data[5:8] == head(kind, encrypted)[5:]:
        raise PlaceError(f"{file} was written by a newer version of Good Tide", "Install that version to use this store")
    if data[:HEAD_BYTES] != head(kind, encrypted):
        raise DamageError(f"{file} does not begin as a store file must", "Run verify on this store", file)


def seal_whole(keys: StoreKeys, kind: FileKind, name: bytes, plain: bytes) -> bytes:
    """A complete store file: head, then the plain bytes with a leading 1 (zstd) or 0 (as they are), sealed."""
    begin = head(kind, keys.encrypted)
    small = shrink(plain, level=9)
    body = b"\0" + plain if small is None else b"\1" + small
    return begin + keys.seal_for(kind.word, name).seal(0, body, begin)


def open_whole(keys: StoreKeys, kind: FileKind, name: bytes, data: bytes, file: str) -> bytes:
    """The plain bytes of ``seal_whole``.

    Raises:
        DamageError: changed, cut, or under another name than it was written.
    """
    check_head(data, kind, keys.encrypted, file)
    try:
        body = keys.seal_for(kind.word, name).open(0, data[HEAD_BYTES:], data[:HEAD_BYTES])
        return expand(body[1:], WHOLE_FILE_LIMIT) if body[:1] == b"\1" else body[1:]
    except DamageError as error:
        raise DamageError(f"{file} is damaged: {error.what}", "Run verify on this store", file) from error
