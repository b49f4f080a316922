"""What a run has read so far, kept on this machine until its snapshot is published: a run that is cut off
(the disk pulled, the power gone, the process killed) goes on without reading again what is in the store
already.

The log is a file of records: length and CRC-32 of the rest (4 bytes each, little-endian), a kind, the length
of a path (2 bytes), the path, and MessagePack. A record that is not whole ends it. Nothing in it is believed:
an entry is used only for a file whose metadata is the same to the nanosecond, and only when the store has all
its chunks.
"""

from __future__ import annotations

import contextlib
import os
import struct
import time
import zlib
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import BinaryIO

import msgspec

from good_tide.core.entries import Entry, Kind, Stat
from good_tide.core.identifiers import ChunkId
from good_tide.core.pages import Page
from good_tide.operations.snapshot.sightings import read_stamps, stamped_pages
from good_tide.storage.content import Part

_encode = msgspec.msgpack.Encoder().encode
_HEAD = struct.Struct("<IIBH")
_PARTS, _FOLDER = 2, 3
"""What a record is of; those of earlier versions, 1, are passed over."""
_LARGEST = 512 * 1024 * 1024
"""Bytes after which a log that was never finished begins anew."""

_NOTE_SECONDS = 2.0
_FLUSH_SECONDS = 0.2
"""So much is read again at most after a kill."""

KnownPart = tuple[int, ChunkId]
"""Length and chunk of a piece of a file, from its beginning on without gaps."""


class _Pieces(msgspec.Struct, array_like=True):
    """``first`` counts the pieces that came before these."""

    stat: Stat
    first: int
    pieces: list[tuple[int, bytes]]


class _Listing(msgspec.Struct, array_like=True):
    """The pages of a folder's listing, and the stamps of all entries, packed."""

    pages: Sequence[bytes]
    stamps: msgspec.Raw


class ResumeLog:
    """The log of one machine's runs into one store. Use as a context manager, under the run's lock.

    :param has: whether the store has a chunk.
    """

    def __init__(self, file: Path, has: Callable[[ChunkId], bool]) -> None:
        self._file, self._has = file, has
        self._folders: dict[bytes, tuple[int, int]] = {}
        self._pieces: dict[bytes, tuple[Stat, list[KnownPart]]] = {}
        self._out: BinaryIO | None = None
        self._flushed = 0.0
        self._in: BinaryIO | None = None

    def __enter__(self) -> ResumeLog:
        with contextlib.suppress(OSError):
            self._in = self._file.open("rb")
            if os.fstat(self._in.fileno()).st_size > _LARGEST:
                self._close()
                self._file.unlink()
        if self._in is not None:
            end = 0
            for kind, path, at, length in self._records(self._in):
                end = at + length
                if kind == _FOLDER:
                    self._folders[path] = at, length
                elif kind == _PARTS:
                    self._take_pieces(path, self._body(at, length))
            os.truncate(self._file, end)
        return self

    def __exit__(self, *unused: object) -> None:
        self._close()

    def _close(self) -> None:
        for file in (self._in, self._out):
            if file is not None:
                with contextlib.suppress(OSError):
                    file.close()
        self._in = self._out = None

    @staticmethod
    def _records(file: BinaryIO) -> Iterator[tuple[int, bytes, int, int]]:
        """Kind, path, and place of the body of each whole record."""
        while len(head := file.read(_HEAD.size)) == _HEAD.size:
            length, check, kind, path_length = _HEAD.unpack(head)
            rest = file.read(length)
            if len(rest) != length or zlib.crc32(rest) != check or path_length > length:
                return
            yield kind, rest[:path_length], file.tell() - length + path_length, length - path_length

    def _body(self, at: int, length: int) -> bytes:
        assert self._in is not None
        back = self._in.tell()
        self._in.seek(at)
        body = self._in.read(length)
        self._in.seek(back)
        return body

    def _take_pieces(self, path: bytes, body: bytes) -> None:
        found = msgspec.msgpack.decode(body, type=_Pieces)
        stat, known = self._pieces.get(path, (found.stat, []))
        if stat != found.stat or found.first > len(known):
            stat, known = found.stat, [] if found.first else known
        if found.first <= len(known):
            self._pieces[path] = (
                stat,
                [*known[: found.first], *((length, ChunkId(chunk)) for length, chunk in found.pieces)],
            )

    @property
    def is_empty(self) -> bool:
        """Whether no run was cut off."""
        return not self._folders and not self._pieces

    def files_of(self, path: bytes) -> dict[bytes, Entry]:
        """Files of a folder that an earlier run read, by name; their content is in the store."""
        place = self._folders.get(path)
        if place is None:
            return {}
        noted = msgspec.msgpack.decode(self._body(*place), type=_Listing)
        pages = stamped_pages([Page(page) for page in noted.pages], read_stamps(bytes(noted.stamps)))
        return {
            entry.name: entry
            for page in pages
            for entry in page.entries()
            if entry.kind is Kind.FILE
            and not entry.extra.unsteady
            and all(one.chunk is None or self._has(one.chunk) for one in entry.extents)
        }

    def pieces_of(self, path: bytes, stat: Stat) -> list[KnownPart]:
        """Pieces at the beginning of a file, if it is as it was, as far as the store has them."""
        known_stat, known = self._pieces.get(path, (None, []))
        if known_stat != stat:
            return []
        found = []
        for length, chunk in known:
            if not self._has(chunk):
                break
            found.append((length, chunk))
        return found

    def note_folder(self, path: bytes, pages: Sequence[bytes], stamps: bytes) -> None:
        """A folder's files were read; its listing is being written.

        :param stamps: packed.
        """
        self._add(_FOLDER, path, _encode(_Listing(pages, msgspec.Raw(stamps))))

    def note_pieces(self, path: bytes, stat: Stat, first: int, pieces: Sequence[KnownPart]) -> None:
        """Further pieces of a file were handed to the store; ``first`` came before them."""
        self._add(
            _PARTS,
            path,
            _encode(_Pieces(stat, first, [(length, bytes(chunk)) for length, chunk in pieces])),
        )

    def _add(self, kind: int, path: bytes, body: bytes) -> None:
        """Append a record. A log that cannot be written only means that a run that is cut off reads more
        again."""
        if len(path) > 0xFFFF:
            return
        with contextlib.suppress(OSError):
            if self._out is None:
                self._file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
                self._out = os.fdopen(
                    os.open(self._file, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o600), "ab"
                )
            rest = path + body
            self._out.write(_HEAD.pack(len(rest), zlib.crc32(rest), kind, len(path)) + rest)
            if kind == _PARTS or time.monotonic() - self._flushed > _FLUSH_SECONDS:
                self._out.flush()
                self._flushed = time.monotonic()

    def finished(self) -> None:
        """The snapshot is published: nothing needs to be gone on with."""
        self._close()
        with contextlib.suppress(OSError):
            self._file.unlink()


class PiecesNote:
    """Notes the pieces of one large file in the log while they are read, every few seconds."""

    def __init__(self, log: ResumeLog, path: bytes, stat: Stat, parts: Sequence[Part]) -> None:
        self._log, self._path, self._stat, self._parts = log, path, stat, parts
        self._noted = 0
        self._last = time.monotonic()

    def tick(self) -> None:
        """Some of the file was read."""
        now = time.monotonic()
        if now - self._last < _NOTE_SECONDS:
            return
        self._last = now
        pieces: list[KnownPart] = []
        for part in self._parts[self._noted :]:
            if part.chunk is None:  # a hole, or not yet hashed: what comes after is noted when it is
                break
            pieces.append((part.length, part.chunk))
        if pieces:
            self._log.note_pieces(self._path, self._stat, self._noted, pieces)
            self._noted += len(pieces)
