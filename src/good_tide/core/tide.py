"""The snapshots of a history by columns: of a long one there is no object for each snapshot until somebody
looks at it."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import Any, overload

import msgspec

from good_tide.core.history import TidePoint
from good_tide.core.identifiers import SnapshotId


class Tide(msgspec.Struct, frozen=True):
    """Snapshots in order of time: what a ``TidePoint`` says of each, with a list for each of its fields."""

    seq: list[int] = []
    name: list[SnapshotId] = []
    time: list[int] = []
    label: list[str] = []
    files: list[int] = []
    bytes: list[int] = []
    stored: list[int] = []
    gaps: list[int] = []
    added: list[int] = []
    changed: list[int] = []
    removed: list[int] = []
    added_bytes: list[int] = []
    changed_bytes: list[int] = []
    removed_bytes: list[int] = []

    @classmethod
    def of(cls, points: Iterable[TidePoint]) -> Tide:
        """The same snapshots by columns."""
        return cls.of_rows([msgspec.structs.astuple(point) for point in points])

    @classmethod
    def of_rows(cls, rows: Sequence[Sequence[object]]) -> Tide:
        """Snapshots by columns.

        :param rows: of each the fields of a ``TidePoint``.
        """
        return cls(*map(list, zip(*rows, strict=True)))

    def __len__(self) -> int:
        return len(self.seq)

    def __iter__(self) -> Iterator[TidePoint]:
        return map(TidePoint, *self._columns())

    @overload
    def __getitem__(self, at: int) -> TidePoint: ...

    @overload
    def __getitem__(self, at: slice) -> Tide: ...

    def __getitem__(self, at: int | slice) -> TidePoint | Tide:
        if isinstance(at, slice):
            return Tide(*(column[at] for column in self._columns()))
        return TidePoint(*(column[at] for column in self._columns()))

    def _columns(self) -> list[list[Any]]:
        return [getattr(self, field) for field in self.__struct_fields__]

    def then(self, later: Tide) -> Tide:
        """These snapshots, and those that come after them."""
        if not later:
            return self
        return Tide(*(mine + more for mine, more in zip(self._columns(), later._columns(), strict=True)))

    def seq_of(self, name: SnapshotId) -> int:
        """The number of a snapshot, 0 for one that is not among them."""
        return self.seq[self.name.index(name)] if name in self.name else 0

    def seqs_of(self, names: Collection[SnapshotId]) -> frozenset[int]:
        """The numbers of some snapshots, as far as they are among them."""
        if not names:
            return frozenset()
        return frozenset(seq for seq, name in zip(self.seq, self.name, strict=True) if name in names)


NO_TIDE = Tide()
