"""A folder as a snapshot has it. Whoever lists it is told by columns, without an object for each name; those
are made when somebody asks for one by its name."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator, Mapping
from functools import cached_property
from typing import NamedTuple

import numpy as np

from good_tide.core.entries import Entry, Kind, Stat
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import SnapshotId
from good_tide.core.pages import Page
from good_tide.core.translation import tr
from good_tide.storage.store import Store

FORMATS = {Kind.FILE: stat.S_IFREG, Kind.FOLDER: stat.S_IFDIR, Kind.LINK: stat.S_IFLNK}
BLOCK = 512
_FORMAT_OF = np.zeros(256, dtype=np.int64)
for _kind, _format in FORMATS.items():
    _FORMAT_OF[ord(_kind.value)] = _format


class Item(NamedTuple):
    """One name in the tree.

    :param below: gives what is in a folder, by name.
    :param content: of a file that is made here; None: it lies in the store.
    :param stored: gives the entry in the store, where ``entry`` does not say all.
    :param group: equal for the hard links of one file.
    """

    entry: Entry
    below: Callable[[], Mapping[bytes, Item]] | None = None
    content: bytes | None = None
    stored: Callable[[], Entry] | None = None
    group: tuple[object, ...] | None = None

    def whole(self) -> Entry:
        """The entry in the store.

        Raises:
            GoodTideError: it cannot be read.
        """
        return self.stored() if self.stored is not None else self.entry


class Row(NamedTuple):
    """What the system is told of a name: inode, number of links, mode with its kind, size and time of
    modification (ns since 1970 UTC), and blocks of 512 bytes."""

    name: bytes
    inode: int
    links: int
    mode: int
    size: int
    blocks: int
    modified: int


def row_of(name: bytes, path: bytes, item: Item) -> Row:
    """What the system is told of an item under a path."""
    entry, kept = item.entry, item.entry.stat
    return Row(
        name,
        inode_of(item.group or path),
        1 if item.group is None else 2,
        FORMATS.get(entry.kind, stat.S_IFREG) | kept.mode,
        len(entry.extra.target) if entry.kind is Kind.LINK else kept.size,
        _blocks(entry),
        kept.modified,
    )


def inode_of(known_by: object) -> int:
    """An inode number for a path, or for what hard links share."""
    return hash(known_by) & 0x7FFFFFFFFFFFFFFF or 1


def rows_of(folder: Mapping[bytes, Item], path: bytes) -> list[Row]:
    """What the system is told of all that is in a folder under a path."""
    if isinstance(folder, StoredFolder):
        return folder.rows(path)
    above = path.rstrip(b"/") + b"/"
    return [row_of(name, above + name, item) for name, item in folder.items()]


class StoredFolder(Mapping[bytes, Item]):
    """What a snapshot has in one folder, by name.

    :param make: makes the item of an entry.
    """

    def __init__(
        self, store: Store, snapshot: SnapshotId, entry: Entry, make: Callable[[Entry], Item]
    ) -> None:
        self._snapshot, self._make = snapshot, make
        self._pages: list[Page] = []
        self._damage: DamageError | None = None
        for page in entry.pages:
            try:
                self._pages.append(store.page(page))
            except DamageError as error:
                self._damage = self._damage or error

    @cached_property
    def _items(self) -> dict[bytes, Item]:
        found: dict[bytes, Item] = {}
        for page in self._pages:
            try:
                entries = [one for one in page.entries() if one.kind is not Kind.LEFT_OUT]
                found.update((one.name, self._make(one)) for one in entries)
            except DamageError as error:
                self._damage = self._damage or error
        if self._damage is not None:
            warning = _warning(self._damage)
            found[warning.entry.name] = warning
        return found

    def __getitem__(self, name: bytes) -> Item:
        return self._items[name]

    def __iter__(self) -> Iterator[bytes]:
        return iter(self._items)

    def __len__(self) -> int:
        return sum(len(page.names) for page in self._pages)

    def rows(self, path: bytes) -> list[Row]:
        """What the system is told of each name."""
        above, found = path.rstrip(b"/") + b"/", list[Row]()
        for page in self._pages:
            try:
                found += self._rows_of(page, above)
            except DamageError as error:
                self._damage = self._damage or error
        if self._damage is not None:
            warning = _warning(self._damage)
            found.append(row_of(warning.entry.name, above + warning.entry.name, warning))
        return found

    def _rows_of(self, page: Page, above: bytes) -> list[Row]:
        stats, extras = page.stats, page.extras
        kinds = np.frombuffer(page.kinds.encode("ascii"), dtype=np.uint8)
        modes = (_FORMAT_OF[kinds] | stats[:, 0]).tolist()
        sizes, modified = stats[:, 3].tolist(), stats[:, 4].tolist()
        files = kinds == ord(Kind.FILE.value)
        blocks = np.where(files, -(-page.stored_sizes() // BLOCK), 0).tolist()
        inodes = [inode_of(above + name) for name in page.names]
        links = [1] * len(inodes)
        for at, extra in extras.items():
            if extra.target:
                sizes[at] = len(extra.target)
            if extra.link_group is not None:
                inodes[at], links[at] = inode_of((self._snapshot, *extra.link_group)), 2
        rows = list(map(Row, page.names, inodes, links, modes, sizes, blocks, modified))
        if Kind.LEFT_OUT not in page.kinds:
            return rows
        return [row for row, kind in zip(rows, page.kinds, strict=True) if kind != Kind.LEFT_OUT]


def _blocks(entry: Entry) -> int:
    """Holes take no room: by that, programs that copy find them."""
    if entry.kind is not Kind.FILE:
        return 0
    stored = entry.stat.size
    if len(entry.extents) > 1:
        stored = sum(one.length for one in entry.extents if one.chunk is not None)
    return -(-stored // BLOCK)


def _warning(damage: DamageError) -> Item:
    """Beside what can be read of a folder, so that no copy of it passes for whole."""

    def refuse() -> Entry:
        raise damage

    name = os.fsencode(tr("PART OF THIS FOLDER CANNOT BE READ"))
    return Item(Entry(name, Kind.FILE, Stat(0)), stored=refuse)
