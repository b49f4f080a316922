"""What is in an archive, one thing after the other as it lies there: tar, plain or compressed, and ZIP.

An archive of somebody else's making is believed nothing: no name leads out of it, nothing of it is unpacked
anywhere, and what is damaged in it is named.
"""

from __future__ import annotations

import bz2
import contextlib
import grp
import gzip
import lzma
import math
import os
import pwd
import stat
import struct
import tarfile
import tempfile
import time
import zipfile
import zlib
from collections.abc import Callable, Iterator, Mapping
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import IO, NamedTuple, Self, cast

import zstandard

from good_tide.core.acl_text import mode_with, value_of
from good_tide.core.clock import SECOND
from good_tide.core.entries import NO_STAT, NOTHING_EXTRA, Extra, Kind, Reason, Stat
from good_tide.core.errors import PersonError
from good_tide.core.translation import tr
from good_tide.operations.restore.archive_forms import ACL_HEADERS, TIMES_FIELD, XATTR_HEADER
from good_tide.source.folders import ACLS

ENDINGS = (".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz", ".tar.zst", ".tzst", ".zip")
"""What the names of archives end with."""
_ACCESS = b"system.posix_acl_access"
_UNPACKERS: dict[bytes, Callable[[IO[bytes]], IO[bytes]]] = {
    b"\x1f\x8b": lambda file: cast(IO[bytes], gzip.GzipFile(fileobj=file)),
    b"BZh": lambda file: cast(IO[bytes], bz2.BZ2File(file)),
    b"\xfd7zXZ\0": lambda file: cast(IO[bytes], lzma.LZMAFile(file)),  # noqa: SIM115  # its user closes it
    b"\x28\xb5\x2f\xfd": lambda file: cast(
        IO[bytes], zstandard.ZstdDecompressor().stream_reader(file, read_across_frames=True)
    ),
}
"""What reads a compressed file, by what that begins with (RFC 1952, 2.3.1; bzip2; the .xz file format,
2.1.1.1; RFC 8878, 3.1.1). All of them check the sums that are in it."""
_LONGEST_MAGIC = 6
_PIECE = 1 << 20
_BROKEN = (
    tarfile.TarError,
    zipfile.BadZipFile,
    zlib.error,
    lzma.LZMAError,
    zstandard.ZstdError,
    EOFError,
    NotImplementedError,
    struct.error,
    ValueError,
)
"""What the libraries raise over an archive that is damaged, or of a kind that they do not know."""


class Member(NamedTuple):
    """One thing in an archive.

    :param path: within it, without a slash at its beginning or end; empty: the folder that everything is in.
    :param owners: names of its user and group, empty where they are not said.
    :param link_to: the path of the file of which this is a further name; None: of none.
    :param content: of a file: to be read before the next member is asked for. None: it is no file, or has
        none of its own.
    """

    path: bytes
    kind: Kind
    stat: Stat = NO_STAT
    extra: Extra = NOTHING_EXTRA
    owners: tuple[str, str] = ("", "")
    link_to: bytes | None = None
    content: Content | None = None


class Content(NamedTuple):
    """The bytes of a file in an archive: as many as ``size``, read one after the other; ``stretches``: where
    it has data, begin and length of each, if it has holes. ``archive`` is named when it is damaged."""

    archive: Path
    file: IO[bytes]
    size: int
    stretches: tuple[tuple[int, int], ...] | None = None

    def spooled(self, into: IO[bytes]) -> int:
        """Write it into a file, in place of what is there; the file's handle.

        Raises:
            PersonError: the archive is damaged. OSError: the file's disk takes no more.
        """
        into.seek(0)
        into.truncate(0)
        at = 0
        for begin, length in ((0, self.size),) if self.stretches is None else self.stretches:
            while at < begin:  # zeros that are in no archive
                at += len(self._read(begin - at))
            into.seek(begin)
            while at < begin + length:
                piece = self._read(begin + length - at)
                into.write(piece)
                at += len(piece)
        if self.stretches is None:
            self._check_end()
        into.truncate(self.size)
        into.seek(0)
        return into.fileno()

    def _check_end(self) -> None:
        """To its end, where what the archive says of its content is checked."""
        with damage_told(self.archive):
            if self.file.read(1):
                raise EOFError(tr("a file is longer than it says"))

    def _read(self, most: int) -> bytes:
        with damage_told(self.archive):
            piece = self.file.read(min(most, _PIECE))
            if not piece:
                raise EOFError(tr("it ends too early"))
            return piece


def is_archive(path: Path) -> bool:
    """Whether a name says that it is an archive of a kind that can be read."""
    return path.name.lower().endswith(ENDINGS)


@contextlib.contextmanager
def damage_told(path: Path) -> Iterator[None]:
    """What libraries raise over a damaged archive becomes an error that says so.

    Raises:
        PersonError: it is damaged, or of an unknown kind.
    """
    try:
        yield
    except _BROKEN as error:
        raise _damaged(path, error) from None
    except OSError as error:  # two of the libraries say it so, and the system never without a number
        if error.errno is not None:
            raise
        raise _damaged(path, error) from None


def _damaged(path: Path, error: Exception) -> PersonError:
    return PersonError(
        tr("The archive {path} is damaged, or of a kind that is not known ({error})").format(
            path=path, error=str(error) or type(error).__name__
        ),
        tr("Nothing of it was taken in. Look for another copy of it, or unpack what can be unpacked"),
    )


def members_of(path: Path) -> Iterator[Member]:
    """Everything in an archive, in the order in which it lies there.

    Raises:
        PersonError: it cannot be opened, is damaged, or of a kind that is not known.
    """
    try:
        with damage_told(path), open(path, "rb") as file:
            yield from (
                _zip_members(path, file) if path.name.lower().endswith(".zip") else _tar_members(path, file)
            )
    except OSError as error:
        raise PersonError(
            tr("{path} cannot be read: {error}").format(path=path, error=error.strerror or error),
            tr("Check who may read it, and whether its disk is connected"),
        ) from None


class _Strict(tarfile.TarInfo):
    """A thing in a tar archive. Where a header is damaged or missing, the library takes that for the end of
    the archive; here only the end that was written is one."""

    @classmethod
    def fromtarfile(cls, archive: tarfile.TarFile) -> Self:
        try:
            return super().fromtarfile(archive)
        except tarfile.HeaderError as error:
            if type(error).__name__ == "EOFHeaderError":  # two blocks of zeros
                raise
            raise tarfile.ReadError(str(error)) from None


def _tar_members(path: Path, file: IO[bytes]) -> Iterator[Member]:
    begin = file.read(_LONGEST_MAGIC)
    file.seek(0)
    unpacker = next((unpack for magic, unpack in _UNPACKERS.items() if begin.startswith(magic)), None)
    with contextlib.ExitStack() as opened:
        if unpacker is not None:
            file = opened.enter_context(contextlib.closing(unpacker(file)))
        archive = tarfile.TarFile.open(
            fileobj=file, mode="r|", tarinfo=_Strict, encoding="utf-8", errors="surrogateescape"
        )
        opened.enter_context(contextlib.closing(archive))
        kept: list[tarfile.TarInfo] = archive.members  # type: ignore[attr-defined]
        while (info := archive.next()) is not None:
            kept.clear()
            member = _tar_member(path, archive, info)
            if member is not None:
                yield member
        while file.read(_PIECE):  # to the sum at the end of what was compressed
            pass


def _tar_member(of: Path, archive: tarfile.TarFile, info: tarfile.TarInfo) -> Member | None:
    path = inside(os.fsencode(info.name))
    if path is None:
        return None
    headers = info.pax_headers
    size = info.size if info.isreg() else 0
    user, group = _number(info.uid, os.getuid()), _number(info.gid, os.getgid())
    owners = info.uname, info.gname
    attributes = tuple(sorted(_attributes(headers)))
    mode = mode_with(info.mode & 0o7777, dict(attributes).get(_ACCESS))
    known = Stat(mode, user, group, size, _modified(headers, info.mtime))
    extra = Extra(attributes=attributes) if attributes else NOTHING_EXTRA
    if info.isdir():
        return Member(path, Kind.FOLDER, known, extra, owners)
    if info.issym():
        return _link(path, known, os.fsencode(info.linkname), owners)
    if info.islnk():
        first = inside(os.fsencode(info.linkname))
        return Member(path, Kind.FILE, known, extra, owners, link_to=first or b"")
    if not info.isreg():
        return Member(path, Kind.LEFT_OUT, extra=Extra(reason=Reason.SPECIAL.value))
    holes: list[tuple[int, int]] | None = info.sparse  # type: ignore[assignment]
    stretches = tuple(holes) if holes is not None else None
    file = archive.extractfile(info)
    assert file is not None
    return Member(path, Kind.FILE, known, extra, owners, content=Content(of, file, info.size, stretches))


def _number(said: int, otherwise: int) -> int:
    """The number of a user or group, where it is one."""
    return said if 0 <= said < (1 << 32) - 1 else otherwise


def _link(path: bytes, known: Stat, target: bytes, owners: tuple[str, str] = ("", "")) -> Member:
    """A symbolic link, if it can be one."""
    if not target or b"\0" in target:
        nowhere = tr("a link that leads nowhere")
        return Member(path, Kind.LEFT_OUT, extra=Extra(reason=Reason.UNREADABLE.value, detail=nowhere))
    return Member(path, Kind.LINK, known, Extra(target=target), owners)


def _attributes(headers: Mapping[str, str]) -> Iterator[tuple[bytes, bytes]]:
    for key, value in headers.items():
        name = key.removeprefix(XATTR_HEADER)
        if name != key and "\0" not in name and (name.startswith("user.") or name in ACLS):
            yield os.fsencode(name), value.encode("utf-8", "surrogateescape")
    for name, header in ACL_HEADERS.items():
        if header in headers and XATTR_HEADER + name not in headers:
            listed = value_of(headers[header], _number_of)
            if listed is not None:
                yield os.fsencode(name), listed


def _number_of(kind: str, name: str) -> int | None:
    """The number that somebody has on this machine."""
    with contextlib.suppress(KeyError, ValueError):
        return pwd.getpwnam(name).pw_uid if kind == "user" else grp.getgrnam(name).gr_gid
    return None


def _modified(headers: Mapping[str, str], otherwise: float) -> int:
    """To the nanosecond, where it is said: the library keeps a floating-point number."""
    try:
        found = int(Decimal(headers["mtime"]) * SECOND)
    except (KeyError, InvalidOperation, ValueError, OverflowError):
        found = int(otherwise) * SECOND if math.isfinite(otherwise) else 0
    return found if abs(found) < 1 << 62 else 0


def inside(name: bytes) -> bytes | None:
    """A name within an archive, without slashes and dots around it; None: it leads out of it, or is none."""
    parts = [part for part in name.split(b"/") if part not in (b"", b".")]
    return None if b".." in parts or b"\0" in name else b"/".join(parts)


def below(path: bytes, top: bytes) -> bytes | None:
    """A path within a folder of the archive; None: it is not in there."""
    if not top or path == top:
        return path if not top else b""
    return path[len(top) + 1 :] if path.startswith(top + b"/") else None


def _zip_members(of: Path, file: IO[bytes]) -> Iterator[Member]:
    with zipfile.ZipFile(file) as archive:
        for info in archive.infolist():
            path = inside(
                os.fsencode(info.filename.replace("\\", "/") if info.create_system == 0 else info.filename)
            )
            if path is None:
                continue
            mode = info.external_attr >> 16
            kind = stat.S_IFMT(mode)
            folder = info.is_dir()
            known = Stat(
                stat.S_IMODE(mode) or (0o755 if folder else 0o644),
                os.getuid(),
                os.getgid(),
                0 if folder else info.file_size,
                _zip_modified(info),
            )
            if folder:
                yield Member(path, Kind.FOLDER, known)
            elif info.flag_bits & 1:
                locked = tr("it is encrypted in the archive")
                yield Member(path, Kind.LEFT_OUT, extra=Extra(reason=Reason.UNREADABLE.value, detail=locked))
            elif kind == stat.S_IFLNK:
                yield _link(path, known, archive.read(info))
            elif kind not in (0, stat.S_IFREG):
                yield Member(path, Kind.LEFT_OUT, extra=Extra(reason=Reason.SPECIAL.value))
            else:
                with archive.open(info) as content:
                    yield Member(path, Kind.FILE, known, content=Content(of, content, info.file_size))


def _zip_modified(info: zipfile.ZipInfo) -> int:
    """When it was changed, nanoseconds since 1970 UTC: by the extra field that has it, or else in the local
    time of this machine, which the form itself has."""
    at, extra = 0, info.extra
    while at + 4 <= len(extra):
        field, length = struct.unpack_from("<HH", extra, at)
        if field == TIMES_FIELD and length >= 5 and extra[at + 4] & 1:
            (seconds,) = struct.unpack_from("<l", extra, at + 5)
            return int(seconds) * SECOND
        at += 4 + length
    try:
        return int(time.mktime((*info.date_time, 0, 0, -1))) * SECOND
    except (ValueError, OverflowError):
        return 0


@contextlib.contextmanager
def spool(folder: Path) -> Iterator[IO[bytes]]:
    """A file without a name, in a folder, for the content of one file after the other."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    with tempfile.TemporaryFile(dir=folder) as file:
        yield file
