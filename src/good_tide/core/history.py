"""Values of history: spans, lifelines, the tide. Snapshots of one machine are counted from 1 in order of time
(``seq``)."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence

import msgspec

from good_tide.core.identifiers import HistoryId, SnapshotId

_FIRST_STEP_BACK = 64
"""Snapshots by which the second part of what is known is shorter: what a ladder thins lies in the last
days."""


NO_HISTORY = HistoryId("")


def history_id(snapshots: Iterable[SnapshotId]) -> HistoryId:
    """What stands for some snapshots and their order."""
    made = _hasher()
    made.update("".join(snapshots).encode())
    return HistoryId(made.hexdigest())


def _hasher() -> hashlib.blake2b:
    return hashlib.blake2b(digest_size=8)


class KnownHistory(msgspec.Struct, frozen=True, array_like=True):
    """So many of the first snapshots of a history, and what stands for them."""

    count: int
    history: HistoryId


def known_parts(snapshots: Sequence[SnapshotId]) -> tuple[KnownHistory, ...]:
    """What somebody who has the snapshots of a history says of it, longest first: all of it, and ever shorter
    beginnings, so that whoever has it as it is now can tell how much of it still holds."""
    counts, back = [], 0
    while back < len(snapshots):
        counts.append(len(snapshots) - back)
        back = back * 4 or _FIRST_STEP_BACK
    known, before, begun = [], 0, _hasher()
    for count in reversed(counts):
        begun.update("".join(snapshots[before:count]).encode())
        known.append(KnownHistory(count, HistoryId(begun.hexdigest())))
        before = count
    return tuple(reversed(known))


def still_holds(known: Iterable[KnownHistory], snapshots: Sequence[SnapshotId]) -> int:
    """How many of the first snapshots of a history as it is now somebody knows."""
    return next(
        (
            one.count
            for one in known
            if one.count <= len(snapshots) and history_id(snapshots[: one.count]) == one.history
        ),
        0,
    )


class Span(msgspec.Struct, frozen=True, array_like=True):
    """One version of a name: the snapshots ``first`` to ``last`` it stood in; ``last`` None: it stands in the
    newest.

    :param kind: an ``entries.Kind`` letter.
    :param size: bytes.
    :param modified: nanoseconds since 1970 UTC.
    :param identity: equal for equal content.
    """

    kind: str
    size: int
    modified: int
    identity: bytes
    first: int
    last: int | None

    def stood_at(self, seq: int) -> bool:
        """Whether it stood in a snapshot."""
        return self.first <= seq and (self.last is None or seq <= self.last)


class EarlierName(msgspec.Struct, frozen=True, array_like=True):
    """What a file was called before it was renamed or moved, and the versions it had under that path."""

    path: bytes
    spans: tuple[Span, ...]


class Lifeline(msgspec.Struct, frozen=True, array_like=True):
    """Everything that ever stood under one name in a folder; ``inside`` are the snapshots with changes inside
    a folder. ``earlier`` are the names that a file had before, oldest first; ``later`` is the path that it
    went on under."""

    name: bytes
    spans: tuple[Span, ...]
    inside: tuple[int, ...] = ()
    earlier: tuple[EarlierName, ...] = ()
    later: bytes = b""

    @property
    def kind(self) -> str:
        """Kind of the latest version."""
        return self.spans[-1].kind

    @property
    def gone(self) -> bool:
        """Whether nothing stands under the name in the newest snapshot."""
        return self.spans[-1].last is not None

    def at(self, seq: int) -> Span | None:
        """The version that stood in a snapshot, or None."""
        return next((span for span in self.spans if span.stood_at(seq)), None)

    def life(self, path: bytes) -> list[tuple[bytes, Span]]:
        """All versions with the paths they stood under, those of earlier names first.
        :param path: its own."""
        before = [(one.path, span) for one in self.earlier for span in one.spans]
        return [*before, *((path, span) for span in self.spans)]

    def version_number(self, span: Span) -> int:
        """Counting from 1 the versions that could be read; 0 for a left-out stretch."""
        readable = [one for one in self.spans if one.kind != "x"]
        return readable.index(span) + 1 if span in readable else 0


class TidePoint(msgspec.Struct, frozen=True, array_like=True):
    """One snapshot on the tide chart. ``time`` in nanoseconds since 1970 UTC; counts are files, sizes
    bytes."""

    seq: int
    name: SnapshotId
    time: int
    label: str
    files: int
    bytes: int
    stored: int
    gaps: int
    added: int
    changed: int
    removed: int
    added_bytes: int
    changed_bytes: int
    removed_bytes: int
