"""The versions of one path."""

from __future__ import annotations

import os
from collections.abc import Sequence

import msgspec

from good_tide.core.entries import Kind
from good_tide.core.history import Span, TidePoint
from good_tide.core.identifiers import MachineId, SnapshotId
from good_tide.storage.catalog import Catalog


class Version(msgspec.Struct, frozen=True):
    """One version of a path. Times in nanoseconds since 1970 UTC, size in bytes; ``snapshots`` it stood in,
    from ``first`` to ``last``."""

    first_seen: int
    last_seen: int
    first: SnapshotId
    last: SnapshotId
    size: int
    modified: int
    snapshots: int


class PathHistory(msgspec.Struct, frozen=True):
    """All versions of a path, oldest first; ``gone_since`` is the first snapshot without it, None if it
    stands now."""

    versions: tuple[Version, ...]
    gone_since: int | None


def path_history(catalog: Catalog, path: bytes, machine: MachineId) -> PathHistory | None:
    """The versions of an absolute path on a machine; None if it never had it."""
    with catalog.held_still():
        spans = path_spans(catalog, machine, path)
        return _timed(spans, catalog.tide(machine)) if spans else None


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


def version_before(spans: Sequence[Span], current: Span | None) -> Span | None:
    """The version before one, of those that could be read."""
    earlier = [
        span
        for span in spans
        if current is not None and span.first < current.first and span.kind != Kind.LEFT_OUT
    ]
    return earlier[-1] if earlier else None


def _timed(spans: list[Span], tide: list[TidePoint]) -> PathHistory:
    newest = tide[-1].seq
    points = {point.seq: point for point in tide}
    versions = []
    for span in spans:
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
            )
        )
    end = spans[-1].last
    return PathHistory(tuple(versions), None if end is None else points[end + 1].time)
