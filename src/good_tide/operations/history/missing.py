"""What is missing in a folder: what was there and is no longer on the disk, the topmost of it."""

from __future__ import annotations

import os
import time
from collections import deque

from good_tide.core.findings import Findings, FoundFolder
from good_tide.core.history import Lifeline
from good_tide.core.identifiers import MachineId
from good_tide.operations.history.path_history import path_spans
from good_tide.storage.catalog import Catalog


def missing_in(
    catalog: Catalog, machine: MachineId, folder: bytes, most: int, seconds: float = 4.0
) -> Findings:
    """What was ever in a folder, however deep, and is not on the disk now: at most so many things, what went
    last first. Of a folder that is missing only itself. What went since the newest snapshot is among it; a
    folder above covered ones has what is missing in them.

    :param seconds: after so long nothing more is looked for.
    """
    ends, more = time.monotonic() + seconds, False
    inside = [root for root in catalog.roots(machine) if root.name.startswith(folder.rstrip(b"/") + b"/")]
    found = {b"": [root for root in inside if not os.path.lexists(root.name)]}
    tops = [folder, *(root.name for root in inside if os.path.lexists(root.name))]
    waiting = deque((top, number) for top in tops if (number := catalog.folder(machine, top)) is not None)
    while waiting:
        if time.monotonic() > ends:
            more = True
            break
        at, number = waiting.popleft()
        there = _names(at)
        if there is None:
            continue
        names, folders = catalog.names_in(number)
        gone = names - there
        waiting.extend(
            (at.rstrip(b"/") + b"/" + name, below) for name, below in folders.items() if name in there
        )
        if gone:
            lines = [line for line in catalog.lifelines(number) if line.name in gone]
            found[at] = catalog.with_lives(machine, number, lines)
    count = sum(map(len, found.values()))
    return Findings(tuple(_newest(catalog, machine, found, most)), more or count > most)


def _names(folder: bytes) -> frozenset[bytes] | None:
    """What is in a folder on the disk: nothing where it is not there; None where it cannot be read, for what
    cannot be seen is not missing."""
    try:
        return frozenset(os.listdir(folder))
    except (FileNotFoundError, NotADirectoryError):
        return frozenset()
    except OSError:
        return None


def _newest(
    catalog: Catalog, machine: MachineId, found: dict[bytes, list[Lifeline]], most: int
) -> list[FoundFolder]:
    """The folders with what went last in them; no more than so many things in all."""
    ranked = sorted(
        ((_went(line), path, line) for path, lines in found.items() for line in lines),
        key=lambda one: (-one[0], one[1], one[2].name),
    )
    folders: dict[bytes, list[Lifeline]] = {}
    for _, path, line in ranked[:most]:
        folders.setdefault(path, []).append(line)
    return [
        FoundFolder(path, _own_line(catalog, machine, path), tuple(lines)) for path, lines in folders.items()
    ]


def _went(line: Lifeline) -> int:
    """The snapshot after which it was gone; one that stands went later than any."""
    last = line.spans[-1].last
    return 1 << 62 if last is None else last


def _own_line(catalog: Catalog, machine: MachineId, path: bytes) -> Lifeline | None:
    spans = path_spans(catalog, machine, path)
    return Lifeline(os.path.basename(path) or path, tuple(spans)) if spans else None
