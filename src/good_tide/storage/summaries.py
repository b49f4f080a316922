"""Summaries: what is known of many snapshots from one small file, so that a long history is not read snapshot
by snapshot to know when they were taken. ``docs/format.md`` ("Summaries") gives the bytes.

Only a cache, on the store: what a summary says counts for snapshots that are there, those that are in none
are read themselves, and a summary that is damaged or gone is made anew. Who writes one reads nobody's mark:
two machines that do so at once write the same twice.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from good_tide.core.errors import DamageError, NotInPlaceError, PlaceError
from good_tide.core.identifiers import MachineId, SnapshotId
from good_tide.core.records import Brief, Machine, Snapshot, Tally
from good_tide.core.translation import tr
from good_tide.storage.decoding import unpacked
from good_tide.storage.envelope import FileKind
from good_tide.storage.store import Store

SUMMARY_FOLDER = "summaries"
_EACH = 256
"""Snapshots that are in no summary before one is written."""
_MOST = 4096
"""Snapshots in a summary."""
_MOST_SMALL = 16
"""Summaries with less than half of that, before they are joined."""


class _Row(msgspec.Struct, array_like=True, frozen=True):
    name: bytes
    time: int
    machine: int
    label: str
    gaps: int
    folders: int
    tally: Tally


class _Summary(msgspec.Struct, array_like=True, frozen=True):
    """Rows name their machine and their covered folders by the numbers in these tables."""

    machines: list[Machine]
    folders: list[tuple[bytes, ...]]
    rows: list[_Row]


def known_snapshots(store: Store) -> tuple[list[Snapshot], list[DamageError]]:
    """All snapshots in order of time, read only where no summary knows them; and what is wrong with those
    that cannot be read.

    Raises:
        PlaceError: the disk gives nothing any more.
    """
    present = store.snapshot_ids()
    briefs = _briefs(store, present)
    found: list[Snapshot] = []
    damage: list[DamageError] = []
    for name in present:
        try:
            brief = briefs.get(name)
            found.append(_known(store, brief) if brief is not None else store.read_snapshot(name))
        except NotInPlaceError:
            continue
        except DamageError as error:
            store.damage.note(error)
            damage.append(error)
    found.sort(key=lambda snapshot: (snapshot.brief.time, snapshot.brief.id))
    return found, damage


def last_snapshot(store: Store, machine: MachineId) -> Snapshot | None:
    """The newest readable snapshot of a machine.

    Raises:
        PlaceError: the disk gives nothing any more.
    """
    present = store.snapshot_ids()
    briefs = _briefs(store, present)
    own = [brief for brief in briefs.values() if brief.machine.id == machine]
    own += [one.brief for one in _readable(store, [name for name in present if name not in briefs])]
    newest_first = sorted(own, key=lambda brief: (brief.time, brief.id), reverse=True)
    found = _readable(store, [brief.id for brief in newest_first if brief.machine.id == machine])
    return next(found, None)


def _readable(store: Store, names: Iterable[SnapshotId]) -> Iterator[Snapshot]:
    """Some snapshots, read, without those that cannot be read, which is noted as damage, or are gone."""
    for name in names:
        try:
            yield store.read_snapshot(name)
        except NotInPlaceError:
            continue
        except DamageError as error:
            store.damage.note(error)


def summarise(store: Store, owner: str) -> None:
    """Write what many snapshots are that were in no summary when the store was last asked, and join small
    summaries. That the disk does not take it does no harm.

    :param owner: begins the names of temporary files.
    """
    with contextlib.suppress(PlaceError, DamageError):
        if store.unsummarised < _EACH:
            return
        present = store.snapshot_ids()
        briefs = _briefs(store, present)
        fresh = [name for name in present if name not in briefs]
        small = [name for name, rows in store.summaries.items() if len(rows) < _MOST // 2]
        joined = small if len(small) >= _MOST_SMALL else []
        known = [brief for name in joined for brief in store.summaries[name] if brief.id in briefs]
        read = [_with_folders(store, snapshot) for snapshot in _readable(store, fresh)]
        every = sorted({brief.id: brief for brief in (*known, *read)}.values(), key=lambda one: one.time)
        for begin in range(0, len(every), _MOST):
            _write(store, every[begin : begin + _MOST], owner)
        for name in joined:
            store.place.remove(f"{SUMMARY_FOLDER}/{name}")
            del store.summaries[name]


def _known(store: Store, brief: Brief) -> Snapshot:
    return Snapshot(brief, None, lambda: store.read_snapshot(brief.id).record)


def _briefs(store: Store, present: Iterable[SnapshotId]) -> dict[SnapshotId, Brief]:
    """What summaries say of some snapshots, without those that are known to be damaged."""
    names = store.own_names(SUMMARY_FOLDER)
    for name in names:
        if name not in store.summaries:
            store.summaries[name] = _rows(store, name)
    there = set(present)
    if store.damage.files:
        there -= {SnapshotId(file.rpartition("/")[2]) for file in store.damage.files}
    found = {brief.id: brief for name in names for brief in store.summaries[name] if brief.id in there}
    store.unsummarised = len(there) - len(found)
    return found


def _rows(store: Store, name: str) -> list[Brief]:
    """What is in a summary; nothing in one that is damaged."""
    file = f"{SUMMARY_FOLDER}/{name}"
    with contextlib.suppress(DamageError, NotInPlaceError, IndexError):
        said = unpacked(store.read_known(FileKind.SUMMARY, file), _Summary, file, tr("a summary"))
        return [
            Brief(
                SnapshotId(row.name.hex()),
                row.time,
                said.machines[row.machine],
                row.tally,
                row.label,
                row.gaps,
                said.folders[row.folders],
            )
            for row in said.rows
        ]
    return []


def _with_folders(store: Store, snapshot: Snapshot) -> Brief:
    paths = tuple(root.name for root in store.roots(snapshot.record))
    return msgspec.structs.replace(snapshot.brief, folders=paths)


def _write(store: Store, briefs: Sequence[Brief], owner: str) -> None:
    machines = list({brief.machine: None for brief in briefs})
    folders = list({brief.folders or (): None for brief in briefs})
    machine_at = {machine: number for number, machine in enumerate(machines)}
    folders_at = {paths: number for number, paths in enumerate(folders)}
    rows = [
        _Row(
            bytes.fromhex(one.id),
            one.time,
            machine_at[one.machine],
            one.label,
            one.gaps,
            folders_at[one.folders or ()],
            one.tally,
        )
        for one in briefs
    ]
    plain = msgspec.msgpack.encode(_Summary(machines, folders, rows))
    written = store.write_sealed(FileKind.SUMMARY, SUMMARY_FOLDER, plain, owner)
    store.summaries[written.name] = list(briefs)
