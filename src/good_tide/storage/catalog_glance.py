"""A glance into the local catalog of a store: only reading, without the store, and nothing where there is
none yet."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import quote

from good_tide.core.identifiers import MachineId, SnapshotId
from good_tide.core.tide import Tide

_WAIT_SECONDS = 2.0


def glance_names(file: Path) -> frozenset[SnapshotId]:
    """Names of the snapshots that a catalog knows."""
    return frozenset(SnapshotId(name) for (name,) in _rows(file, "SELECT name FROM snapshot", ()))


def glance_snapshot(file: Path, name: str) -> tuple[str, int] | None:
    """The machine and the time of a snapshot, None for one that the catalog does not know."""
    rows = _rows(
        file,
        "SELECT m.key, s.time FROM snapshot s JOIN machine m ON m.id = s.machine WHERE s.name = ?",
        (name,),
    )
    return (str(rows[0][0]), int(rows[0][1])) if rows else None


def glance_tide(file: Path, machine: MachineId, since: int) -> Tide:
    """A machine's snapshots from a moment on, and its newest whenever that was; oldest first, as
    ``Catalog.tide`` gives them."""
    columns = ", ".join(f"s.{name}" for name in Tide.__struct_fields__)
    before = "SELECT seq FROM snapshot WHERE machine = m.id AND time < ?2 ORDER BY seq DESC LIMIT 1"
    newest = "SELECT max(seq) FROM snapshot WHERE machine = m.id"
    query = f"""SELECT {columns} FROM snapshot s JOIN machine m ON m.id = s.machine WHERE m.key = ?1
        AND s.seq >= min(coalesce(({before}), 0) + 1, ({newest})) ORDER BY s.seq"""
    return Tide.of_rows(_rows(file, query, (machine, since)))


def glance_ended(file: Path, machine: MachineId) -> Iterator[tuple[bytes, SnapshotId]]:
    """Path, and name of the last snapshot that held it, of each version of a machine's files that no longer
    stands."""
    folders = {
        number: (parent, name)
        for number, parent, name in _rows(
            file,
            "SELECT f.id, f.parent, f.name FROM folder f JOIN machine m ON m.id = f.machine WHERE m.key = ?",
            (machine,),
        )
    }
    paths: dict[int, bytes] = {0: b""}

    def path(number: int) -> bytes:
        if number not in paths:
            parent, name = folders[number]
            paths[number] = name if not parent else path(parent) + b"/" + name
        return paths[number]

    query = """SELECT span.folder, span.name, s.name FROM span JOIN folder f ON f.id = span.folder JOIN
        machine m ON m.id = f.machine
        JOIN snapshot s ON s.machine = m.id AND s.seq = span.last WHERE m.key = ? AND span.kind = 'f'"""
    for folder, name, snapshot in _rows(file, query, (machine,)):
        yield path(folder) + b"/" + name, SnapshotId(snapshot)


def _rows(file: Path, query: str, values: Sequence[object]) -> list[tuple[Any, ...]]:
    """Rows of a catalog; none where it is missing, being made, or damaged: then it is made anew when its
    store is next opened."""
    if not file.is_file():
        return []
    for how in (
        "mode=ro",
        "mode=ro&immutable=1",
    ):  # where the disk is full SQLite cannot make the file that it shares with writers
        with (
            contextlib.suppress(sqlite3.Error),
            contextlib.closing(
                sqlite3.connect(f"file:{quote(str(file))}?{how}", uri=True, timeout=_WAIT_SECONDS)
            ) as db,
        ):
            return db.execute(query, values).fetchall()
    return []
