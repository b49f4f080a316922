"""Values of history: spans, lifelines, the tide. Snapshots of one machine are counted from 1 in order of time
(``seq``)."""

from __future__ import annotations

import msgspec


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


class Lifeline(msgspec.Struct, frozen=True, array_like=True):
    """Everything that ever stood under one name in a folder; ``inside`` are the snapshots with changes inside
    a folder."""

    name: bytes
    spans: tuple[Span, ...]
    inside: tuple[int, ...] = ()

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
        return next(
            (span for span in self.spans if span.first <= seq and (span.last is None or seq <= span.last)),
            None,
        )

    def version_number(self, span: Span) -> int:
        """Counting from 1 the versions that could be read; 0 for a left-out stretch."""
        readable = [one for one in self.spans if one.kind != "x"]
        return readable.index(span) + 1 if span in readable else 0


class TidePoint(msgspec.Struct, frozen=True, array_like=True):
    """One snapshot on the tide chart. ``time`` in nanoseconds since 1970 UTC; counts are files, sizes
    bytes."""

    seq: int
    name: str
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
