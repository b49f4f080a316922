"""Summaries: what is known of many snapshots from one small file, so that a long history is not read snapshot
by snapshot to know when they were taken. ``docs/format.md`` ("Summaries") gives the bytes.

Only a cache, on the store: what a summary says counts for snapshots that are there, those that are in none
are read themselves, and a summary that is damaged or gone is made anew. Who writes one reads nobody's mark:
two machines that do so at once write the same twice.
"""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterable, Iterator, Sequence, Set

import msgspec

from good_tide.core.errors import DamageError, NotInPlaceError, PlaceError
from good_tide.core.identifiers import MachineId, SnapshotId
from good_tide.core.records import Brief, Snapshot
from good_tide.storage.copies import Doubled
from good_tide.storage.envelope import FileKind
from good_tide.storage.folders import SNAPSHOT_FOLDER, own_names
from good_tide.storage.store import Store
from good_tide.storage.summary_rows import SummaryRows

SUMMARY_FOLDER = "summaries"
_EACH = 256
"""Snapshots that are in no summary before one is written."""
_MOST = 4096
"""Snapshots in a summary."""
_MOST_SMALL = 16
"""Summaries with less than half of that, before they are joined."""


@contextlib.contextmanager
def one_look(store: Store) -> Iterator[None]:
    """List the snapshots once for all that this thread asks within: tens of thousands of names lie in a long
    history. What it publishes meanwhile counts, what others do is seen by the next look. Within another look
    it is one anew, and after ten seconds too.

    Second copies are listed only where a snapshot has gone that a summary, the look around this one, or who
    asks knows: that one was released, or is left as a copy.

    Raises:
        PlaceError: the disk gives nothing any more.
    """
    look = store.look
    look.depth += 1
    try:
        look.saw(_listed(store, look.names or ()))
        yield
    finally:
        look.depth -= 1
        if not look.depth:
            look.names = None


def _listed(store: Store, known: Collection[str]) -> set[SnapshotId]:
    return listed_names(store, known, *(rows.names for rows in _read(store)))


def listed_names(store: Store, *known: Collection[str]) -> set[SnapshotId]:
    """The snapshots that are there. Second copies, of which a store has as many, are listed only where one of
    those that are known has gone: it was released, or is left as a copy.

    Raises:
        PlaceError: the disk gives nothing any more.
    """
    if not isinstance(store.place, Doubled):
        return set(store.snapshot_ids())
    names = set(map(SnapshotId, own_names(store.place.single.names(SNAPSHOT_FOLDER))))
    return names if all(map(names.issuperset, known)) else set(store.snapshot_ids())


def snapshot_names(store: Store, known: Collection[str] = ()) -> set[SnapshotId]:
    """All snapshots, readable or not; those of the look that goes on in this thread, if one does. Not to be
    changed.

    :param known: those from whose absence something follows: with one that seems gone, all is listed anew.

    Raises:
        PlaceError: the disk gives nothing any more.
    """
    look = store.look
    if look.names is None:
        return set(store.snapshot_ids())
    if look.is_old:
        look.saw(_listed(store, look.names))
    if not look.names.issuperset(known):
        look.saw(set(store.snapshot_ids()))
    return look.names


def known_snapshots(store: Store) -> tuple[list[Snapshot], list[DamageError]]:
    """All snapshots in order of time, read only where no summary knows them; and what is wrong with those
    that cannot be read.

    Raises:
        PlaceError: the disk gives nothing any more.
    """
    present = snapshot_names(store)
    briefs = _briefs(store, present)
    found, damage = few_snapshots(store, present - briefs.keys())
    found += [_known(store, brief) for brief in briefs.values()]
    found.sort(key=_by_time)
    return found, damage


def few_snapshots(store: Store, names: Iterable[SnapshotId]) -> tuple[list[Snapshot], list[DamageError]]:
    """Some snapshots in order of time, each of them read; and what is wrong with those that cannot be.

    Raises:
        PlaceError: the disk gives nothing any more.
    """
    damage: list[DamageError] = []
    return sorted(_readable(store, sorted(names), damage), key=_by_time), damage


def _by_time(snapshot: Snapshot) -> tuple[int, SnapshotId]:
    return snapshot.brief.time, snapshot.brief.id


def last_snapshot(store: Store, machine: MachineId) -> Snapshot | None:
    """The newest readable snapshot of a machine.

    Raises:
        PlaceError: the disk gives nothing any more.
    """
    present, summaries, damaged = snapshot_names(store), _read(store), _damaged(store)
    fresh = present.difference(*(rows.names for rows in summaries))
    store.unsummarised = len(fresh - damaged)
    read = few_snapshots(store, fresh | (present & damaged))[0]
    newest = next((one for one in reversed(read) if one.machine.id == machine), None)
    for rows in sorted(summaries, key=lambda one: one.until, reverse=True):
        if newest is not None and rows.until < newest.time:
            break
        names = (name for _, name in rows.newest_of(machine) if name in present and name not in damaged)
        known = next(_readable(store, names), None)
        newest = max((one for one in (newest, known) if one is not None), key=_by_time, default=None)
    return newest


def _readable(
    store: Store, names: Iterable[SnapshotId], damage: list[DamageError] | None = None
) -> Iterator[Snapshot]:
    """Some snapshots, read, without those that are gone, and those that cannot be read, which is noted as
    damage.

    :param damage: takes what is wrong with those.
    """
    for name in names:
        try:
            yield store.read_snapshot(name)
        except NotInPlaceError:
            continue
        except DamageError as error:
            store.damage.note(error)
            if damage is not None:
                damage.append(error)


def summarise(store: Store, owner: str) -> None:
    """Write what many snapshots are that were in no summary when the store was last asked, and join small
    summaries. That the disk does not take it does no harm.

    :param owner: begins the names of temporary files.
    """
    with contextlib.suppress(PlaceError, DamageError):
        if store.unsummarised < _EACH:
            return
        present = snapshot_names(store)
        briefs = _briefs(store, present)
        fresh = present - briefs.keys()
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


def _briefs(store: Store, present: Set[SnapshotId]) -> dict[SnapshotId, Brief]:
    """What summaries say of some snapshots, without those that are known to be damaged."""
    there = present - _damaged(store)
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


def _damaged(store: Store) -> frozenset[SnapshotId]:
    """What is known to be damaged."""
    return frozenset(SnapshotId(file.rpartition("/")[2]) for file in store.damage.files)


def _with_folders(store: Store, snapshot: Snapshot) -> Brief:
    paths = tuple(root.name for root in store.roots(snapshot.record))
    return msgspec.structs.replace(snapshot.brief, folders=paths)


def _write(store: Store, briefs: Sequence[Brief], owner: str) -> None:
    rows = SummaryRows.of(briefs)
    written = store.write_sealed(FileKind.SUMMARY, SUMMARY_FOLDER, rows.encoded(), owner)
    store.summaries[written.name] = rows
