"""Taking released snapshots out of the local catalog, without reading the store anew.

Snapshots that stay are counted anew from 1; a version that stood in none of them is forgotten; versions that
have become neighbours and are the same become one, and what the next that stays added, changed and removed is
counted anew: all as it would be had the released snapshots never been.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Collection

import numpy as np


def forget_released(db: sqlite3.Connection, gone: Collection[str]) -> bool:
    """Take snapshots out, inside the caller's transaction. False when that cannot be done: a machine's newest
    is among them."""
    by_machine: dict[int, list[int]] = {}
    for name in gone:
        row = db.execute("SELECT machine, seq FROM snapshot WHERE name = ?", (name,)).fetchone()
        if row is not None:
            by_machine.setdefault(row[0], []).append(row[1])
    newest = dict(db.execute("SELECT machine, max(seq) FROM snapshot GROUP BY machine"))
    if any(newest[machine] in released for machine, released in by_machine.items()):
        return False
    for machine, released in by_machine.items():
        _Forgetting(db, machine, sorted(released), newest[machine]).run()
    return True


def _own(span: str) -> str:
    """The condition that a span, under its name in a query, belongs to machine ``?1``. ``-machine`` stands
    for the folder above the covered ones."""
    return f"({span}.folder = -?1 OR {span}.folder IN (SELECT id FROM folder WHERE machine = ?1))"


class _Forgetting:
    """The released snapshots of one machine."""

    def __init__(self, db: sqlite3.Connection, machine: int, released: list[int], newest: int) -> None:
        self._db, self._machine, self._released = db, machine, released
        stays = np.ones(newest + 2, dtype=bool)
        stays[0] = stays[newest + 1] = False
        stays[released] = False
        counted = np.cumsum(stays)
        self._rows = [
            (seq, int(counted[seq - 1]) + 1, int(counted[seq]))
            for seq in range(self._released[0], newest + 1)
        ]
        """Old number; new number of the first that stays from it on; new number of the last that stays up to
        it."""
        self._next = sorted({int(counted[seq]) + 1 for seq in released})
        """New numbers of those that stay right after released ones."""

    def run(self) -> None:
        db, first = self._db, self._released[0]
        db.execute(
            "CREATE TEMP TABLE IF NOT EXISTS renumbered (seq INTEGER PRIMARY KEY, after INTEGER, before"
            " INTEGER)"
        )
        db.execute("DELETE FROM renumbered")
        db.executemany("INSERT INTO renumbered VALUES (?, ?, ?)", self._rows)
        db.executemany(
            "DELETE FROM snapshot WHERE machine = ? AND seq = ?",
            [(self._machine, seq) for seq in self._released],
        )
        db.execute(
            "UPDATE snapshot SET seq = -(SELECT after FROM renumbered r WHERE r.seq = snapshot.seq) WHERE"
            " machine = ? AND seq >= ?",
            (self._machine, first),
        )
        db.execute("UPDATE snapshot SET seq = -seq WHERE machine = ? AND seq < 0", (self._machine,))
        self._spans(first)
        self._count_anew()
        self._activity(first)
        db.execute("DELETE FROM renumbered")

    def _count_anew(self) -> None:
        """Count what the next that stay added, changed and removed, as ``Catalog`` does when it takes a
        snapshot in."""
        begun, ended = dict.fromkeys(self._next, (0, 0, 0, 0)), dict.fromkeys(self._next, (0, 0))
        numbers = ", ".join(map(str, self._next))
        query = f"""SELECT seq, sum(before IS NULL), sum(before IS NOT NULL),
                sum(iif(before IS NULL, size, 0)), sum(iif(before IS NULL, 0, size)) FROM
            (SELECT b.first AS seq, b.size AS size, (SELECT 1 FROM span a WHERE a.folder = b.folder
                AND a.name = b.name AND a.last = b.first - 1
                AND a.kind = 'f') AS before FROM span b WHERE b.kind = 'f' AND b.first IN ({numbers})
                    AND {_own("b")})
            GROUP BY seq"""
        begun.update((seq, tuple(found)) for seq, *found in self._db.execute(query, (self._machine,)))
        query = f"""SELECT last + 1, count(*), sum(size) FROM span a WHERE kind = 'f'
            AND last + 1 IN ({numbers}) AND {_own("a")} AND NOT EXISTS
            (SELECT 1 FROM span b WHERE b.folder = a.folder AND b.name = a.name
                AND b.first = a.last + 1) GROUP BY last"""
        ended.update((seq, tuple(found)) for seq, *found in self._db.execute(query, (self._machine,)))
        self._db.executemany(
            """UPDATE snapshot SET added = ?, changed = ?, added_bytes = ?, changed_bytes = ?, removed = ?,
                removed_bytes = ?
                WHERE machine = ? AND seq = ?""",
            [(*begun[seq], *ended[seq], self._machine, seq) for seq in self._next],
        )

    def _spans(self, first: int) -> None:
        db, own = self._db, _own("span")
        db.execute(
            f"""UPDATE span SET
                first = coalesce((SELECT after FROM renumbered r WHERE r.seq = span.first), first),
                last = (CASE WHEN last IS NULL THEN NULL ELSE coalesce((SELECT before FROM renumbered r
                    WHERE r.seq = span.last), last) END)
                WHERE (first >= ?2 OR last >= ?2) AND {own}""",
            (self._machine, first),
        )
        db.execute(f"DELETE FROM span WHERE last IS NOT NULL AND first > last AND {own}", (self._machine,))
        below = self._rows[0][2]
        while True:
            pairs = db.execute(
                f"""SELECT a.rowid, b.rowid, b.last FROM span a JOIN span b ON b.folder = a.folder
                    AND b.name = a.name AND b.first = a.last + 1
                    AND b.kind = a.kind AND b.identity = a.identity
                    WHERE a.last >= ?2 AND {_own("a")}""",
                (self._machine, below),
            ).fetchall()
            taken: set[int] = set()
            for earlier, later, last in pairs:
                if earlier not in taken and later not in taken:
                    taken |= {earlier, later}
                    db.execute("UPDATE span SET last = ? WHERE rowid = ?", (last, earlier))
                    db.execute("DELETE FROM span WHERE rowid = ?", (later,))
            if not pairs:
                return

    def _activity(self, first: int) -> None:
        db, own = self._db, "folder IN (SELECT id FROM folder WHERE machine = ?)"
        moved = db.execute(
            "SELECT DISTINCT folder, after FROM activity JOIN renumbered USING (seq) WHERE seq >= ? AND"
            f" {own}",
            (first, self._machine),
        ).fetchall()
        db.execute(f"DELETE FROM activity WHERE seq >= ? AND {own}", (first, self._machine))
        db.executemany("INSERT OR IGNORE INTO activity VALUES (?, ?)", moved)
