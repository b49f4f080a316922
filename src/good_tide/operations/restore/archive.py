"""Handing things out as an archive (``archive_forms``).

A file of some MiB is whole in it or not there: its content is read before its header is written. A larger one
is written as it is read; where a part of it is lost zeros stand, and it is named.
"""

from __future__ import annotations

import contextlib
import hashlib
import operator
import os
import tempfile
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import IO, NamedTuple, cast

import msgspec

from good_tide.core.entries import Entry, ExtentLike, Kind
from good_tide.core.errors import DamageError, PersonError
from good_tide.core.identifiers import ChunkId
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot
from good_tide.core.translation import tr
from good_tide.core.words import number_words
from good_tide.operations.history.browse import entry_at, walk
from good_tide.operations.restore.archive_forms import Piece, Tar, Writer, form_of
from good_tide.operations.restore.plan import NO_GAPS, Wish
from good_tide.operations.restore.read_ahead import ReadAhead
from good_tide.storage.place import disk_errors
from good_tide.storage.store import Store

STANDARD_OUTPUT = "-"
_IN_MEMORY = 32 << 20
_REPORT_EVERY, _REPORT_BYTES = 32, 1 << 20
"""How far it is is said after so many things, and before a file of more bytes."""


class ArchiveReport(msgspec.Struct):
    """What is in an archive, and what could not be put there, with why; ``size``: bytes of its files."""

    files: int = 0
    folders: int = 0
    links: int = 0
    problems: list[tuple[bytes, str]] = []
    size: int = 0


class Item(NamedTuple):
    """One thing that goes into an archive, and the name it has there."""

    snapshot: Snapshot
    path: bytes
    name: bytes
    entry: Entry


class Totals(NamedTuple):
    """How much goes into an archive; zeros while that is not known."""

    files: int = 0
    size: int = 0


def check_target(target: str, sums: Path | None) -> None:
    """Refuse a name that says no kind of archive, or that is taken.

    Raises:
        PersonError: it is one.
    """
    form_of(os.path.basename(target))
    for path in (Path(target), *([sums] if sums is not None else [])):
        if os.path.lexists(path):
            raise _taken(path)


def _taken(path: Path) -> PersonError:
    return PersonError(
        tr("{path} is there already").format(path=path), tr("Choose another name, or remove it first")
    )


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
    report = ArchiveReport(problems=[])
    tops = _tops(store, wishes)
    with contextlib.ExitStack() as files:
        writer = _writer(files, target, standard_output)
        noted = files.enter_context(new_file(sums)) if sums is not None else None
        control.report(Progress(tr("Looking")))
        packing = Packing(store, writer, report, noted, _totals(store, tops, control))
        packing.write((one for wish, entry in tops for one in _below(store, wish, entry, report)), control)
    return report


def write_items(
    store: Store,
    items: Iterable[Item],
    target: str,
    standard_output: IO[bytes],
    control: Control,
    sums: Path | None = None,
) -> ArchiveReport:
    """The same for single things, those above before those in them."""
    report = ArchiveReport(problems=[])
    with contextlib.ExitStack() as files:
        writer = _writer(files, target, standard_output)
        noted = files.enter_context(new_file(sums)) if sums is not None else None
        Packing(store, writer, report, noted).write(iter(items), control)
    return report


def _writer(files: contextlib.ExitStack, target: str, standard_output: IO[bytes]) -> Writer:
    if target == STANDARD_OUTPUT:
        return Tar(standard_output)
    path = Path(os.path.abspath(target))
    maker, squeeze = form_of(path.name)
    out = files.enter_context(new_file(path))
    return maker(out if squeeze is None else files.enter_context(squeeze(out)))


@contextlib.contextmanager
def new_file(path: Path) -> Iterator[IO[bytes]]:
    """A file that has its name when it is whole, and does not replace another.

    Raises:
        PersonError: it is there. PlaceError: it cannot be written; nothing is left of it.
    """
    if os.path.lexists(path):
        raise _taken(path)
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


def _tops(store: Store, wishes: Sequence[Wish]) -> list[tuple[Wish, Entry]]:
    return [(wish, entry_at(store, wish.snapshot, wish.path)) for wish in wishes]


def totals(store: Store, wishes: Sequence[Wish], control: Control) -> Totals:
    """How much some things are.

    Raises:
        PersonError: a path is not in its snapshot.
    """
    return _totals(store, _tops(store, wishes), control)


def _totals(store: Store, tops: Sequence[tuple[Wish, Entry]], control: Control) -> Totals:
    """How much it is: from the record of a snapshot of which all is wanted, or by looking through its
    listings, which takes a fraction of what reading the content takes."""
    first = tops[0][0].snapshot if tops else None
    if first is not None and all(wish.snapshot.id == first.id for wish, _ in tops):
        roots = {root.name for root in store.roots(first.record)}
        if {wish.path for wish, _ in tops} == roots:
            return Totals(first.tally.files, first.tally.bytes)
    files = size = 0
    for wish, top in tops:
        below = walk(store, top, wish.path, []) if top.kind is Kind.FOLDER else iter(((wish.path, top),))
        for number, (_, entry) in enumerate(below):
            if entry.kind is Kind.FILE:
                files, size = files + 1, size + entry.stat.size
            if not number % 1000:
                control.checkpoint()
    return Totals(files, size)


def _below(store: Store, wish: Wish, entry: Entry, report: ArchiveReport) -> Iterator[Item]:
    yield Item(wish.snapshot, wish.path, wish.path, entry)
    unread: list[tuple[bytes, DamageError]] = []
    if entry.kind is Kind.FOLDER:
        for path, inside in walk(store, entry, wish.path, unread):
            yield Item(wish.snapshot, path, path, inside)
    report.problems += [
        (path, tr("Its listing, or a part of it, is lost: {what}").format(what=error.what))
        for path, error in unread
    ]


class Packing:
    """Puts things into an archive; what comes next is read from the store meanwhile."""

    def __init__(
        self,
        store: Store,
        writer: Writer,
        report: ArchiveReport,
        sums: IO[bytes] | None,
        totals: Totals = Totals(),  # noqa: B008  # a value that does not change
    ) -> None:
        self._store, self._writer, self._report = store, writer, report
        self._sums, self._totals = sums, totals
        self._waiting: deque[Item] = deque()
        """Things whose content is being read ahead, in their order."""
        self._broken: DamageError | None = None
        """Why there are no further things; it is no fault of the one that is being read just then."""

    def write(self, items: Iterator[Item], control: Control) -> None:
        """Write all of them, and the archive to its end."""
        report, number = self._report, 0
        try:
            with ReadAhead(self._store, self._coming(items)) as ahead:
                while (item := self._waiting.popleft() if self._waiting else next(items, None)) is not None:
                    number += 1
                    if not number % _REPORT_EVERY or item.entry.stat.size > _REPORT_BYTES:
                        control.checkpoint()
                        control.report(self._progress(item))
                    try:
                        self._add(item, ahead)
                    except DamageError as error:
                        report.problems.append((item.path, error.what))
            if self._broken is not None:
                raise self._broken
        except BaseException:
            with contextlib.suppress(OSError, ValueError):
                self._writer.close()  # or it closes itself later, with nobody to tell
            raise
        self._writer.close()

    def _progress(self, item: Item) -> Progress:
        report, totals = self._report, self._totals
        current = os.fsdecode(item.path)
        return Progress(tr("Writing"), report.files, totals.files, report.size, totals.size, current)

    def _coming(self, items: Iterator[Item]) -> Iterator[ChunkId]:
        """The chunks that will be needed, in their order; the things that need them wait."""
        while (item := self._next(items)) is not None:
            self._waiting.append(item)
            if item.entry.kind is Kind.FILE:
                yield from (one.chunk for one in item.entry.extents if one.chunk is not None)

    def _next(self, items: Iterator[Item]) -> Item | None:
        try:
            return next(items, None)
        except DamageError as error:
            self._broken = error
            return None

    def _add(self, item: Item, ahead: ReadAhead) -> None:
        entry, report = item.entry, self._report
        name = os.fsdecode(item.name).lstrip("/")
        if entry.kind is Kind.LEFT_OUT:
            if entry.extra.reason not in NO_GAPS:
                detail = entry.extra.detail or entry.extra.reason
                why = tr("It was not in the snapshot ({detail})").format(detail=detail)
                report.problems.append((item.path, why))
        elif entry.kind is not Kind.FILE:
            self._writer.add(name, entry, item.snapshot, None)
            report.folders += entry.kind is Kind.FOLDER
            report.links += entry.kind is Kind.LINK
        else:
            self._add_file(item, name, ahead)

    def _add_file(self, item: Item, name: str, ahead: ReadAhead) -> None:
        entry = item.entry
        if sum(map(_length, entry.extents)) != entry.stat.size:
            raise DamageError(tr("The stored parts do not add up to the file"))
        if entry.stat.size <= _IN_MEMORY:
            pieces = iter([_piece(ahead, extent) for extent in entry.extents])
        else:
            pieces = self._with_zeros(item, ahead)
        digest = hashlib.sha256()
        if self._sums is not None:
            pieces = _summed(pieces, digest)
        self._writer.add(name, entry, item.snapshot, pieces)
        for _ in pieces:  # of a further link of a file nothing was written
            pass
        if self._sums is not None:
            self._sums.write(sum_line(name, digest.hexdigest()))
        self._report.files += 1
        self._report.size += entry.stat.size

    def _with_zeros(self, item: Item, ahead: ReadAhead) -> Iterator[Piece]:
        """The content of a large file; zeros where it is lost, which is said once."""
        at, told = 0, False
        for extent in item.entry.extents:
            try:
                piece = _piece(ahead, extent)
            except DamageError as error:
                piece = Piece(bytes(extent.length), extent.length)
                if not told:
                    why = tr(
                        "A part of it is lost, from byte {at} on; zeros stand in its place: {what}"
                    ).format(at=number_words(at), what=error.what)
                    self._report.problems.append((item.path, why))
                told = True
            yield piece
            at += extent.length


_length = operator.attrgetter("length")


def _piece(ahead: ReadAhead, extent: ExtentLike) -> Piece:
    """One stretch of a file's content.

    Raises:
        DamageError: it is lost.
    """
    if extent.chunk is None:
        return Piece(None, extent.length)
    data = ahead.get(extent.chunk)[extent.offset : extent.offset + extent.length]
    if len(data) != extent.length:
        raise DamageError(tr("The stored parts do not add up to the file"))
    return Piece(data, extent.length)


def _summed(pieces: Iterator[Piece], digest: hashlib._Hash) -> Iterator[Piece]:
    for piece in pieces:
        if piece.data is not None:
            digest.update(piece.data)
        else:
            left = piece.length
            while left:
                digest.update(bytes(min(left, 1 << 20)))
                left -= min(left, 1 << 20)
        yield piece


def sum_line(name: str, digest: str) -> bytes:
    """A line as ``sha256sum`` writes it (cksum(1), GNU): in a name with a backslash or an end of line these
    are escaped, and a backslash is in front."""
    escaped = name.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
    mark = "" if escaped == name else "\\"
    return os.fsencode(f"{mark}{digest}  {escaped}\n")
