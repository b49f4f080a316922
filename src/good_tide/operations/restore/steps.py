"""The steps of a restore plan, packed: a plan of a million items is to fit beside everything else."""

from __future__ import annotations

import os
from array import array
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple, overload

import msgspec

from good_tide.core.entries import NOTHING_EXTRA, Entry, Extent, Extra, Kind, Stat
from good_tide.core.identifiers import ChunkId, ContentDigest
from good_tide.core.records import Snapshot
from good_tide.core.restoring import Action

Relative = tuple[bytes, ...]
"""A path below a target folder, by its names."""


class Step(msgspec.Struct, frozen=True):
    """One item of a plan. ``target`` is the folder everything of this wish goes below; ``source`` the path it
    had."""

    action: Action
    target: Path
    relative: Relative
    entry: Entry
    source: bytes
    snapshot: Snapshot
    note: str = ""

    @property
    def payload(self) -> int:
        """Bytes to be written."""
        return (
            self.entry.stat.size
            if self.entry.kind is Kind.FILE and self.action in (Action.CREATE, Action.REPLACE)
            else 0
        )

    @property
    def shown(self) -> bytes:
        """The whole path the item will have."""
        return os.path.join(os.fsencode(self.target), *self.relative)


class _Where(NamedTuple):
    """What the items of one folder have in common: the folder to restore to, the folder below it (None: it is
    the folder to restore to itself), the folder that it was, and the snapshot."""

    target: Path
    relative: Relative | None
    source: bytes
    snapshot: Snapshot


class _Packed(msgspec.Struct, array_like=True):
    """The rest of a step.

    :param extents: the number of the chunk (0: a hole), offset and length of each.
    :param last: the last name of the path that it gets, where that is not the entry's.
    :param source: the path that it had, where that is not the entry's name in the folder.
    """

    name: bytes
    kind: Kind
    stat: tuple[int, int, int, int, int, int, int]
    digest: bytes
    extents: list[tuple[int, int, int]]
    extra: Extra | None = None
    note: str = ""
    last: bytes | None = None
    source: bytes | None = None


_encode = msgspec.msgpack.Encoder().encode
_decode = msgspec.msgpack.Decoder(_Packed).decode


class Steps(Sequence[Step]):
    """Steps in their order. Each is made when it is asked for; what goes for all is counted as they come.

    :ivar counts: how many there are of each action.
    :ivar payload: bytes to be written.
    :ivar needed: bytes of content that will lie below each folder to restore to; holes and further names of
        a file need none.
    """

    def __init__(self) -> None:
        self._packed = bytearray()
        self._ends = array("Q")
        self._folders = array("I")
        self._wheres: list[_Where] = []
        self._numbers: dict[tuple[Path, Relative | None, bytes, str], int] = {}
        self._chunks: list[ChunkId] = []
        self._chunk_numbers: dict[ChunkId, int] = {}
        self._written = array("I")
        """Numbers of the chunks that what is written lies in, in order, without repetitions side by side."""
        self._links: set[tuple[str, tuple[int, int]]] = set()
        self.counts: Counter[Action] = Counter()
        self.payload = 0
        self.needed: dict[Path, int] = {}
        self._actions = bytearray()

    def append(self, step: Step) -> None:
        """Add a step."""
        entry, extra = step.entry, step.entry.extra
        folder = step.relative[:-1] if step.relative else None
        last = step.relative[-1] if step.relative else entry.name
        above, _, name = step.source.rpartition(b"/")
        key = step.target, folder, above, step.snapshot.id
        number = self._numbers.get(key)
        if number is None:
            number = self._numbers[key] = len(self._wheres)
            self._wheres.append(_Where(step.target, folder, above, step.snapshot))
        extents = [(self._number_of(one.chunk), one.offset, one.length) for one in entry.extents]
        self._packed += _encode(
            _Packed(
                entry.name,
                entry.kind,
                msgspec.structs.astuple(entry.stat),
                entry.digest,
                extents,
                None if extra is NOTHING_EXTRA else extra,
                step.note,
                last if last != entry.name else None,
                step.source if name != entry.name else None,
            )
        )
        self._ends.append(len(self._packed))
        self._folders.append(number)
        self._actions.append(_NUMBERS[step.action])
        self.counts[step.action] += 1
        if step.payload:
            self._note_written(step, extents)

    def _number_of(self, chunk: ChunkId | None) -> int:
        if chunk is None:
            return 0
        number = self._chunk_numbers.get(chunk)
        if number is None:
            self._chunks.append(chunk)
            number = self._chunk_numbers[chunk] = len(self._chunks)
        return number

    def _note_written(self, step: Step, extents: Sequence[tuple[int, int, int]]) -> None:
        self.payload += step.payload
        for chunk, _, _ in extents:
            if chunk and (not self._written or self._written[-1] != chunk):
                self._written.append(chunk)
        group = step.entry.extra.link_group
        if group is not None:
            known = (step.snapshot.id, group) in self._links
            self._links.add((step.snapshot.id, group))
            if known:
                return
        stored = sum(length for chunk, _, length in extents if chunk)
        self.needed[step.target] = self.needed.get(step.target, 0) + stored

    def written_chunks(self) -> Iterator[ChunkId]:
        """The chunks that what is written lies in, in the order in which they are needed."""
        for number in self._written:
            yield self._chunks[number - 1]

    def snapshots(self) -> list[Snapshot]:
        """Those that something comes from."""
        return list({where.snapshot.id: where.snapshot for where in self._wheres}.values())

    def targets(self) -> list[Path]:
        """The folders that something goes below."""
        return list(dict.fromkeys(where.target for where in self._wheres))

    def having(self, *actions: Action) -> Iterator[Step]:
        """Those with one of some actions."""
        wanted = {_NUMBERS[action] for action in actions}
        for number, action in enumerate(self._actions):
            if action in wanted:
                yield self[number]

    def __len__(self) -> int:
        return len(self._ends)

    @overload
    def __getitem__(self, number: int) -> Step: ...
    @overload
    def __getitem__(self, number: slice) -> list[Step]: ...
    def __getitem__(self, number: int | slice) -> Step | list[Step]:
        if isinstance(number, slice):
            return [self._step(one) for one in range(*number.indices(len(self)))]
        return self._step(range(len(self))[number])

    def _step(self, number: int) -> Step:
        begin = self._ends[number - 1] if number else 0
        packed = _decode(memoryview(self._packed)[begin : self._ends[number]])
        where = self._wheres[self._folders[number]]
        entry = Entry(
            packed.name,
            packed.kind,
            Stat(*packed.stat),
            ContentDigest(packed.digest),
            tuple(
                Extent(self._chunks[chunk - 1] if chunk else None, offset, length)
                for chunk, offset, length in packed.extents
            ),
            packed.extra if packed.extra is not None else NOTHING_EXTRA,
        )
        source = where.source + b"/" + packed.name if packed.source is None else packed.source
        relative: Relative = ()
        if where.relative is not None:
            relative = (*where.relative, packed.name if packed.last is None else packed.last)
        action = _ACTIONS[self._actions[number]]
        return Step(action, where.target, relative, entry, source, where.snapshot, packed.note)


_ACTIONS = tuple(Action)
_NUMBERS = {action: number for number, action in enumerate(_ACTIONS)}
