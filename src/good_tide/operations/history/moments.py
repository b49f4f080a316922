"""How the moments of a history are called as folders."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from good_tide.core.identifiers import MachineId, SnapshotId
from good_tide.core.records import Snapshot
from good_tide.core.words import local
from good_tide.storage.store import Store
from good_tide.storage.summaries import known_snapshots


def own_snapshots(store: Store, machine: MachineId) -> list[Snapshot]:
    """The snapshots of one history, oldest first."""
    return [one for one in known_snapshots(store)[0] if one.machine.id == machine]


def moment_names(snapshots: Iterable[Snapshot]) -> dict[SnapshotId, bytes]:
    """The name of each moment: its local time to the minute, or to the second where that is taken, or with a
    number where that is taken too."""
    taken: set[bytes] = set()
    return {one.id: free_name(one.time, b"", taken) for one in snapshots}


def free_name(moment: int, ending: bytes, taken: set[bytes]) -> bytes:
    """A name by a time that is not taken, and is from now on.

    :param moment: ns since 1970 UTC.
    """
    when = local(moment)
    wanted: Sequence[str] = (f"{when:%Y-%m-%d %H.%M}", f"{when:%Y-%m-%d %H.%M.%S}")
    number = 1
    while True:
        for text in wanted:
            name = text.encode() + ending
            if name not in taken:
                taken.add(name)
                return name
        number += 1
        wanted = (f"{when:%Y-%m-%d %H.%M.%S} ({number})",)
