"""All that changed between two moments, snapshot by snapshot: from the catalog, without reading listings."""

from __future__ import annotations

import enum
import os
from collections.abc import Iterator
from typing import NamedTuple

from good_tide.core.entries import Kind
from good_tide.core.history import Lifeline, Span, TidePoint
from good_tide.core.identifiers import MachineId
from good_tide.storage.catalog import Catalog


class Became(enum.StrEnum):
    """What happened to a path."""

    NEW = "new"
    CHANGED = "changed"
    GONE = "gone"
    MOVED = "moved"
    """The content went under exactly one path, and came under exactly this one, in the same snapshot."""


class Change(NamedTuple):
    """One change, noticed by a snapshot. Sizes in bytes, of files; ``modified`` in nanoseconds since 1970
    UTC.

    :param was: the path before, of what was moved.
    """

    point: TidePoint
    path: bytes
    became: Became
    kind: str
    before: int | None
    after: int | None
    modified: int
    was: bytes = b""


class _Found(NamedTuple):
    seq: int
    path: bytes
    before: Span | None
    after: Span | None


def changes(
    catalog: Catalog, machine: MachineId, folder: bytes | None, begin: int, end: int
) -> Iterator[Change]:
    """What changed in the snapshots from one time to another, in their order, each by path. What the first
    snapshot of a history has did not change.

    :param folder: in which, however deep, or a single file; None: in all that is covered.
    :param begin: nanoseconds since 1970 UTC; ``end`` is no longer among it.
    """
    points = {one.seq: one for one in catalog.tide(machine) if begin <= one.time < end and one.seq > 1}
    found = [
        one
        for path, line in lines_below(catalog, machine, folder)
        for one in _of_line(path, line)
        if one.seq in points
    ]
    found.sort(key=lambda one: (one.seq, one.path))
    moved = _moves(found)
    left = {(one.seq, was) for one in found if (was := moved.get((one.seq, one.path)))}
    for seq, path, before, after in found:
        if (seq, path) in left and after is None:
            continue
        was = moved.get((seq, path), b"")
        became = (
            Became.MOVED
            if was
            else Became.NEW
            if before is None
            else Became.GONE
            if after is None
            else Became.CHANGED
        )
        now = after or before
        assert now is not None
        yield Change(points[seq], path, became, now.kind, _size(before), _size(after), now.modified, was)


def _size(span: Span | None) -> int | None:
    return span.size if span is not None and span.kind == Kind.FILE else None


def lines_below(
    catalog: Catalog, machine: MachineId, folder: bytes | None
) -> Iterator[tuple[bytes, Lifeline]]:
    """Everything that was ever in a folder, with its path; a file itself."""
    if folder is None:
        for root in catalog.roots(machine):
            yield root.name, root
            yield from lines_below(catalog, machine, root.name)
        return
    if catalog.folder(machine, folder) is None:
        above, name = os.path.split(folder)
        parent = catalog.folder(machine, above)
        own = catalog.lifelines(parent) if parent is not None else []
        yield from ((folder, line) for line in own if line.name == name)
    waiting = [folder]
    while waiting:
        at = waiting.pop()
        number = catalog.folder(machine, at)
        for line in catalog.lifelines(number) if number is not None else ():
            path = at.rstrip(b"/") + b"/" + line.name
            yield path, line
            if any(span.kind == Kind.FOLDER for span in line.spans):
                waiting.append(path)


def _of_line(path: bytes, line: Lifeline) -> Iterator[_Found]:
    """What happened to one path; what could not be read for a while did not change by that."""
    spans = [span for span in line.spans if span.kind != Kind.LEFT_OUT]
    for number, span in enumerate(spans):
        before = spans[number - 1] if number else None
        follows = before is not None and before.last is not None and before.last + 1 >= span.first
        if not (follows and before is not None and before.kind == span.kind == Kind.FOLDER):
            yield _Found(span.first, path, before if follows else None, span)
        later = spans[number + 1] if number + 1 < len(spans) else None
        if span.last is not None and (later is None or later.first > span.last + 1):
            yield _Found(span.last + 1, path, span, None)


def _moves(found: list[_Found]) -> dict[tuple[int, bytes], bytes]:
    """Where a content came from that went under exactly one path and came under exactly one in the same
    snapshot: by the snapshot and the new path."""
    gone: dict[tuple[int, bytes], list[bytes]] = {}
    new: dict[tuple[int, bytes], list[bytes]] = {}
    for seq, path, before, after in found:
        if after is None and before is not None and before.kind == Kind.FILE and before.size:
            gone.setdefault((seq, before.identity), []).append(path)
        elif before is None and after is not None and after.kind == Kind.FILE and after.size:
            new.setdefault((seq, after.identity), []).append(path)
    return {
        (seq, paths[0]): gone[seq, identity][0]
        for (seq, identity), paths in new.items()
        if len(paths) == 1 and len(gone.get((seq, identity), ())) == 1
    }
