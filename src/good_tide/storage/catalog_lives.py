"""One line of life for a file that was renamed or moved: what it was called before, and what it is called
now.

It is said only where it is sure: a content that ended under exactly one name in a snapshot, and began under
exactly one other name in the next, while the old name was left empty.
"""

from __future__ import annotations

import sqlite3
from typing import NamedTuple

from good_tide.core.entries import Kind
from good_tide.core.history import Span

_MOST_ALIKE = 64
"""Where more versions have the same content, nothing is sure."""
_MOST_NAMES = 16
"""A file that was renamed more often is followed no further."""


class Name(NamedTuple):
    """A name in a folder, by the folder's number."""

    folder: int
    name: bytes


class Lives:
    """Follows files of one machine from name to name."""

    def __init__(self, db: sqlite3.Connection, machine: int) -> None:
        self._db, self._machine = db, machine

    def before(self, own: Name, first: Span) -> list[tuple[Name, list[Span]]]:
        """Earlier names of a file, oldest first, each with the versions it had under it.

        :param first: the first version under its own name.
        """
        found: list[tuple[Name, list[Span]]] = []
        while len(found) < _MOST_NAMES:
            name = self._handed(own, first, first.first - 1, from_before=True)
            if name is None:
                break
            spans = [span for span in self._spans(name) if span.first < first.first]
            found.append((name, spans))
            own, first = name, spans[0]
        return found[::-1]

    def after(self, own: Name, last: Span) -> Name | None:
        """What a file that is gone under its own name was called next; None where that is not sure.

        :param last: its last version under that name.
        """
        return None if last.last is None else self._handed(own, last, last.last, from_before=False)

    def _handed(self, own: Name, span: Span, ended: int, from_before: bool) -> Name | None:
        """The other name of a file that lost one name after a snapshot, and has another from the next on."""
        if span.kind != Kind.FILE or not span.size or ended < 1:
            return None
        rows = self._db.execute(
            """SELECT span.folder, span.name, first, last FROM span JOIN folder ON folder.id = span.folder
               WHERE identity = ? AND kind = 'f' AND folder.machine = ? LIMIT ?""",
            (span.identity, self._machine, _MOST_ALIKE),
        ).fetchall()
        if len(rows) == _MOST_ALIKE:
            return None
        olds = [Name(folder, name) for folder, name, _, last in rows if last == ended]
        news = [Name(folder, name) for folder, name, first, _ in rows if first == ended + 1]
        if len(olds) != 1 or len(news) != 1 or olds == news:
            return None
        old, new = olds[0], news[0]
        if own != (new if from_before else old):
            return None
        follows = "SELECT 1 FROM span WHERE folder = ? AND name = ? AND first = ?"
        precedes = "SELECT 1 FROM span WHERE folder = ? AND name = ? AND first <= ?"
        if (
            self._db.execute(follows, (*old, ended + 1)).fetchone()
            or self._db.execute(precedes, (*new, ended)).fetchone()
        ):
            return None
        return old if from_before else new

    def _spans(self, name: Name) -> list[Span]:
        rows = self._db.execute(
            "SELECT kind, size, modified, identity, first, last FROM span WHERE folder = ? AND name = ? ORDER"
            " BY first",
            name,
        )
        return [Span(*row) for row in rows]
