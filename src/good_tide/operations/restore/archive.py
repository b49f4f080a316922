"""Bringing things back as an archive: tar (POSIX.1-2001, pax headers), with gzip or Zstandard, or ZIP.

A file is whole in it or not there: its content is read to the end before its header is written.
"""

from __future__ import annotations

import contextlib
import gzip
import hashlib
import io
import os
import stat
import struct
import tarfile
import tempfile
import time
import zipfile
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import IO, Protocol, cast

import msgspec
import zstandard

from good_tide.core.clock import SECOND
from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import DamageError, PersonError
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot
from good_tide.core.translation import tr
from good_tide.operations.history.browse import entry_at, parts_of_file, walk
from good_tide.operations.restore.plan import NO_GAPS, Wish
from good_tide.storage.place import disk_errors
from good_tide.storage.store import Store

STANDARD_OUTPUT = "-"
_IN_MEMORY = 32 << 20
_XATTR = "SCHILY.xattr."
"""So pax headers of extended attributes begin, by the star(5) manual."""
_TIMES = 0x5455
"""The extra field with a time to the second, of APPNOTE.TXT's third-party mappings (Info-ZIP)."""
_ZIP_BEGINS = 1980
_GZIP_LEVEL = 6


class ArchiveReport(msgspec.Struct):
    """What is in an archive, and what could not be put there, with why; ``size``: bytes of its files."""

    files: int = 0
    folders: int = 0
    links: int = 0
    problems: list[tuple[bytes, str]] = []
    size: int = 0


class _Writer(Protocol):
    def add(self, name: str, entry: Entry, snapshot: Snapshot, content: IO[bytes] | None) -> None:
        """Add one thing."""
        ...

    def close(self) -> None:
        """Write the archive to its end."""
        ...


class _Counted:
    """A stream that knows how much was written to it, as one that cannot be asked where it is."""

    def __init__(self, out: IO[bytes]) -> None:
        self._out, self._written = out, 0

    def write(self, data: bytes) -> int:
        """Write all of it."""
        self._out.write(data)
        self._written += len(data)
        return len(data)

    def tell(self) -> int:
        """Bytes written so far."""
        return self._written


class _Tar:
    """A tar archive; links of one file among each other are kept."""

    def __init__(self, out: IO[bytes]) -> None:
        counted = cast(IO[bytes], _Counted(out))
        self._tar = tarfile.TarFile(fileobj=counted, mode="w", format=tarfile.PAX_FORMAT)
        self._links: dict[tuple[str, int, int], str] = {}

    def add(self, name: str, entry: Entry, snapshot: Snapshot, content: IO[bytes] | None) -> None:
        info, mine, owners = tarfile.TarInfo(name), entry.stat, snapshot.record.owners
        info.mode, info.uid, info.gid = mine.mode, mine.uid, mine.gid
        info.uname, info.gname = owners.get(f"u{mine.uid}", ""), owners.get(f"g{mine.gid}", "")
        info.mtime = mine.modified // SECOND
        headers = {"mtime": f"{mine.modified // SECOND}.{mine.modified % SECOND:09d}"}
        for key, value in entry.extra.attributes:
            headers[_XATTR + os.fsdecode(key)] = value.decode("utf-8", "surrogateescape")
        info.pax_headers = headers
        group = entry.extra.link_group
        first = self._links.get((snapshot.id, *group)) if group is not None else None
        if entry.kind is Kind.FOLDER:
            info.type = tarfile.DIRTYPE
        elif entry.kind is Kind.LINK:
            info.type, info.linkname = tarfile.SYMTYPE, os.fsdecode(entry.extra.target)
        elif first is not None:
            info.type, info.linkname = tarfile.LNKTYPE, first
        else:
            info.size = mine.size
            if group is not None:
                self._links[(snapshot.id, *group)] = name
        self._tar.addfile(info, content if info.type == tarfile.REGTYPE else None)

    def close(self) -> None:
        self._tar.close()


class _Zip:
    """A ZIP archive, with times to the second and permissions."""

    def __init__(self, out: IO[bytes]) -> None:
        self._zip = zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, strict_timestamps=False)

    def add(self, name: str, entry: Entry, snapshot: Snapshot, content: IO[bytes] | None) -> None:
        seconds = entry.stat.modified // SECOND
        when = time.localtime(seconds)[:6]
        folder = entry.kind is Kind.FOLDER
        shown = name.encode("utf-8", "replace").decode() + ("/" if folder else "")
        info = zipfile.ZipInfo(shown, when if when[0] >= _ZIP_BEGINS else (_ZIP_BEGINS, 1, 1, 0, 0, 0))
        kind = {Kind.FOLDER: stat.S_IFDIR, Kind.LINK: stat.S_IFLNK}.get(entry.kind, stat.S_IFREG)
        info.external_attr = (kind | entry.stat.mode) << 16 | (0x10 if folder else 0)
        info.compress_type = zipfile.ZIP_DEFLATED
        if abs(seconds) < 1 << 31:
            info.extra = struct.pack("<HHBl", _TIMES, 5, 1, seconds)
        if content is None:
            self._zip.writestr(info, entry.extra.target if entry.kind is Kind.LINK else b"")
            return
        info.file_size = entry.stat.size
        with self._zip.open(info, "w", force_zip64=entry.stat.size >= 1 << 31) as inside:
            while piece := content.read(1 << 20):
                inside.write(piece)

    def close(self) -> None:
        self._zip.close()


def write_archive(
    store: Store,
    wishes: Sequence[Wish],
    target: str,
    standard_output: IO[bytes],
    control: Control,
    sums: Path | None = None,
) -> ArchiveReport:
    """Write some paths of snapshots, with all below them, into an archive. What is damaged is named, and the
    rest is there.

    :param target: a file whose ending says what it is, which is not there yet; ``-``: tar to
        ``standard_output``.
    :param sums: a file, which is not there yet, for the SHA-256 of each file in it, as ``sha256sum -c`` reads
        them where the archive was unpacked.

    Raises:
        PersonError: a file is there, its ending is none of these, or a path is in none of the snapshots.
        PlaceError: it cannot be written; nothing is left of it. StoppedError: the person stopped it.
    """
    with contextlib.ExitStack() as files:
        noted = files.enter_context(_new_file(sums)) if sums is not None else None
        if target == STANDARD_OUTPUT:
            return _write(store, wishes, _Tar(standard_output), control, noted)
        path = Path(os.path.abspath(target))
        maker, squeeze = _maker(path.name)
        out = files.enter_context(_new_file(path))
        if squeeze is None:
            return _write(store, wishes, maker(out), control, noted)
        with squeeze(out) as squeezed:
            return _write(store, wishes, maker(squeezed), control, noted)


@contextlib.contextmanager
def _new_file(path: Path) -> Iterator[IO[bytes]]:
    """A file that has its name when it is whole, and does not replace another.

    Raises:
        PersonError: it is there. PlaceError: it cannot be written; nothing is left of it.
    """
    if os.path.lexists(path):
        raise PersonError(
            tr("{path} is there already").format(path=path), tr("Choose another name, or remove it first")
        )
    with (
        disk_errors(tr("Writing {path}").format(path=path)),
        tempfile.NamedTemporaryFile(dir=path.absolute().parent, prefix=".good-tide-", delete=False) as out,
    ):
        try:
            yield cast(IO[bytes], out)
            out.flush()
            os.fsync(out.fileno())
            os.link(out.name, path)
        finally:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(out.name)


class _Maker(Protocol):
    def __call__(self, out: IO[bytes]) -> _Writer: ...


_Squeeze = Callable[[IO[bytes]], contextlib.AbstractContextManager[IO[bytes]]]


def _zstd(out: IO[bytes]) -> contextlib.AbstractContextManager[IO[bytes]]:
    return cast(
        contextlib.AbstractContextManager[IO[bytes]],
        zstandard.ZstdCompressor(threads=-1).stream_writer(out, closefd=False),
    )


def _gzip(out: IO[bytes]) -> contextlib.AbstractContextManager[IO[bytes]]:
    return cast(
        contextlib.AbstractContextManager[IO[bytes]], gzip.GzipFile("", "wb", _GZIP_LEVEL, out, mtime=0)
    )


def _maker(name: str) -> tuple[_Maker, _Squeeze | None]:
    """What writes an archive of that name, and what compresses it as a whole."""
    if name.endswith(".tar"):
        return _Tar, None
    if name.endswith(".tar.zst"):
        return _Tar, _zstd
    if name.endswith((".tar.gz", ".tgz")):
        return _Tar, _gzip
    if name.endswith(".zip"):
        return _Zip, None
    raise PersonError(
        tr("What kind of archive {name} is to be is not clear").format(name=name),
        tr("End it with .tar, .tar.gz, .tar.zst or .zip"),
    )


def _sum_line(name: str, digest: str) -> bytes:
    """A line as ``sha256sum`` writes it (cksum(1), GNU): in a name with a backslash or an end of line these
    are escaped, and a backslash is in front."""
    escaped = name.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
    mark = "" if escaped == name else "\\"
    return os.fsencode(f"{mark}{digest}  {escaped}\n")


def _write(
    store: Store, wishes: Sequence[Wish], writer: _Writer, control: Control, sums: IO[bytes] | None = None
) -> ArchiveReport:
    report = ArchiveReport(problems=[])
    try:
        for wish in wishes:
            for path, entry in _everything(store, wish, report):
                control.checkpoint()
                control.report(Progress(tr("Writing"), report.files, 0, report.size, 0, os.fsdecode(path)))
                try:
                    _add(store, wish, path, entry, writer, report, sums)
                except DamageError as error:
                    report.problems.append((path, error.what))
    except BaseException:
        with contextlib.suppress(OSError, ValueError):
            writer.close()  # or it closes itself later, with nobody to tell
        raise
    writer.close()
    return report


def _everything(store: Store, wish: Wish, report: ArchiveReport) -> Iterator[tuple[bytes, Entry]]:
    entry = entry_at(store, wish.snapshot, wish.path)
    yield wish.path, entry
    unread: list[tuple[bytes, DamageError]] = []
    if entry.kind is Kind.FOLDER:
        yield from walk(store, entry, wish.path, unread)
    report.problems += [
        (path, tr("Its listing, or a part of it, is lost: {what}").format(what=error.what))
        for path, error in unread
    ]


def _add(
    store: Store,
    wish: Wish,
    path: bytes,
    entry: Entry,
    writer: _Writer,
    report: ArchiveReport,
    sums: IO[bytes] | None,
) -> None:
    name = os.fsdecode(path).lstrip("/")
    if entry.kind is Kind.LEFT_OUT:
        if entry.extra.reason not in NO_GAPS:
            report.problems.append(
                (
                    path,
                    tr("It was not in the snapshot ({detail})").format(
                        detail=entry.extra.detail or entry.extra.reason
                    ),
                )
            )
        return
    if entry.kind is not Kind.FILE:
        writer.add(name, entry, wish.snapshot, None)
        report.folders += entry.kind is Kind.FOLDER
        report.links += entry.kind is Kind.LINK
        return
    digest = hashlib.sha256()
    with tempfile.SpooledTemporaryFile(_IN_MEMORY) as content:
        for part in parts_of_file(store, entry):
            content.write(part)
            if sums is not None:
                digest.update(part)
        if content.tell() != entry.stat.size:
            raise DamageError(tr("The stored parts do not add up to the file"))
        content.seek(0, io.SEEK_SET)
        writer.add(name, entry, wish.snapshot, content)
    if sums is not None:
        sums.write(_sum_line(name, digest.hexdigest()))
    report.files += 1
    report.size += entry.stat.size
