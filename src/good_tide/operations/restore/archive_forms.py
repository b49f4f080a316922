"""The forms of archives: tar (POSIX.1-2001, pax headers; holes by GNU's sparse format 1.0), with gzip or
Zstandard, and ZIP. Everything is written as it comes, and nothing of it is kept but what the form's own index
needs."""

from __future__ import annotations

import contextlib
import functools
import gzip
import os
import stat
import struct
import tarfile
import time
import zipfile
from collections.abc import Callable, Iterator, Mapping
from typing import IO, NamedTuple, Protocol, cast

import zstandard

from good_tide.core.acl_text import text_of
from good_tide.core.clock import SECOND
from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import PersonError
from good_tide.core.records import Snapshot
from good_tide.core.translation import tr

XATTR_HEADER = "SCHILY.xattr."
"""So pax headers of extended attributes begin, by the star(5) manual."""
ACL_HEADERS = {
    "system.posix_acl_access": "SCHILY.acl.access",
    "system.posix_acl_default": "SCHILY.acl.default",
}
"""Access control lists go as text besides, by the same manual: most who unpack heed only that."""
TIMES_FIELD = 0x5455
"""The extra field with a time to the second, of APPNOTE.TXT's third-party mappings (Info-ZIP)."""
_ZIP_BEGINS = 1980
_GZIP_LEVEL = 6
_WORTH_BYTES = 64 * 1024
"""Holes of so much in a file are worth saying that they are holes."""
_PIECE = 1 << 20


class Piece(NamedTuple):
    """A stretch of a file's content; a hole where ``data`` is None."""

    data: bytes | None
    length: int


class Writer(Protocol):
    """Writes an archive."""

    def add(self, name: str, entry: Entry, snapshot: Snapshot, content: Iterator[Piece] | None) -> None:
        """Add one thing; a file with its content."""
        ...

    def close(self) -> None:
        """Write the archive to its end."""
        ...


class Tar:
    """A tar archive; links of one file among each other are kept. What is in it is not kept in memory, as the
    class of the standard library does it, but for names of files with several links."""

    def __init__(self, out: IO[bytes]) -> None:
        self._out, self._written = out, 0
        self._links: dict[tuple[str, int, int], str] = {}

    def add(self, name: str, entry: Entry, snapshot: Snapshot, content: Iterator[Piece] | None) -> None:
        info, mine, owners = tarfile.TarInfo(name), entry.stat, snapshot.record.owners
        info.mode, info.uid, info.gid = mine.mode, mine.uid, mine.gid
        info.uname, info.gname = owners.get(f"u{mine.uid}", ""), owners.get(f"g{mine.gid}", "")
        info.mtime = mine.modified // SECOND
        headers = {"mtime": f"{mine.modified // SECOND}.{mine.modified % SECOND:09d}"}
        for key, value in entry.extra.attributes:
            attribute = os.fsdecode(key)
            headers[XATTR_HEADER + attribute] = value.decode("utf-8", "surrogateescape")
            if attribute in ACL_HEADERS:
                words = text_of(value, lambda kind, number: owners.get(f"{kind[0]}{number}", ""))
                if words is not None:
                    headers[ACL_HEADERS[attribute]] = words
        info.pax_headers = headers
        group = entry.extra.link_group
        first = self._links.get((snapshot.id, *group)) if group is not None else None
        if entry.kind is Kind.FOLDER:
            info.type = tarfile.DIRTYPE
        elif entry.kind is Kind.LINK:
            info.type, info.linkname = tarfile.SYMTYPE, os.fsdecode(entry.extra.target)
        elif first is not None:
            info.type, info.linkname = tarfile.LNKTYPE, first
        elif content is not None:
            if group is not None:
                self._links[(snapshot.id, *group)] = name
            self._add_file(info, entry, content)
            return
        self._write(_head(info))

    def _add_file(self, info: tarfile.TarInfo, entry: Entry, content: Iterator[Piece]) -> None:
        info.size, index = entry.stat.size, b""
        holes = sum(one.length for one in entry.extents if one.chunk is None) if len(entry.extents) > 1 else 0
        sparse = holes >= _WORTH_BYTES or (holes == 0 and _is_one_hole(entry))
        if sparse:
            stretches = _stretches(entry)
            index = _sparse_map(stretches, entry.stat.size)
            info.size = len(index) + sum(length for _, length in stretches)
            info.pax_headers = {
                **info.pax_headers,
                "GNU.sparse.major": "1",
                "GNU.sparse.minor": "0",
                "GNU.sparse.name": info.name,
                "GNU.sparse.realsize": str(entry.stat.size),
            }
            info.name = f"GNUSparseFile.0/{info.name}"
        self._write(_head(info) + index)
        for piece in content:
            if piece.data is not None:
                self._write(piece.data)
            elif not sparse:
                for zeros in _zeros(piece.length):
                    self._write(zeros)
        self._pad(tarfile.BLOCKSIZE)

    def _write(self, data: bytes) -> None:
        self._out.write(data)
        self._written += len(data)

    def _pad(self, to: int) -> None:
        self._write(bytes(-self._written % to))

    def close(self) -> None:
        self._write(bytes(2 * tarfile.BLOCKSIZE))
        self._pad(tarfile.RECORDSIZE)


def _head(info: tarfile.TarInfo) -> bytes:
    """The headers of a thing. Nearly all need further ones for the fraction of their time alone, and go the
    short way; a name that is long or not ASCII, and numbers that are large, are left to the library."""
    try:
        return _further(info.pax_headers) + plain_head(info)
    except ValueError:
        return info.tobuf(tarfile.PAX_FORMAT, "utf-8", "surrogateescape")


_PLAIN = struct.Struct("100s8s8s8s12s12s8sc100s8s32s32s16x155x12x")
"""Name, mode, user, group, size, time, checksum, type, target, magic, names of user and group; no device and
no prefix (POSIX.1-2001, pax, “ustar Interchange Format”)."""


def plain_head(info: tarfile.TarInfo) -> bytes:
    """The header of a thing of which everything fits into it: byte for byte what the library makes, in a
    fraction of the time.

    Raises:
        ValueError: something does not fit, or is not ASCII.
    """
    name = info.name + "/" if info.isdir() else info.name
    texts = [one.encode("ascii") for one in (name, info.linkname, info.uname, info.gname)]
    numbers = info.uid, info.gid, info.size, info.mtime
    fits = all(len(text) <= most for text, most in zip(texts, (100, 100, 32, 32), strict=True))
    if not fits or min(numbers) < 0 or max(numbers[:2]) > 0o7777777 or max(numbers[2:]) > 0o77777777777:
        raise ValueError("it does not fit")
    fields = (
        b"%07o\0" % (info.mode & 0o7777),
        b"%07o\0" % info.uid,
        b"%07o\0" % info.gid,
        b"%011o\0" % info.size,
        b"%011o\0" % int(info.mtime),
    )
    last = info.type, texts[1], b"ustar\x0000", texts[2], texts[3]
    checksum = sum(_PLAIN.pack(texts[0], *fields, b" " * 8, *last))
    return _PLAIN.pack(texts[0], *fields, b"%06o\0 " % checksum, *last)


def _further(headers: Mapping[str, str]) -> bytes:
    """Further headers as a block of their own (POSIX.1-2001, pax, “Extended Header”).

    Raises:
        ValueError: a value is not ASCII.
    """
    records = b"".join(_record(key.encode("ascii"), value.encode("ascii")) for key, value in headers.items())
    return _further_head(len(records)) + records + bytes(-len(records) % tarfile.BLOCKSIZE)


def _record(key: bytes, value: bytes) -> bytes:
    """``LENGTH KEY=VALUE``, where the length counts itself."""
    rest = b" " + key + b"=" + value + b"\n"
    length = len(rest) + 1
    while len(rest) + len(str(length)) != length:
        length = len(rest) + len(str(length))
    return str(length).encode() + rest


@functools.lru_cache(512)
def _further_head(size: int) -> bytes:
    info = tarfile.TarInfo("././@PaxHeader")
    info.type, info.size = tarfile.XHDTYPE, size
    return info.tobuf(tarfile.USTAR_FORMAT)


def _is_one_hole(entry: Entry) -> bool:
    return len(entry.extents) == 1 and entry.extents[0].chunk is None and entry.stat.size >= _WORTH_BYTES


def _stretches(entry: Entry) -> list[tuple[int, int]]:
    """Where a file has data: offsets and lengths, what touches each other as one."""
    found: list[tuple[int, int]] = []
    at = 0
    for extent in entry.extents:
        if extent.chunk is not None:
            if found and sum(found[-1]) == at:
                found[-1] = found[-1][0], found[-1][1] + extent.length
            else:
                found.append((at, extent.length))
        at += extent.length
    return found


def _sparse_map(stretches: list[tuple[int, int]], size: int) -> bytes:
    """The map before the data: how many stretches, then offset and length of each, a number a line, to the
    end of a block (tar(1), GNU, “Storing Sparse Files”, PAX format 1.0). A hole at the end is an empty
    stretch there."""
    ends = sum(stretches[-1]) if stretches else 0
    listed = stretches if ends == size else [*stretches, (size, 0)]
    numbers = [len(listed), *(number for one in listed for number in one)]
    text = "".join(f"{number}\n" for number in numbers).encode()
    return text + bytes(-len(text) % tarfile.BLOCKSIZE)


class Zip:
    """A ZIP archive, with times to the second and permissions."""

    def __init__(self, out: IO[bytes]) -> None:
        self._zip = zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, strict_timestamps=False)

    def add(self, name: str, entry: Entry, snapshot: Snapshot, content: Iterator[Piece] | None) -> None:
        seconds = entry.stat.modified // SECOND
        when = time.localtime(seconds)[:6]
        folder = entry.kind is Kind.FOLDER
        shown = name.encode("utf-8", "replace").decode() + ("/" if folder else "")
        info = zipfile.ZipInfo(shown, when if when[0] >= _ZIP_BEGINS else (_ZIP_BEGINS, 1, 1, 0, 0, 0))
        kind = {Kind.FOLDER: stat.S_IFDIR, Kind.LINK: stat.S_IFLNK}.get(entry.kind, stat.S_IFREG)
        info.external_attr = (kind | entry.stat.mode) << 16 | (0x10 if folder else 0)
        info.compress_type = zipfile.ZIP_DEFLATED
        if abs(seconds) < 1 << 31:
            info.extra = struct.pack("<HHBl", TIMES_FIELD, 5, 1, seconds)
        if content is None:
            self._zip.writestr(info, entry.extra.target if entry.kind is Kind.LINK else b"")
            return
        info.file_size = entry.stat.size
        with self._zip.open(info, "w", force_zip64=entry.stat.size >= 1 << 31) as inside:
            for piece in content:
                for data in _zeros(piece.length) if piece.data is None else (piece.data,):
                    inside.write(data)

    def close(self) -> None:
        self._zip.close()


def _zeros(length: int) -> Iterator[bytes]:
    while length:
        yield bytes(min(length, _PIECE))
        length -= min(length, _PIECE)


class Maker(Protocol):
    """Makes what writes an archive."""

    def __call__(self, out: IO[bytes]) -> Writer: ...


Squeeze = Callable[[IO[bytes]], contextlib.AbstractContextManager[IO[bytes]]]
"""Compresses an archive as a whole."""


def _zstd(out: IO[bytes]) -> contextlib.AbstractContextManager[IO[bytes]]:
    return cast(
        contextlib.AbstractContextManager[IO[bytes]],
        zstandard.ZstdCompressor(threads=-1).stream_writer(out, closefd=False),
    )


def _gzip(out: IO[bytes]) -> contextlib.AbstractContextManager[IO[bytes]]:
    return cast(
        contextlib.AbstractContextManager[IO[bytes]], gzip.GzipFile("", "wb", _GZIP_LEVEL, out, mtime=0)
    )


def form_of(name: str) -> tuple[Maker, Squeeze | None]:
    """What writes an archive of that name, and what compresses it as a whole.

    Raises:
        PersonError: its ending is none of an archive.
    """
    if name.endswith(".tar"):
        return Tar, None
    if name.endswith(".tar.zst"):
        return Tar, _zstd
    if name.endswith((".tar.gz", ".tgz")):
        return Tar, _gzip
    if name.endswith(".zip"):
        return Zip, None
    raise PersonError(
        tr("What kind of archive {name} is to be is not clear").format(name=name),
        tr("End it with .tar, .tar.gz, .tar.zst or .zip"),
    )
