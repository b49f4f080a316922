"""Taking folders into the local catalog of which nothing is there yet, with all that is in them: there is
nothing that they could differ from, so that listings are read many at once, by columns, and nothing is made
of a single entry."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Sequence
from itertools import repeat

import numpy as np

from good_tide.core.entries import ACCESS_LISTS, Kind
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import PageId
from good_tide.core.many_pages import ManyPages
from good_tide.core.pages import Page
from good_tide.core.translation import tr
from good_tide.storage.catalog_names import NewName
from good_tide.storage.store import Store

MOST_DEDUPLICATED_BYTES = 64 * 1024
SPAN = "INSERT INTO span VALUES (?, ?, ?, ?, ?, ?, ?, NULL, ?, ?)"
"""Folder, name, kind, size, modified, identity, and number of the snapshot; chunk and offset of what may be
found again by its content."""

_PAGES_AT_ONCE = 512
_BYTES_AT_ONCE = 1024 * 1024


class WholeFolders:
    """Takes in folders of one snapshot, within the caller's transaction.

    :param machine: its number. :param seq: that of the snapshot.
    :param named: told of the names that are new.
    :ivar files: how many were taken in, of ``bytes`` bytes.
    :ivar lists: whether access control lists are in what was taken in.
    """

    def __init__(
        self,
        db: sqlite3.Connection,
        store: Store,
        machine: int,
        seq: int,
        named: Callable[[Sequence[NewName]], None],
    ) -> None:
        self._db, self._store, self._machine, self._seq, self._named = db, store, machine, seq, named
        self._waiting: list[tuple[int, tuple[PageId, ...]]] = []
        """Folders that are to be read: their numbers, and those pages of their listings that are left."""
        self._next = 0
        """The number of the next folder that is put in."""
        self.files = self.bytes = 0
        self.lists = False

    def take(self, folder: int, pages: tuple[PageId, ...]) -> bool:
        """Take in all that is in a folder that was just put in, by its number; whether there is anything.

        :param pages: of its listing.

        Raises:
            DamageError: a listing cannot be read, or contradicts itself.
        """
        self._next = int(self._db.execute("SELECT max(id) + 1 FROM folder").fetchone()[0])
        self._waiting = [(folder, pages)]
        found = False
        while self._waiting:
            found = self._take_some() or found
        return found

    def _take_some(self) -> bool:
        """Take in what is in some of the folders that wait: those that came last, whose listings lie near
        each other."""
        owners: list[int] = []
        pages: list[Page] = []
        size = 0
        while self._waiting and len(pages) < _PAGES_AT_ONCE and size < _BYTES_AT_ONCE:
            folder, own = self._waiting.pop()
            if not own:
                continue
            if len(own) > 1:
                self._waiting.append((folder, own[1:]))
            page = self._store.page(own[0])
            owners.append(folder)
            pages.append(page)
            size += len(page.data)
        if not pages:
            return False
        many = ManyPages(pages)
        folders: list[int] = np.repeat(owners, many.counts).tolist()
        self._add_spans(many, folders)
        self._add_folders(many, folders)
        self._named(
            [
                NewName(owner, name, kind == Kind.FOLDER)
                for owner, name, kind in zip(folders, many.names, many.kinds, strict=True)
            ]
        )
        different = sorted(set(folders))
        self._db.executemany(
            "INSERT OR IGNORE INTO activity VALUES (?, ?)", [(one, self._seq) for one in different]
        )
        return bool(different)

    def _add_spans(self, many: ManyPages, folders: Sequence[int]) -> None:
        """:param folders: the number of the one that each entry is in."""
        identities = many.digests
        for at, extra in many.extras().items():
            self.lists = self.lists or any(name.startswith(ACCESS_LISTS) for name, _ in extra.attributes)
            if many.kinds[at] == Kind.LINK:
                identities[at] = extra.target
            elif many.kinds[at] == Kind.LEFT_OUT:
                identities[at] = extra.reason.encode()
        columns = folders, many.names, many.kinds, many.sizes, many.modified, identities
        where = many.wholes(MOST_DEDUPLICATED_BYTES)
        self._db.executemany(SPAN, zip(*columns, repeat(self._seq), *where))
        self.files += many.kinds.count(Kind.FILE)
        self.bytes += sum(
            [size for size, kind in zip(many.sizes, many.kinds, strict=True) if kind == Kind.FILE]
        )

    def _add_folders(self, many: ManyPages, folders: Sequence[int]) -> None:
        """Put in the folders among the entries, and have them wait.

        Raises:
            DamageError: a folder has two of one name, in two pages.
        """
        rows = []
        waiting = []
        for at, pages in many.folders().items():
            rows.append((self._next, self._machine, folders[at], many.names[at], b"".join(pages)))
            waiting.append((self._next, pages))
            self._next += 1
        try:
            self._db.executemany("INSERT INTO folder VALUES (?, ?, ?, ?, ?)", rows)
        except sqlite3.IntegrityError as error:
            raise DamageError(tr("A folder listing contradicts itself")) from error
        self._waiting += waiting[::-1]  # the first of them comes next
