"""The local catalog: who was where when, in a SQLite file that can be thrown away at any time.

Per machine, snapshots are numbered in order of time (``seq``, from 1). A *span* is one version of one name:
the range of snapshots it stood in; ``last`` is NULL while it stands in the newest. Taking in a snapshot costs
only what changed, because folders with the same listing as before are skipped as a whole.
"""

from __future__ import annotations

import contextlib
import itertools
import os
import sqlite3
import tempfile
from collections.abc import Callable, Collection, Sequence, Set
from pathlib import Path

import msgspec

from good_tide.core.entries import Extent, Kind
from good_tide.core.errors import DamageError, NotInPlaceError
from good_tide.core.findings import Findings
from good_tide.core.history import EarlierName, Lifeline, Span
from good_tide.core.identifiers import ChunkId, ContentDigest, MachineId
from good_tide.core.name_query import NameQuery, parse_query
from good_tide.core.records import Snapshot
from good_tide.storage.catalog_copy import fetch_copy, put_copy
from good_tide.storage.catalog_file import TABLES, damage_noted, mended
from good_tide.storage.catalog_intake import Intake
from good_tide.storage.catalog_lives import Lives, Name
from good_tide.storage.catalog_names import CatalogNames, FolderNames
from good_tide.storage.catalog_release import forget_released
from good_tide.storage.catalog_search import CatalogSearch
from good_tide.storage.catalog_snapshots import CatalogSnapshots
from good_tide.storage.store import Store
from good_tide.storage.summaries import few_snapshots, known_snapshots, snapshot_names

_NEAR_MOST = 200
_FEW = 64
"""Snapshots that are read one by one, rather than learn of all."""
_WORTH_FETCHING = 200
"""Snapshots of an unseen history that are read faster than the copy of a catalog is fetched."""


_BELOW = """SELECT name, id FROM folder
    WHERE machine = (SELECT machine FROM folder WHERE id = ?) AND parent = ?"""
"""The folders in a folder, by the index: without the machine all folders would be looked through."""


class Catalog(CatalogSnapshots):
    """The catalog of one store. Safe to use from several threads, one at a time."""

    _folder_names: tuple[tuple[int, int, int], FolderNames] | None = None
    """The folders as the last search had them, which while somebody types is the next one's."""

    @damage_noted
    def has_no_lists(self, machine: MachineId) -> bool:
        """Whether it is known that nothing in a machine's history has an access control list."""
        with self._lock:
            row = self._db.execute(
                "SELECT lists FROM plain WHERE machine = ?", (self._machine(machine),)
            ).fetchone()
            return row is not None and not row[0]

    @mended
    def sync(self, store: Store, tell: Callable[[int, int], None] | None = None) -> list[DamageError]:
        """Bring the catalog to what the store holds now; returns what could not be read.

        :param tell: given the snapshots taken in so far, and those there are to take in.

        Raises:
            PlaceError: the store cannot be read.
        """
        with self._lock:
            try:
                return self._sync(store, tell)
            except sqlite3.OperationalError as error:
                if self.trouble:
                    raise
                in_memory = self._open_in_memory(error)
                self._db.close()
                self._db = in_memory
                return self._sync(store, tell)

    def _sync(self, store: Store, tell: Callable[[int, int], None] | None) -> list[DamageError]:
        with self._lock:
            self._folder_names = None
            self._complete_names()
            known = self.names()
            present = snapshot_names(store, known)
            if known == present:
                return []
            if not known and len(present) >= _WORTH_FETCHING and self._fetch(store):
                known = self.names()
                present = snapshot_names(store, known)
            known = self._forget(known, present)
            unseen = present - known
            if len(unseen) > _FEW:
                found, damage = known_snapshots(store)
                fresh = [snapshot for snapshot in found if snapshot.id not in known]
            else:
                fresh, damage = few_snapshots(store, unseen)
            if any(self._is_late(snapshot) for snapshot in fresh):
                self._clear()
                fresh, damage = known_snapshots(store)
            for number, snapshot in enumerate(fresh):
                if tell is not None:
                    tell(number, len(fresh))
                try:
                    with self._transaction():
                        if not self._has(snapshot):
                            Intake(self._db, store, snapshot).run()
                except NotInPlaceError:
                    continue  # released a moment ago
                except DamageError as error:
                    damage.append(error)
            return damage

    def _fetch(self, store: Store) -> bool:
        """Take over the copy of a catalog that lies on the store, if a whole one does."""
        with contextlib.suppress(OSError), tempfile.TemporaryDirectory(dir=self._file.parent) as inside:
            image = Path(inside) / "copy"
            return fetch_copy(store, image) and self.take_image(image)
        return False

    def carry(self, store: Store, owner: str) -> bool:
        """Put a copy on the store, for machines that do not know its history; whether that was done.

        :param owner: begins the names of temporary files.
        """
        with (
            contextlib.suppress(OSError, sqlite3.Error),
            tempfile.TemporaryDirectory(dir=self._file.parent) as inside,
        ):
            image = Path(inside) / "copy"
            self.write_image(image)
            return put_copy(store, image, owner)
        return False

    def _complete_names(self) -> None:
        """Lay names out to be found, in a catalog of a version that did not."""
        query = "SELECT id FROM machine WHERE id NOT IN (SELECT machine FROM names)"
        for (machine,) in self._db.execute(query).fetchall():
            with self._transaction():
                CatalogNames(self._db, machine).complete()

    def _forget(self, known: set[str], present: Set[str]) -> set[str]:
        """Take out what is no longer in the store; the names that are left."""
        gone = known - present
        if gone:
            with self._transaction():
                done = forget_released(self._db, gone)
            if not done:
                self._clear()
                return set()
        return known - gone

    def _has(self, snapshot: Snapshot) -> bool:
        """Whether a snapshot is in; another process may have taken it in meanwhile."""
        return (
            self._db.execute("SELECT 1 FROM snapshot WHERE name = ?", (snapshot.id,)).fetchone() is not None
        )

    def _is_late(self, snapshot: Snapshot) -> bool:
        """Whether a snapshot belongs before one that was taken in already."""
        query = "SELECT max(time) FROM snapshot JOIN machine ON machine.id = snapshot.machine WHERE key = ?"
        newest = self._db.execute(query, (snapshot.machine.id,)).fetchone()[0]
        return newest is not None and newest >= snapshot.time

    def _clear(self) -> None:
        with self._transaction():
            for table in TABLES:
                self._db.execute(f"DELETE FROM {table}")

    @damage_noted
    def folder(self, machine: MachineId, path: bytes) -> int | None:
        """The number of a folder that was ever in a snapshot, or None."""
        with self._lock:
            number = self._machine(machine)
            roots = dict(
                self._db.execute("SELECT name, id FROM folder WHERE machine = ? AND parent = 0", (number,))
            )
            for root, identity in sorted(roots.items(), key=lambda item: -len(item[0])):
                if path == root or path.startswith(root.rstrip(b"/") + b"/"):
                    return self._descend(number, identity, path[len(root) :])
            return None

    def _descend(self, machine: int, folder: int, rest: bytes) -> int | None:
        for part in rest.split(b"/"):
            if part:
                query = "SELECT id FROM folder WHERE machine = ? AND parent = ? AND name = ?"
                row = self._db.execute(query, (machine, folder, part)).fetchone()
                if row is None:
                    return None
                folder = row[0]
        return folder

    @damage_noted
    def roots(self, machine: MachineId) -> list[Lifeline]:
        """Lifelines of the covered folders themselves."""
        with self._lock:
            return self._lifelines(-self._machine(machine))

    @damage_noted
    def names_in(self, folder: int) -> tuple[frozenset[bytes], dict[bytes, int]]:
        """The names that ever were in a folder and could be read; and the numbers of the folders among
        them."""
        names = "SELECT DISTINCT name FROM span WHERE folder = ? AND kind <> ?"
        with self._lock:
            found = self._db.execute(names, (folder, Kind.LEFT_OUT.value))
            return frozenset(name for (name,) in found), dict(self._db.execute(_BELOW, (folder, folder)))

    @damage_noted
    def lifelines(self, folder: int) -> list[Lifeline]:
        """Lifelines of everything that was ever in a folder, folders first, then by name."""
        with self._lock:
            return self._lifelines(folder)

    def _lifelines(self, folder: int) -> list[Lifeline]:
        spans: dict[bytes, list[Span]] = {}
        query = (
            "SELECT name, kind, size, modified, identity, first, last FROM span WHERE folder = ? ORDER BY"
            " name, first"
        )
        for name, *rest in self._db.execute(query, (folder,)):
            spans.setdefault(name, []).append(Span(*rest))
        children = dict(self._db.execute(_BELOW, (folder, folder))) if folder > 0 else {}
        if folder < 0:
            children = dict(
                self._db.execute("SELECT name, id FROM folder WHERE parent = 0 AND machine = ?", (-folder,))
            )
        lines = []
        for name, own in spans.items():
            inside: tuple[int, ...] = ()
            if own[-1].kind == Kind.FOLDER and name in children:
                rows = self._db.execute(
                    "SELECT seq FROM activity WHERE folder = ? ORDER BY seq", (children[name],)
                )
                inside = tuple(seq for (seq,) in rows)
            lines.append(Lifeline(name, tuple(own), inside))
        lines.sort(key=lambda line: (line.kind != Kind.FOLDER, line.name.lower(), line.name))
        return lines

    @damage_noted
    def standing_files(self, machine: MachineId) -> list[tuple[bytes, list[bytes], list[int], list[int]]]:
        """The files of a machine's newest snapshot, folder by folder: its path, and their names, sizes and
        modification times."""
        query = """SELECT span.folder, span.name, size, modified FROM span JOIN folder ON folder.id =
            span.folder
                   WHERE folder.machine = ? AND last IS NULL AND kind = 'f' ORDER BY span.folder"""
        with self._lock:
            rows = self._db.execute(query, (self._machine(machine),)).fetchall()
            found = []
            for folder, group in itertools.groupby(rows, key=lambda row: int(row[0])):
                _, names, sizes, modified = map(list, zip(*group, strict=True))
                found.append((self._path(folder), names, sizes, modified))
            return found

    @damage_noted
    def spans(self, folder: int, name: bytes) -> list[Span]:
        """The versions of one name in a folder, oldest first."""
        query = (
            "SELECT kind, size, modified, identity, first, last FROM span WHERE folder = ? AND name = ? ORDER"
            " BY first"
        )
        with self._lock:
            return [Span(*row) for row in self._db.execute(query, (folder, name))]

    @damage_noted
    def with_lives(self, machine: MachineId, folder: int, lines: list[Lifeline]) -> list[Lifeline]:
        """Lifelines of a folder, those of files that were renamed or moved with their other names."""
        with self._lock:
            lives = Lives(self._db, self._machine(machine))
            return [self._with_life(lives, Name(folder, line.name), line) for line in lines]

    def _with_life(self, lives: Lives, own: Name, line: Lifeline) -> Lifeline:
        before = lives.before(own, line.spans[0]) if line.spans[0].first > 1 else []
        after = lives.after(own, line.spans[-1])
        if not before and after is None:
            return line
        earlier = tuple(EarlierName(self._path_of(name), tuple(spans)) for name, spans in before)
        later = b"" if after is None else self._path_of(after)
        return msgspec.structs.replace(line, earlier=earlier, later=later)

    def _path_of(self, name: Name) -> bytes:
        return self._path(name.folder).rstrip(b"/") + b"/" + name.name

    @damage_noted
    def same_content(self, machine: MachineId, identity: bytes, around: Sequence[int]) -> list[bytes]:
        """Paths at which files with this content begin or end near some snapshots: where a renamed file came
        from or went."""
        with self._lock:
            number = self._machine(machine)
            query = """SELECT span.folder, span.name, first, last FROM span JOIN folder ON folder.id =
                span.folder
                       WHERE identity = ? AND kind = 'f' AND folder.machine = ? LIMIT 200"""
            rows = self._db.execute(query, (identity, number)).fetchall()
            near = [
                (folder, name)
                for folder, name, first, last in rows
                if first in around or (last is not None and last + 1 in around)
            ]
            return [self._path(folder) + b"/" + name for folder, name in near]

    @damage_noted
    def find(self, machine: MachineId, query: NameQuery, most: int) -> Findings:
        """At most so many of the names that a query finds in all of a machine's history, the best first."""
        with self._lock:
            number = self._machine(machine)
            version = number, self._db.execute("PRAGMA data_version").fetchone()[0], self._db.total_changes
            if self._folder_names is None or self._folder_names[0] != version:
                self._folder_names = version, FolderNames(self._db, number)
            return CatalogSearch(self._db, number, query, self._folder_names[1]).run(most)

    @damage_noted
    def find_near(self, path: bytes) -> list[bytes]:
        """Paths that a mistyped one may have meant: what its folder ever held, or what has a name like
        its."""
        parent, _, name = path.rpartition(b"/")
        with self._lock:
            for machine, _ in self.machines():
                folder = self.folder(machine, parent)
                if folder is not None:
                    return [parent + b"/" + line.name for line in self._lifelines(folder)]
            for machine, _ in self.machines():
                query = NameQuery(parse_query(f'"{os.fsdecode(name)}"'))
                found = self.find(machine, query, _NEAR_MOST)
                if found.count:
                    return found.paths
            return [line.name for machine, _ in self.machines() for line in self.roots(machine)]

    def _path(self, folder: int) -> bytes:
        parts: list[bytes] = []
        while folder:
            folder, name = self._db.execute(
                "SELECT parent, name FROM folder WHERE id = ?", (folder,)
            ).fetchone()
            parts.append(name)
        return b"/".join(reversed(parts))

    @mended
    def note_lost(self, versions: Collection[tuple[ContentDigest, ChunkId]]) -> None:
        """Remember which versions of files have lost content, and which chunks; those known before are
        forgotten."""
        with self._lock:
            known = self._db.execute("SELECT count(*) FROM lost").fetchone()[0]
            if not known and not versions:
                return
            with self._transaction():
                self._db.execute("DELETE FROM lost")
                self._db.executemany("INSERT INTO lost VALUES (?, ?)", versions)

    @mended
    def lost(self) -> list[tuple[ContentDigest, ChunkId]]:
        """Versions that had lost content when somebody last looked, with the chunks of it."""
        with self._lock:
            rows = self._db.execute("SELECT identity, chunk FROM lost")
            return [(ContentDigest(digest), ChunkId(chunk)) for digest, chunk in rows]

    @mended
    def stored_small(self, digest: ContentDigest) -> Extent | None:
        """Where a small file with this content lies in the store, if the catalog knows."""
        query = (
            "SELECT chunk, offset, size FROM span WHERE identity = ? AND kind = 'f' AND chunk IS NOT NULL"
            " LIMIT 1"
        )
        with self._lock:
            row = self._db.execute(query, (digest,)).fetchone()
        return None if row is None else Extent(ChunkId(row[0]), row[1], row[2])
