"""Finding names in the local catalog, with everything that ever stood under them."""

from __future__ import annotations

import sqlite3

from good_tide.core.findings import Findings, FoundFolder
from good_tide.core.history import Lifeline, Span
from good_tide.core.name_query import NameQuery
from good_tide.storage.catalog_names import CatalogNames, FolderNames, NameAt

_MOST_LOOKED_AT = 50_000
"""Names of which versions are looked at, for a query that is narrowed."""
_MOST_SPANS = 40_000
_NEAR_SHOWN = 8
_NEAR_LOOKED_AT = 30


class CatalogSearch:
    """One search among the names of a machine, given by its number, in a catalog that is open and locked.

    :param folders: its folders, where they are known from an earlier search.
    """

    def __init__(
        self, db: sqlite3.Connection, machine: int, query: NameQuery, folders: FolderNames | None = None
    ) -> None:
        self._db, self._machine, self._query = db, machine, query
        self._folders = folders or FolderNames(db, machine)
        self._names = CatalogNames(db, machine)
        self._paths: dict[int, bytes] = {0: b"", -machine: b""}
        self._changed = self._changed_snapshots()

    def run(self, most: int) -> Findings:
        """Find at most so many names, the best first."""
        found: dict[tuple[int, bytes], tuple[int, Lifeline]] = {}
        more, spans = False, 0
        for looked, one in enumerate(self._names.find(self._query, self._folders)):
            if len(found) >= most or looked >= _MOST_LOOKED_AT or spans >= _MOST_SPANS:
                more = True
                break
            key = one.folder, one.name
            line = self._line(one) if key not in found else None
            if line is not None:
                found[key] = self._query.rank(one.folded), line
                spans += len(line.spans)
        if not found and not self._query.narrowed:
            return Findings(tuple(self._gathered(self._near())), near=True)
        return Findings(tuple(self._gathered(found)), more)

    def _near(self) -> dict[tuple[int, bytes], tuple[int, Lifeline]]:
        word = max((one.anchor for one in self._query.words), key=len, default=b"")
        found: dict[tuple[int, bytes], tuple[int, Lifeline]] = {}
        for one in self._names.near(word, _NEAR_LOOKED_AT) if word else ():
            line = self._line(one)
            if line is not None and len(found) < _NEAR_SHOWN:
                found[one.folder, one.name] = len(found), line
        return found

    def _gathered(self, found: dict[tuple[int, bytes], tuple[int, Lifeline]]) -> list[FoundFolder]:
        """By folder; folders and names by how well the best in them fits, then by what changed last."""
        folders: dict[int, list[tuple[int, int, Lifeline]]] = {}
        for (folder, _), (rank, line) in found.items():
            last = line.spans[-1]
            newest = last.first if last.last is None else last.last + 1
            folders.setdefault(folder, []).append((rank, -newest, line))
        for lines in folders.values():
            lines.sort(key=lambda one: (one[0], one[1], one[2].name))
        ordered = sorted(folders.items(), key=lambda item: (item[1][0][:2], self._path(item[0])))
        return [
            FoundFolder(self._path(folder), self._own_line(folder), tuple(line for *_, line in lines))
            for folder, lines in ordered
        ]

    def _line(self, one: NameAt) -> Lifeline | None:
        """The life of a name, if it has one and what is asked for is so."""
        query, spans = self._query, self._spans(one)
        if not spans or (query.gone and spans[-1].last is None):
            return None
        if not query.of_kind(one.name, spans[-1].kind == "d"):
            return None
        if query.larger and not any(span.kind == "f" and span.size >= query.larger for span in spans):
            return None
        if self._changed is not None and not any(
            self._changed[0] <= seq <= self._changed[1]
            for span in spans
            for seq in (span.first, *([span.last + 1] if span.last is not None else []))
        ):
            return None
        inside: tuple[int, ...] = ()
        if spans[-1].kind == "d":
            rows = self._db.execute(
                "SELECT seq FROM activity JOIN folder ON folder.id = folder WHERE machine = ? AND parent = ?"
                " AND name = ? ORDER BY seq",
                (self._machine, max(0, one.folder), one.name),
            )
            inside = tuple(seq for (seq,) in rows)
        return Lifeline(one.name, tuple(spans), inside)

    def _spans(self, one: NameAt) -> list[Span]:
        return self._spans_of(one.folder, one.name)

    def _spans_of(self, folder: int, name: bytes) -> list[Span]:
        query = (
            "SELECT kind, size, modified, identity, first, last FROM span WHERE folder = ? AND name = ? ORDER"
            " BY first"
        )
        return [Span(*row) for row in self._db.execute(query, (folder, name))]

    def _own_line(self, folder: int) -> Lifeline | None:
        """The life of a folder itself."""
        if folder <= 0:
            return None
        parent, name = self._above(folder)
        spans = self._spans_of(parent or -self._machine, name)
        return Lifeline(name, tuple(spans)) if spans else None

    def _changed_snapshots(self) -> tuple[int, int] | None:
        """The first and last snapshot of the time in which something is to have changed; None: any time."""
        if self._query.changed == NameQuery(()).changed:
            return None
        low, high = self._db.execute(
            "SELECT min(seq), max(seq) FROM snapshot WHERE machine = ? AND time BETWEEN ? AND ?",
            (self._machine, *self._query.changed),
        ).fetchone()
        return (low, high) if low is not None else (1, 0)

    def _above(self, folder: int) -> tuple[int, bytes]:
        row = self._db.execute("SELECT parent, name FROM folder WHERE id = ?", (folder,)).fetchone()
        return (int(row[0]), bytes(row[1])) if row is not None else (0, b"")

    def _path(self, folder: int) -> bytes:
        waiting = []
        while folder not in self._paths:
            parent, name = self._above(folder)
            waiting.append((folder, parent, name))
            folder = parent
        for one, parent, name in reversed(waiting):
            above = self._paths[parent]
            self._paths[one] = above.rstrip(b"/") + b"/" + name if parent else name
        return self._paths[waiting[0][0] if waiting else folder]
