"""Taking a snapshot into the local catalog: versions begin and end where it differs from the one before."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import Any

from good_tide.core.deep import Deep, walked
from good_tide.core.entries import ACCESS_LISTS, Entry, Kind
from good_tide.core.records import Snapshot
from good_tide.storage.catalog_file import INDEX_OF_IDENTITIES
from good_tide.storage.catalog_names import CatalogNames, NewName
from good_tide.storage.catalog_whole import MOST_DEDUPLICATED_BYTES, SPAN, WholeFolders
from good_tide.storage.store import Store

_NAMES_AT_ONCE = 20_000


class Intake:
    """Takes one snapshot into the catalog."""

    def __init__(self, db: sqlite3.Connection, store: Store, snapshot: Snapshot) -> None:
        self._db, self._store, self._snapshot = db, store, snapshot
        self._machine = self._seq = 0
        self._names: list[NewName] = []
        self._begun: set[int] = set()
        """Folders that were just put into the catalog, and have nothing in it yet."""
        self._lists = False
        """Whether access control lists are in what is new."""
        self._tide = {
            "added": 0,
            "changed": 0,
            "removed": 0,
            "added_bytes": 0,
            "changed_bytes": 0,
            "removed_bytes": 0,
        }

    def run(self) -> None:
        """Take it in, within the caller's transaction."""
        record = self._snapshot.record
        self._db.execute(
            "INSERT INTO machine (key, name) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET name ="
            " excluded.name",
            (record.machine.id, record.machine.name),
        )
        self._machine = int(
            self._db.execute("SELECT id FROM machine WHERE key = ?", (record.machine.id,)).fetchone()[0]
        )
        row = self._db.execute(
            "SELECT coalesce(max(seq), 0) + 1 FROM snapshot WHERE machine = ?", (self._machine,)
        ).fetchone()
        self._seq = int(row[0])
        if self._seq > 1:
            CatalogNames(self._db, self._machine).complete()
        self._take(self._store.roots(record))
        self._keep_names()
        self._note_lists()
        names = ", ".join(self._tide)
        self._db.execute(
            f"""INSERT INTO snapshot (machine, seq, name, time, label, files, bytes, stored, gaps, {names})
                VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)""",
            (
                self._machine,
                self._seq,
                self._snapshot.id,
                record.time,
                record.label,
                record.tally.files,
                record.tally.bytes,
                record.tally.stored_bytes,
                self._snapshot.gaps,
                *self._tide.values(),
            ),
        )

    def _take(self, roots: Sequence[Entry]) -> None:
        """Take in the covered folders."""
        self._whole = WholeFolders(self._db, self._store, self._machine, self._seq, self._named)
        empty = self._db.execute("SELECT 1 FROM span LIMIT 1").fetchone() is None
        if empty:  # to sort all of it once is much quicker than to keep it in order all the time
            self._db.execute("DROP INDEX IF EXISTS span_by_identity")
        walked(self._entries(-self._machine, 0, roots))
        if empty:
            self._db.execute(INDEX_OF_IDENTITIES)
        self._tide["added"] += self._whole.files
        self._tide["added_bytes"] += self._whole.bytes
        self._lists = self._lists or self._whole.lists

    def _named(self, names: Sequence[NewName]) -> None:
        """Some names are new."""
        self._names += names
        if len(self._names) >= _NAMES_AT_ONCE:
            self._keep_names()

    def _keep_names(self) -> None:
        CatalogNames(self._db, self._machine).add(self._names)
        self._names = []

    def _note_lists(self) -> None:
        """Note whether the history has access control lists, if it is read from its beginning on."""
        if self._seq == 1:
            self._db.execute("INSERT OR IGNORE INTO plain VALUES (?, 0)", (self._machine,))
        if self._lists:
            self._db.execute("UPDATE plain SET lists = 1 WHERE machine = ?", (self._machine,))

    def _folder(self, folder: int, known: bytes | None, entry: Entry) -> Deep[bool]:
        """Compare a folder's listing with the one that the catalog has; returns whether anything inside is
        different."""
        listing = b"".join(entry.pages)
        if known == listing:
            return False
        self._db.execute("UPDATE folder SET listing = ? WHERE id = ?", (listing, folder))
        if self._is_new(folder):
            return self._whole.take(folder, entry.pages)
        different: bool = yield self._entries(folder, folder, self._store.listing(entry.pages))
        if different:
            self._db.execute("INSERT OR IGNORE INTO activity VALUES (?, ?)", (folder, self._seq))
        return different

    def _is_new(self, folder: int) -> bool:
        """Whether nothing is in a folder in the catalog yet."""
        return folder in self._begun

    def _entries(self, owner: int, parent: int, entries: Sequence[Entry]) -> Deep[bool]:
        """Compare entries with the open spans under ``owner``; ``parent`` is the number sub-folders have as
        parent."""
        query = "SELECT name, kind, identity, size, rowid FROM span WHERE folder = ? AND last IS NULL"
        standing: dict[bytes, list[Any]] = {name: rest for name, *rest in self._db.execute(query, (owner,))}
        query = "SELECT name, id, listing FROM folder WHERE machine = ? AND parent = ?"
        folders: dict[bytes, list[Any]] = {
            name: rest for name, *rest in self._db.execute(query, (self._machine, parent))
        }
        fresh: list[tuple[object, ...]] = []
        different = False
        for entry in entries:
            if entry.extra.attributes:
                self._lists = self._lists or any(
                    name.startswith(ACCESS_LISTS) for name, _ in entry.extra.attributes
                )
            identity = _identity(entry)
            before = standing.pop(entry.name, None)
            if before is None or before[0] != entry.kind or before[1] != identity:
                different = True
                self._count(entry, before)
                if before is not None:
                    self._close(before[3], before[0], parent, entry.name)
                if before is None or before[0] != entry.kind:
                    self._named([NewName(owner, entry.name, entry.kind is Kind.FOLDER)])
                fresh.append(self._span(owner, entry, identity))
            if entry.kind is Kind.FOLDER:
                known = folders.get(entry.name)
                number, listing = known or (self._new_folder(parent, entry.name), None)
                inside = yield self._folder(number, listing, entry)
                different = inside or different
        for name, (kind, _, size, row) in standing.items():
            different = True
            self._tide["removed"] += kind == Kind.FILE
            self._tide["removed_bytes"] += size if kind == Kind.FILE else 0
            self._close(row, kind, parent, name)
        self._db.executemany(SPAN, fresh)
        return different

    def _span(self, owner: int, entry: Entry, identity: bytes) -> tuple[object, ...]:
        small = (
            entry.kind is Kind.FILE and len(entry.extents) == 1 and entry.stat.size <= MOST_DEDUPLICATED_BYTES
        )
        where = (entry.extents[0].chunk, entry.extents[0].offset) if small else (None, None)
        return (
            owner,
            entry.name,
            entry.kind.value,
            entry.stat.size,
            entry.stat.modified,
            identity,
            self._seq,
            *where,
        )

    def _count(self, entry: Entry, before: Sequence[object] | None) -> None:
        if entry.kind is Kind.FILE:
            which = "changed" if before is not None and before[0] == Kind.FILE else "added"
            self._tide[which] += 1
            self._tide[f"{which}_bytes"] += entry.stat.size

    def _new_folder(self, parent: int, name: bytes) -> int:
        """The number of a folder that was not in the catalog when its parent's were read."""
        key = (self._machine, parent, name)
        made = self._db.execute("INSERT OR IGNORE INTO folder (machine, parent, name) VALUES (?, ?, ?)", key)
        if not made.rowcount:  # there is one by now
            return self._folder_number(parent, name)
        number = int(made.lastrowid or 0)
        self._begun.add(number)
        return number

    def _folder_number(self, parent: int, name: bytes) -> int:
        key = (self._machine, parent, name)
        row = self._db.execute(
            "SELECT id FROM folder WHERE machine = ? AND parent = ? AND name = ?", key
        ).fetchone()
        if row is None:
            return int(
                self._db.execute("INSERT INTO folder (machine, parent, name) VALUES (?, ?, ?)", key).lastrowid
                or 0
            )
        return int(row[0])

    def _close(self, row: object, kind: str, parent: int, name: bytes) -> None:
        """A version no longer stands; everything in a folder that is gone is gone as well."""
        self._end(row)
        gone = [self._folder_number(parent, name)] if kind == Kind.FOLDER else []
        query = "SELECT name, kind, size, rowid FROM span WHERE folder = ? AND last IS NULL"
        while gone:
            folder = gone.pop()
            for inner, inner_kind, size, inner_row in self._db.execute(query, (folder,)).fetchall():
                self._tide["removed"] += inner_kind == Kind.FILE
                self._tide["removed_bytes"] += size if inner_kind == Kind.FILE else 0
                self._end(inner_row)
                gone += [self._folder_number(folder, inner)] if inner_kind == Kind.FOLDER else []
            self._db.execute("UPDATE folder SET listing = NULL WHERE id = ?", (folder,))
            self._db.execute("INSERT OR IGNORE INTO activity VALUES (?, ?)", (folder, self._seq))

    def _end(self, row: object) -> None:
        self._db.execute("UPDATE span SET last = ? WHERE rowid = ?", (self._seq - 1, row))


def _identity(entry: Entry) -> bytes:
    """What makes two states of a name the same version."""
    if entry.kind is Kind.FILE:
        return entry.digest
    if entry.kind is Kind.LINK:
        return entry.extra.target
    return entry.extra.reason.encode()
