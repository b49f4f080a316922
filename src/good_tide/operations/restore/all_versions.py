"""All versions of files between two moments, to be handed out: each by a name of its own."""

from __future__ import annotations

import os
from collections.abc import Iterator

from good_tide.core.entries import Kind
from good_tide.core.errors import DamageError, PersonError
from good_tide.core.identifiers import MachineId
from good_tide.core.translation import tr
from good_tide.operations.history.browse import entry_at
from good_tide.operations.history.changes import lines_below
from good_tide.operations.history.moments import free_name
from good_tide.operations.restore.archive import Item
from good_tide.operations.stores.opened import snapshot_of
from good_tide.storage.catalog import Catalog
from good_tide.storage.store import Store


def version_items(
    store: Store,
    catalog: Catalog,
    machine: MachineId,
    path: bytes,
    times: tuple[int, int],
    problems: list[tuple[bytes, str]],
) -> Iterator[Item]:
    """Every version of a file, or of all files in a folder, that stood between two times: a file becomes a
    folder of its name, in which each version is called by the first moment that has it.

    :param times: nanoseconds since 1970 UTC; the second is no longer among it.
    :param problems: takes versions that cannot be found in the store, with why.

    Raises:
        PersonError: nothing of it stood then.
    """
    points = {one.seq: one for one in catalog.tide(machine)}
    found = False
    for where, line in lines_below(catalog, machine, path):
        taken: set[bytes] = set()
        ending = os.path.splitext(line.name)[1]
        for span in line.spans:
            ended = points.get(span.last + 1) if span.last is not None else None
            begins_late = points[span.first].time >= times[1]
            if span.kind != Kind.FILE or begins_late or (ended is not None and ended.time <= times[0]):
                continue
            found = True
            point = points[span.first]
            name = where + b"/" + free_name(point.time, ending, taken)
            try:
                snapshot = snapshot_of(store, point.name)
                yield Item(snapshot, where, name, entry_at(store, snapshot, where))
            except DamageError as error:
                problems.append((name, error.what))
    if not found:
        raise PersonError(
            tr("No version of {path} stood then").format(path=os.fsdecode(path)),
            tr("See “good-tide versions” for when there were some"),
        )
