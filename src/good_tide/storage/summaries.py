"""Summaries: what is known of many snapshots from one small file, so that a long history is not read snapshot
by snapshot to know when they were taken. ``docs/format.md`` ("Summaries") gives the bytes.

Only a cache, on the store: what a summary says counts for snapshots that are there, those that are in none
are read themselves, and a summary that is damaged or gone is made anew. Who writes one reads nobody's mark:
two machines that do so at once write the same twice.
"""

from __future__ import annotations

import contextlib
import heapq
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from good_tide.core.errors import DamageError, NotInPlaceError, PlaceError
from good_tide.core.identifiers import MachineId, SnapshotId
from good_tide.core.records import Brief, Snapshot
from good_tide.storage.envelope import FileKind
from good_tide.storage.store import Store
from good_tide.storage.summary_rows import SummaryRows

SUMMARY_FOLDER = "summaries"
_EACH = 256
"""Snapshots that are in no summary before one is written."""
_MOST = 4096
"""Snapshots in a summary."""
_MOST_SMALL = 16
"""Summaries with less than half of that, before they are joined."""


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
    present, summaries = store.snapshot_ids(), _read(store)
    there = _undamaged(store, present)
    fresh = there.difference(*(rows.names for rows in summaries))
    store.unsummarised = len(fresh)
    unknown = sorted({*fresh, *(set(present) - there)})
    own = [one.brief for one in _readable(store, unknown)]
    times = [sorted(((one.time, one.id) for one in own if one.machine.id == machine), reverse=True)]
    times += [rows.newest_of(machine) for rows in summaries]
    newest_first = heapq.merge(*times, reverse=True)
    known = {*there, *unknown}
    return next(_readable(store, (name for _, name in newest_first if name in known)), None)


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
        known = [brief for name in joined for brief in store.summaries[name].briefs if brief.id in briefs]
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
    there = _undamaged(store, present)
    found = {brief.id: brief for rows in _read(store) for brief in rows.briefs if brief.id in there}
    store.unsummarised = len(there) - len(found)
    return found


def _read(store: Store) -> list[SummaryRows]:
    """All summaries; nothing is in one that is damaged."""
    names = store.own_names(SUMMARY_FOLDER)
    for name in names:
        if name not in store.summaries:
            store.summaries[name] = SummaryRows.of([])
            file = f"{SUMMARY_FOLDER}/{name}"
            with contextlib.suppress(DamageError, NotInPlaceError):
                store.summaries[name] = SummaryRows.read(store.read_known(FileKind.SUMMARY, file), file)
    return [store.summaries[name] for name in names]


def _undamaged(store: Store, present: Iterable[SnapshotId]) -> set[SnapshotId]:
    """Some snapshots, without those that are known to be damaged."""
    damaged = {SnapshotId(file.rpartition("/")[2]) for file in store.damage.files}
    return set(present) - damaged


def _with_folders(store: Store, snapshot: Snapshot) -> Brief:
    paths = tuple(root.name for root in store.roots(snapshot.record))
    return msgspec.structs.replace(snapshot.brief, folders=paths)


def _write(store: Store, briefs: Sequence[Brief], owner: str) -> None:
    rows = SummaryRows.of(briefs)
    written = store.write_sealed(FileKind.SUMMARY, SUMMARY_FOLDER, rows.encoded(), owner)
    store.summaries[written.name] = rows
