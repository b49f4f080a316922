"""The snapshots that the local catalog of a store has taken in: which they are, and what each added, changed
and removed."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from good_tide.core.history import history_id
from good_tide.core.identifiers import HistoryId, MachineId, SnapshotId
from good_tide.core.tide import Tide
from good_tide.storage.catalog_file import CatalogFile, damage_noted, mended


class CatalogSnapshots(CatalogFile):
    """What is asked of the snapshots in a catalog."""

    @damage_noted
    def history(self, machine: MachineId) -> HistoryId:
        """Stands for the snapshots of a machine and their order (``core.history.history_id``): spans count
        them, and mean other ones when this is another."""
        with self._lock:
            version = (machine, self._db.execute("PRAGMA data_version").fetchone()[0], self._db.total_changes)
            if self._stamp is None or self._stamp[0] != version:
                self._stamp = version, history_id(self.snapshot_ids(machine))
            return self._stamp[1]

    @damage_noted
    def snapshot_ids(self, machine: MachineId) -> list[SnapshotId]:
        """The snapshots of a machine in order of time."""
        with self._lock:
            return self._tide(machine, 0, ("name",)).name

    @damage_noted
    def has_snapshots(self, machine: MachineId) -> bool:
        """Whether there is a snapshot of a machine."""
        with self._lock:
            query = "SELECT 1 FROM snapshot WHERE machine = ? LIMIT 1"
            return self._db.execute(query, (self._machine(machine),)).fetchone() is not None

    @damage_noted
    def seq_of(self, machine: MachineId, name: SnapshotId) -> int:
        """The number of a machine's snapshot; 0 for one that it has not taken in."""
        with self._lock:
            query = "SELECT seq FROM snapshot WHERE name = ? AND machine = ?"
            row = self._db.execute(query, (name, self._machine(machine))).fetchone()
            return 0 if row is None else int(row[0])

    @damage_noted
    def machines(self) -> list[tuple[MachineId, str]]:
        """Identity and name of each machine with snapshots."""
        with self._lock:
            return list(self._db.execute("SELECT key, name FROM machine ORDER BY id"))

    def _machine(self, key: str) -> int:
        row = self._db.execute("SELECT id FROM machine WHERE key = ?", (key,)).fetchone()
        return -1 if row is None else int(row[0])

    @damage_noted
    def tide(self, machine: MachineId, after: int = 0) -> Tide:
        """What each snapshot of a machine added, changed and removed, in order of time, without so many of
        the first of them."""
        with self._lock:
            return self._tide(machine, after, Tide.__struct_fields__)

    def _tide(self, machine: MachineId, after: int, fields: Sequence[str]) -> Tide:
        """Some of the columns. SQLite makes them in its own code, as JSON, in half the time in which rows
        come one by one; it keeps the order of what it is given (the aggregate sees the rows as the inner
        query has them)."""
        rows = f"SELECT {', '.join(fields)} FROM snapshot WHERE machine = ? AND seq > ? ORDER BY seq"
        columns = ", ".join(f"json_group_array({field})" for field in fields)
        made = self._db.execute(f"SELECT {columns} FROM ({rows})", (self._machine(machine), after)).fetchone()
        return Tide(**{field: msgspec.json.decode(one) for field, one in zip(fields, made, strict=True)})

    @damage_noted
    def stored_each(self, machine: MachineId, begin: int, length: int) -> list[tuple[int, int]]:
        """Stored bytes that the snapshots of a machine added in each stretch of time, with when it begins, in
        order of time; stretches without any are left out.

        :param begin: of one of the stretches, and ``length`` of each, nanoseconds since 1970 UTC.
        """
        query = """SELECT ?2 + (time - ?2) / ?3 * ?3 AS stretch, sum(stored) FROM snapshot WHERE machine = ?1
            GROUP BY stretch ORDER BY stretch"""
        with self._lock:
            return self._db.execute(query, (self._machine(machine), begin, length)).fetchall()

    @mended
    def names(self) -> set[str]:
        """Names of the snapshots it has taken in."""
        with self._lock:
            names = self._db.execute("SELECT json_group_array(name) FROM snapshot").fetchone()[0]
            return msgspec.json.decode(names, type=set[str])

    @mended
    def count(self) -> int:
        """How many snapshots it has taken in."""
        with self._lock:
            found: int = self._db.execute("SELECT count(*) FROM snapshot").fetchone()[0]
            return found
