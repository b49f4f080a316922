"""The versions of one path."""

from __future__ import annotations

import os
from collections.abc import Sequence

import msgspec

from good_tide.core.entries import Kind
from good_tide.core.history import Lifeline, Span
from good_tide.core.identifiers import MachineId, SnapshotId
from good_tide.core.tide import Tide
from good_tide.storage.catalog import Catalog


class Version(msgspec.Struct, frozen=True):
    """One version of a file or folder, which stood under ``path`` then. Times in nanoseconds since 1970 UTC,
    size in bytes; ``snapshots`` it stood in, from ``first`` to ``last``."""

    first_seen: int
    last_seen: int
    first: SnapshotId
    last: SnapshotId
    size: int
    modified: int
    snapshots: int
    path: bytes


class PathHistory(msgspec.Struct, frozen=True):
    """All versions of a path, oldest first, those under earlier names among them; ``gone_since`` is the first
    snapshot without it, None if it stands now; ``later`` the path under which it went on, where that is
    sure."""

    versions: tuple[Version, ...]
    gone_since: int | None
    later: bytes = b""


def path_history(catalog: Catalog, path: bytes, machine: MachineId) -> PathHistory | None:
    """The versions of an absolute path on a machine; None if it never had it."""
    with catalog.held_still():
        line = _line(catalog, machine, path)
        return _timed(line, path, catalog.tide(machine)) if line is not None else None


def machines_with(catalog: Catalog, path: bytes) -> list[str]:
    """Names of the machines that ever had a path."""
    return [name for key, name in catalog.machines() if path_spans(catalog, key, path)]


def path_spans(catalog: Catalog, machine: MachineId, path: bytes) -> list[Span]:
    """The versions of an absolute path on one machine; empty if it never had it."""
    for root in catalog.roots(machine):
        if root.name == path:
            return list(root.spans)
    parent, name = os.path.split(path)
    folder = catalog.folder(machine, parent)
    return catalog.spans(folder, name) if folder is not None else []


def path_life(catalog: Catalog, machine: MachineId, path: bytes) -> list[tuple[bytes, Span]]:
    """The versions of an absolute path on one machine, each with the path it stood under then: a file that
    was renamed or moved had other ones. Empty if the machine never had it."""
    line = _line(catalog, machine, path)
    return [] if line is None else line.life(path)


def _line(catalog: Catalog, machine: MachineId, path: bytes) -> Lifeline | None:
    parent, name = os.path.split(path)
    folder, spans = catalog.folder(machine, parent), path_spans(catalog, machine, path)
    if not spans:
        return None
    line = Lifeline(name, tuple(spans))
    return line if folder is None else catalog.with_lives(machine, folder, [line])[0]


def version_before(life: Sequence[tuple[bytes, Span]], current: Span | None) -> tuple[bytes, Span] | None:
    """The version before one, of those that could be read, with the path it stood under."""
    earlier = [
        (path, span)
        for path, span in life
        if current is not None and span.first < current.first and span.kind != Kind.LEFT_OUT
    ]
    return earlier[-1] if earlier else None


def _timed(line: Lifeline, own: bytes, tide: Tide) -> PathHistory:
    newest = tide[-1].seq
    points = {point.seq: point for point in tide}
    versions = []
    for path, span in line.life(own):
        if span.kind == Kind.LEFT_OUT:
            continue
        last = newest if span.last is None else span.last
        first, newest_with = points[span.first], points[last]
        versions.append(
            Version(
                first.time,
                newest_with.time,
                first.name,
                newest_with.name,
                span.size,
                span.modified,
                last - span.first + 1,
                path,
            )
        )
    end = line.spans[-1].last
    return PathHistory(tuple(versions), None if end is None else points[end + 1].time, line.later)
