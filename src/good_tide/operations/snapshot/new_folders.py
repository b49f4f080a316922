"""Folders of which the last snapshot has nothing: walked and read as a whole, and handed over in columns, so
that little is done for each file where they are taken in.

Each sub-folder comes before the folder that it is in. What is out of the ordinary (a large file, one with
several names, an open database, something that cannot be read or does not hold still) leaves its folder and
those above it to whoever asked; the folders inside come all the same.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator, Sequence
from itertools import chain, islice
from typing import Any, NamedTuple

import msgspec
import numpy as np

from good_tide.core.columns import encode_tables, signed
from good_tide.core.coverage import Coverage, FolderState
from good_tide.core.entries import DEEPEST, NOTHING_EXTRA, Extra, Kind
from good_tide.core.kinds import extended
from good_tide.core.listed import FILE, Listed, listed
from good_tide.core.pages import page_borders
from good_tide.core.rules import Rule
from good_tide.operations.coverage.selecting import Selector
from good_tide.operations.snapshot.sightings import look_of, packed_look, packed_stamps
from good_tide.operations.snapshot.small_files import UNTRUSTED_NS, are_small
from good_tide.source.databases import with_log
from good_tide.source.folders import Found, extra_of, open_folder, read_attributes, read_link, scan
from good_tide.source.sight import Row, digest_of, rows_of
from good_tide.source.small_files import read_small

_MOST_FILES = 4000
_MOST_BYTES = 8 * 1024 * 1024
"""A folder with more small files, or more bytes in them, is left to whoever asked."""
_BUNDLE_FILES = 1000
_BUNDLE_BYTES = 1024 * 1024
_FOLDER_COSTS = 4
"""What a folder costs, in files."""


class Terms(msgspec.Struct, array_like=True, frozen=True):
    """What is in, and how it is read.

    :param own: device and inode of folders that are never in, and ``own_devices``: those of this program's
        mounts.
    :param moment: of the snapshot, ns since 1970 UTC. The other parameters: as in ``CaptureRequest``.
    """

    digest_key: bytes
    own: list[tuple[int, int]]
    own_devices: list[int] = []
    rules: tuple[Rule, ...] = ()
    kinds: dict[str, tuple[str, ...]] = {}
    home: str = ""
    network: list[int] = []
    moment: int = 0

    def selector(self) -> Selector | None:
        """Decides what is in; None: everything."""
        if not self.rules:
            return None
        coverage = Coverage(self.rules, self.home, self.moment, extended(self.kinds))
        return Selector(coverage, frozenset(self.network))


class Wanted(msgspec.Struct, array_like=True, frozen=True):
    """Sub-folders of one folder that are to be walked.

    :param runs: name, and where the rules stand in it, of each; those of a run follow each other.
    :param depth: of these below the covered folder. :param device: that of the covered folder.
    """

    path: bytes
    depth: int
    device: int
    runs: list[list[tuple[bytes, FolderState | None]]]


class NewFolder(msgspec.Struct, array_like=True, tag=1):
    """A folder with all that is in it, but for the listings of its sub-folders.

    :param attributes: its extended attributes.
    :param pages: its listing; what its files lie in comes of the ``Contents`` before it.
    :param look: as ``sightings.packed_look``. :param stamps: as ``sightings.packed_stamps``.
    :param files: how many files are in it, of ``size`` bytes. :param entries: how many things are.
    """

    path: bytes
    attributes: tuple[tuple[bytes, bytes], ...]
    pages: list[Listed]
    look: bytes
    stamps: bytes
    files: int
    size: int
    entries: int


class LeftFolder(msgspec.Struct, array_like=True, tag=2):
    """A folder that is left to whoever asked.

    :param out: it is not: rules leave it out, and nothing in it is in.
    """

    path: bytes
    depth: int
    state: FolderState | None
    out: bool = False


class Contents(msgspec.Struct, array_like=True, tag=3):
    """What is in the files of the folders that come next, but for those without content, in order.

    :param pages: how many of the files are in each page of these folders.
    """

    digests: list[bytes]
    contents: list[bytes]
    pages: list[int]


class Bundle(msgspec.Struct, array_like=True):
    """Some folders, and user and group numbers that were not met before."""

    owners: list[tuple[int, int]]
    folders: list[NewFolder | LeftFolder | Contents]


class _ReadPage(NamedTuple):
    """A page of which all was read.

    :param digests: of its files. :param contents: of those that have content.
    """

    names: Sequence[bytes]
    kinds: bytes
    sizes: Sequence[int]
    digests: Sequence[bytes]
    contents: Sequence[bytes]
    extras: dict[int, Extra]

    @property
    def new_digests(self) -> Sequence[bytes]:
        """Of the files that have content."""
        if len(self.contents) == len(self.digests):
            return self.digests
        sizes = [size for kind, size in zip(self.kinds, self.sizes, strict=True) if kind == FILE]
        return [digest for digest, size in zip(self.digests, sizes, strict=True) if size]

    def listed(self, columns: Sequence[bytes]) -> Listed:
        """As ``listed``."""
        return listed(self.names, self.kinds, self.sizes, columns, self.digests, self.extras)


class _Read(NamedTuple):
    """A folder that was read, but for its pages, and these."""

    folder: NewFolder
    pages: list[_ReadPage]


class _Level:
    """A folder that is being walked."""

    __slots__ = (
        "attributes",
        "columns",
        "depth",
        "found",
        "gone",
        "handle",
        "inside",
        "look",
        "path",
        "plain",
        "state",
        "waiting",
    )

    def __init__(self, path: bytes, handle: int, depth: int, state: FolderState | None) -> None:
        self.path, self.handle, self.depth, self.state = path, handle, depth, state
        self.plain = True
        self.found: list[Found] = []
        self.columns = _NO_ROWS
        """Of all that was found, the columns of ``sight.Row``."""
        self.inside: dict[bytes, FolderState] = {}
        self.gone: set[bytes] = set()
        """Names of sub-folders that rules leave out after all."""
        self.attributes: tuple[tuple[bytes, bytes], ...] = ()
        self.look = b""
        self.waiting: Iterator[Found] = iter(())


class NewFolders:
    """Walks and reads.

    :param digest: of a small file's content.
    """

    def __init__(self, terms: Terms, digest: Callable[[bytes], bytes]) -> None:
        self._selector, self._own, self._digest = terms.selector(), set(terms.own), digest
        self._own_devices = set(terms.own_devices)
        self._owners: set[tuple[int, int]] = set()
        self._new_owners: list[tuple[int, int]] = []
        self._columns: list[list[int]] = [[], [], [], [], []]
        """Of all pages of the bundle that is being made, one after the other."""

    def bundles(self, wanted: Wanted, handle: int) -> Iterator[Bundle]:
        """All below the wanted sub-folders of an open folder, and themselves. None has folders of two runs:
        others come between those."""
        folders: list[_Read | LeftFolder] = []
        for run in wanted.runs:
            files = size = 0
            for one in self._walk(wanted, run, handle):
                folders.append(one)
                if isinstance(one, _Read):
                    files += one.folder.files
                    size += one.folder.size
                if files + _FOLDER_COSTS * len(folders) >= _BUNDLE_FILES or size >= _BUNDLE_BYTES:
                    yield self._bundle(folders)
                    folders, files, size = [], 0, 0
            if folders:
                yield self._bundle(folders)
                folders = []

    def _bundle(self, folders: Sequence[_Read | LeftFolder]) -> Bundle:
        counts = [len(page.names) for one in folders if isinstance(one, _Read) for page in one.pages]
        table = np.stack([signed(column) for column in self._columns])
        table[0] &= 0o7777
        columns = iter(encode_tables(table, counts))
        found: list[NewFolder | LeftFolder | Contents] = []
        contents: Contents | None = None
        for one in folders:
            if isinstance(one, LeftFolder):
                found.append(one)
                contents = None  # what whoever asked reads in it comes between
                continue
            if contents is None:
                contents = Contents([], [], [])
                found.append(contents)
            for page in one.pages:
                contents.pages.append(len(page.contents))
                contents.contents += page.contents
                contents.digests += page.new_digests
                one.folder.pages.append(page.listed(next(columns)))
            found.append(one.folder)
        for column in self._columns:
            column.clear()
        owners, self._new_owners = self._new_owners, []
        return Bundle(owners, found)

    def _walk(
        self, wanted: Wanted, run: Sequence[tuple[bytes, FolderState | None]], handle: int
    ) -> Iterator[_Read | LeftFolder]:
        for name, state in run:
            top = _Level(wanted.path, handle, wanted.depth - 1, None)
            yield from self._below(top, name, state, wanted.device)

    def _below(
        self, top: _Level, name: bytes, state: FolderState | None, device: int
    ) -> Iterator[_Read | LeftFolder]:
        """A sub-folder, after all that are in it."""
        levels: list[_Level] = []
        try:
            first = self._enter(top, name, None, state, device)
            if first is None:
                yield LeftFolder(top.path + b"/" + name, top.depth + 1, state)
                return
            levels.append(first)
            while levels:
                level = levels[-1]
                item = next(level.waiting, None)
                if item is None:
                    levels.pop()
                    done = self._leave(level)
                    if levels and isinstance(done, LeftFolder):
                        above = levels[-1]
                        if done.out:
                            above.gone.add(done.path[len(above.path) + 1 :])
                        else:
                            above.plain = False
                    yield done
                    continue
                inside = level.inside.get(item.name)
                below = self._enter(level, item.name, item.info, inside, device)
                if below is not None:
                    levels.append(below)
                else:
                    level.plain = False
                    yield LeftFolder(level.path + b"/" + item.name, level.depth + 1, inside)
        finally:
            for level in levels:
                os.close(level.handle)

    def _enter(
        self, above: _Level, name: bytes, info: os.stat_result | None, state: FolderState | None, device: int
    ) -> _Level | None:
        """Look into a sub-folder; None where that is not possible or not wanted."""
        if above.depth + 1 > DEEPEST:
            return None
        try:
            handle = open_folder(name, above.handle)
        except OSError:
            return None
        level = _Level(above.path + b"/" + name, handle, above.depth + 1, state)
        try:
            seen = info or os.fstat(handle)
            if (seen.st_dev, seen.st_ino) in self._own or seen.st_dev in self._own_devices:
                raise OSError
            self._note_owners({(seen.st_uid, seen.st_gid)})
            level.attributes = read_attributes(handle)
            found, missed = scan(handle)
            rows = rows_of(found)
            seen_now = digest_of(rows) if not missed else b""
            turn = 0
            if self._selector is not None and state is not None:
                turn = self._selector.coverage.turn(item.info.st_mtime_ns for item in found)
                kept, missed, level.inside = self._selector.keep(found, missed, handle, state, device)
                if len(kept) < len(found):
                    found, rows = kept, rows_of(kept)
        except OSError:
            os.close(handle)
            return None
        level.found, level.columns = found, _columns_of(rows)
        level.look = packed_look(look_of(seen_now, found, turn)) if seen_now else b""
        level.plain = not missed
        level.waiting = iter([item for item in found if item.kind is Kind.FOLDER])
        return level

    def _leave(self, level: _Level) -> _Read | LeftFolder:
        """What came of a folder, when all in it is done."""
        try:
            if level.gone:
                level.found = [item for item in level.found if item.name not in level.gone]
                level.columns = _columns_of(rows_of(level.found))
            state = level.state
            if state is not None and state.out and not level.found and level.plain:
                return LeftFolder(level.path, level.depth, state, out=True)
            read = self._read(level, level.found) if level.plain and not with_log(level.found) else None
            return read if read is not None else LeftFolder(level.path, level.depth, state)
        finally:
            os.close(level.handle)

    def _read(self, level: _Level, found: Sequence[Found]) -> _Read | None:
        """Read the files and links of a folder. None: something is out of the ordinary."""
        letters = [kind for _, _, kind, _ in found]
        all_files = letters.count(Kind.FILE) == len(found)
        files = found if all_files else [item for item in found if item.kind is Kind.FILE]
        names, modes, users, groups, sizes, modified, changed, inodes = level.columns
        size = sum(sizes) if all_files else sum([item.info.st_size for item in files])
        if len(files) > _MOST_FILES or size > _MOST_BYTES or not are_small(files):
            return None
        begun = time.time_ns() - UNTRUSTED_NS
        expected = list(zip([text for _, text, _, _ in found], sizes, modified, changed, inodes))
        if not all_files:
            expected = [one for one, kind in zip(expected, letters) if kind is Kind.FILE]
        taken = read_small(level.handle, expected, self._digest)
        extras = {} if all_files and not taken.attributes else self._extras(level, found, taken.attributes)
        contents = [content for content in taken.contents if content is not None]
        if len(contents) < len(files) or extras is None:
            return None
        stamps = list(chain.from_iterable(zip(changed, inodes)))
        look = level.look
        if changed and max(changed) >= begun:
            for at, item in enumerate(found):
                if item.kind is Kind.FILE and item.info.st_ctime_ns >= begun:
                    stamps[2 * at], look = 0, b""
        self._note_owners(set(zip(users, groups)))
        for column, own in zip(self._columns, (modes, users, groups, sizes, modified)):
            column += own
        pages: list[_ReadPage] = []
        digests, contents_left = iter(taken.digests), iter(contents)
        for begin, end in page_borders(names):
            kinds = "".join([letter or "x" for letter in letters[begin:end]]).encode("ascii")
            own_extras = (
                {at - begin: extra for at, extra in extras.items() if begin <= at < end} if extras else {}
            )
            here = kinds.count(b"f")
            own_contents = list(filter(None, islice(contents_left, here)))
            own_digests = list(islice(digests, here))
            pages.append(
                _ReadPage(names[begin:end], kinds, sizes[begin:end], own_digests, own_contents, own_extras)
            )
        told = packed_stamps(stamps)
        folder = NewFolder(level.path, level.attributes, [], look, told, len(files), size, len(found))
        return _Read(folder, pages)

    def _extras(
        self, level: _Level, found: Sequence[Found], attributes: dict[int, tuple[tuple[bytes, bytes], ...]]
    ) -> dict[int, Extra] | None:
        """What few of the entries have, by their numbers. None: one is nothing that a folder can hold, or a
        link cannot be read.

        :param attributes: of the files, by their numbers among themselves.
        """
        if not attributes and all(item.kind in _COMMON for item in found):
            return {}
        extras: dict[int, Extra] = {}
        number = 0
        for at, item in enumerate(found):
            if item.kind is Kind.FILE:
                if number in attributes:
                    extras[at] = Extra(attributes=attributes[number])
                number += 1
            elif item.kind is Kind.LINK:
                try:
                    target = read_link(item.text, level.handle)
                except OSError:
                    return None
                extras[at] = extra_of(item.info, target=target)
            elif item.kind is None:
                return None
        return {at: extra for at, extra in extras.items() if extra is not NOTHING_EXTRA}

    def _note_owners(self, pairs: set[tuple[int, int]]) -> None:
        if not pairs <= self._owners:
            self._new_owners += pairs - self._owners
            self._owners |= pairs


def _columns_of(rows: Sequence[Row]) -> tuple[Sequence[Any], ...]:
    return tuple(zip(*rows, strict=True)) if rows else _NO_ROWS


_COMMON = (Kind.FILE, Kind.FOLDER)
_NO_ROWS: tuple[Sequence[Any], ...] = ((),) * 8
