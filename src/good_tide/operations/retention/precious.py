"""Files whose every version is kept: which snapshots are the last to hold one."""

from __future__ import annotations

import os
from pathlib import Path

from good_tide.core.coverage import Coverage
from good_tide.core.errors import PlaceError
from good_tide.core.identifiers import MachineId, SnapshotId
from good_tide.core.rules import Rule
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.operations.coverage.selecting import PathStates, home_folder
from good_tide.operations.stores.opening import Store, catalog_names, ended_versions, synced_catalog


def last_with_precious(store: Store, job: Job, machine: MachineId, cache: Path) -> frozenset[SnapshotId]:
    """Names of snapshots that are the last to hold a version of a precious file. The newest, which holds
    those that stand, is not named.

    Raises:
        PlaceError: the local catalog has not seen all snapshots yet, so that it is not known.
    """
    if not job.precious:
        return frozenset()
    identity = store.header.store
    if not set(store.snapshot_ids()) <= catalog_names(cache, identity):
        raise PlaceError(
            tr("History was not read to its end yet, and precious versions are in it"),
            tr("It is thinned when it was"),
        )
    coverage = Coverage([Rule(False, path=pattern) for pattern in job.precious], job.home or home_folder())
    states, found = PathStates(coverage), set()
    for path, snapshot in ended_versions(cache, identity, machine):
        text = os.fsdecode(path)
        covered = next((one for one in job.folders if text.startswith(one.rstrip("/") + "/")), None)
        if covered is None or snapshot in found:
            continue
        folder, name = os.path.split(text)
        state = states.of(folder, covered)
        if not state.open or coverage.is_out(coverage.files(state, [name], [0], [0])[0]):
            found.add(snapshot)
    return frozenset(found)


def precious_now(store: Store, job: Job, machine: MachineId, cache: Path) -> frozenset[SnapshotId]:
    """The same (``last_with_precious``); history that was not read yet is read first."""
    if not job.precious:
        return frozenset()
    synced_catalog(store, cache)[0].close()
    return last_with_precious(store, job, machine, cache)
