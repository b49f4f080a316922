"""Files that changed a little: what an earlier version has is not stored again, to the byte.

A file is cut into its chunks as ever. Those that the store does not have are collected as long as they follow
one another, and are looked at together beside the same stretch of the earlier version, read back from the
store. What both share becomes extents into the chunks that are there; only the rest is stored, joined into
blocks with that of other files. A chunk that would come to lie in too many pieces is stored whole, so that a
version after many changes is read about as fast as a fresh one.
"""

from __future__ import annotations

import contextlib
from bisect import bisect_right
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence

from good_tide.core.entries import Entry, ExtentLike, Kind
from good_tide.core.errors import DamageError, NotInPlaceError
from good_tide.core.identifiers import ChunkId
from good_tide.storage.blocks import BlockBuilder, nearest_first
from good_tide.storage.content import Part, PutNear, content_ids
from good_tide.storage.delta import LEAST, Shared, shared_stretches
from good_tide.storage.store import Store
from good_tide.storage.writer import Ticket

_HOLE = ChunkId(b"")
_RUN_BYTES = 8 * 1024 * 1024
"""Unknown chunks are looked at together up to so many bytes."""
_SLACK_BYTES = 512 * 1024
"""So much of the earlier version is looked at besides, where it is not known which stretch was replaced."""
_FURTHEST = 4
"""The stretch of the earlier version may be so many times as long as what replaces it."""
_PIECE_BYTES, _FEWEST_PIECES = 4096, 24
"""A chunk may lie in one piece for each so many bytes, and in a few in any case."""
_SOURCE_BYTES, _FEWEST_SOURCES = 16 * 1024, 8
"""The same for the different chunks that it lies in."""
_SMALLEST_BYTES, _MOST_SMALL_PIECES, _MOST_SMALL_SOURCES = 1024, 24, 4
"""Small files from so many bytes on are compared with their earlier version, and lie in so many pieces, and
different chunks, at most."""
_LARGEST_LEANING = 8 * 1024 * 1024
"""Chunks of files up to so many bytes lean on those of their earlier versions."""
_VAIN_BYTES = 64 * 1024 * 1024
"""A file of which so much shares nothing with its earlier version is not compared with it any further."""


class EarlierVersion:
    """The content of a file as the store has it.

    :param extents: of a file whose chunks the store has.
    :param cuts: how this content is cut into chunks, identities and lengths, as far as that is known.
    """

    def __init__(
        self, store: Store, extents: Sequence[ExtentLike], cuts: Iterable[tuple[ChunkId, int]] = ()
    ) -> None:
        self._store, self._extents = store, extents
        self._starts: list[int] = []
        self._at: dict[ChunkId, tuple[int, int]] = {}
        """Where a chunk, or a part of it from its beginning on, begins, and how many bytes of it are
        there."""
        self.size = 0
        for extent in extents:
            self._starts.append(self.size)
            if extent.chunk is not None and not extent.offset:
                self._at.setdefault(extent.chunk, (self.size, extent.length))
            self.size += extent.length
        at = 0
        for chunk, length in cuts:
            self._at.setdefault(chunk, (at, length))
            at += length

    def near(self, begin: int, length: int) -> Counter[ChunkId]:
        """The chunks that what replaces a stretch may lean on, and how many bytes of the stretch, and around
        it, lie in each; none for a large file, where that would cost more time than it is worth."""
        found: Counter[ChunkId] = Counter()
        if self.size <= _LARGEST_LEANING:
            begin, end = max(0, begin - _SLACK_BYTES), min(self.size, begin + length + _SLACK_BYTES)
            for piece in self.pieces(begin, end - begin):
                if piece.chunk is not None:
                    found[piece.chunk] += piece.length
        return found

    def place_of(self, chunk: ChunkId) -> int | None:
        """Where a chunk begins in it, if it does."""
        found = self._at.get(chunk)
        return None if found is None else found[0]

    def has_whole(self, chunk: ChunkId, length: int) -> bool:
        """Whether all ``length`` bytes of a chunk stand at its place."""
        at, there = self._at.get(chunk, (0, -1))
        return there == length and at + length <= self.size

    def pieces(self, begin: int, length: int) -> Iterator[Part]:
        """What a stretch of it lies in."""
        number, end = bisect_right(self._starts, begin) - 1, begin + length
        while begin < end:
            extent, start = self._extents[number], self._starts[number]
            take = min(end, start + extent.length) - begin
            yield Part(_known(extent.chunk), extent.offset + begin - start if extent.chunk else 0, take)
            begin, number = begin + take, number + 1

    def read(self, begin: int, end: int) -> bytes | None:
        """The bytes of a stretch; None when the store cannot give them now."""
        found: list[bytes | memoryview] = []
        chunks: dict[ChunkId, memoryview] = {}
        with contextlib.suppress(DamageError, NotInPlaceError):
            for piece in self.pieces(begin, end - begin):
                chunk = piece.chunk
                if chunk is None:
                    found.append(bytes(piece.length))
                    continue
                content = chunks.get(chunk)
                if content is None:
                    content = chunks[chunk] = memoryview(self._store.read_chunk(chunk))
                found.append(content[piece.offset : piece.offset + piece.length])
            return b"".join(found)
        return None


def earlier_version(
    store: Store, before: Entry | None, cuts: Iterable[tuple[ChunkId, int]] = ()
) -> EarlierVersion | None:
    """The content of a file in the last snapshot, if it is one and the store has it all."""
    if before is None or before.kind is not Kind.FILE or not before.extents:
        return None
    return EarlierVersion(store, before.extents, cuts) if store.has_all(content_ids(before)) else None


def small_in_pieces(earlier: EarlierVersion, content: bytes, blocks: BlockBuilder) -> list[Part] | None:
    """What a small file lies in that changed a little; None where it is to be stored whole."""
    if len(content) < _SMALLEST_BYTES:
        return None
    old = earlier.read(0, min(earlier.size, _SLACK_BYTES))
    made = _in_pieces(content, shared_stretches(old, content), earlier) if old else None
    if made is None or len(made) > _MOST_SMALL_PIECES or len(_sources(made)) > _MOST_SMALL_SOURCES:
        return None
    parts: list[Part] = []
    near = earlier.near(0, len(content))
    for piece in made:
        _add(parts, blocks.add_piece(piece, near) if isinstance(piece, bytes) else piece)
    return parts


def _in_pieces(content: bytes, found: Sequence[Shared], earlier: EarlierVersion) -> list[Part | bytes] | None:
    """A content as what it shares with an earlier version, and what is new between; None when more than half
    of it is new."""
    made: list[Part | bytes] = []
    done = new = 0
    for at, before, length in [*found, Shared(len(content), 0, 0)]:
        if at > done:
            made.append(content[done:at])
            new += at - done
        made += earlier.pieces(before, length)
        done = at + length
    return made if 2 * new <= len(content) else None


def _known(chunk: ChunkId | None) -> Ticket | None:
    if chunk is None:
        return None
    ticket = Ticket()
    ticket.chunk = chunk
    return ticket


class ChangedFile:
    """Takes the chunks of one file that has an earlier version, in their order, and adds what they lie in to
    ``parts``.

    :param blocks: takes the pieces that are new.
    :param put: takes chunks that are stored whole.
    """

    def __init__(
        self, store: Store, earlier: EarlierVersion, blocks: BlockBuilder, put: PutNear, parts: list[Part]
    ) -> None:
        self._store, self._earlier, self._blocks, self._put = store, earlier, blocks, put
        self._parts = parts
        self.new_bytes = 0
        """Bytes that the store did not have."""
        self.cuts: list[tuple[ChunkId, int]] = []
        """The chunks that were taken; with holes, or when it was no longer compared, not all there are."""
        self._run: list[bytes] = []
        self._run_bytes = 0
        self._before = 0
        """Where in the earlier version stands what the next bytes replace."""
        self._vain = 0

    def take(self, view: memoryview, done: Callable[[], None]) -> None:
        """The next chunk; ``done`` is called when its bytes are no longer needed."""
        if self._vain >= _VAIN_BYTES:
            self._whole(view, done, Counter())
            return
        chunk = ChunkId(self._store.keys.chunk_id(view))
        self.cuts.append((chunk, len(view)))
        place = self._earlier.place_of(chunk)
        known = self._store.has(chunk)
        if not known and place is not None and self._earlier.has_whole(chunk, len(view)):
            done()
            self._end_run(place)
            for piece in self._earlier.pieces(place, len(view)):
                _add(self._parts, piece)
            self._before = place + len(view)
            return
        if not known:
            self._run.append(bytes(view))
            self._run_bytes += len(view)
            done()
            if self._run_bytes >= _RUN_BYTES:
                self._end_run(None)
            return
        done()
        self._end_run(place)
        _add(self._parts, Part(_known(chunk), 0, len(view)))
        self._before = (self._before if place is None else place) + len(view)

    def hole(self, length: int) -> None:
        """The next bytes are zeros that are not there."""
        self.cuts.append((_HOLE, length))
        self._end_run(None)
        _add(self._parts, Part(None, 0, length))
        self._before += length

    def end(self) -> None:
        """There is no more."""
        self._end_run(None)

    def _end_run(self, place: int | None) -> None:
        """What was collected is followed by something else: by a chunk that begins at ``place`` in the
        earlier version, if that is known."""
        run, self._run = self._run, []
        length, self._run_bytes = self._run_bytes, 0
        if not run:
            return
        begin = min(self._before, self._earlier.size)
        end = begin + length + _SLACK_BYTES
        if place is not None and begin <= place <= begin + _FURTHEST * length + _SLACK_BYTES:
            end = place
        end = min(end, self._earlier.size)
        old = self._earlier.read(begin, end) if end - begin >= LEAST else None
        found = shared_stretches(old, b"".join(run)) if old is not None else []
        self._vain = 0 if found else self._vain + length
        self._before = begin + length
        if found:
            last = found[-1]
            self._before = begin + last.before + length - last.at
        at = 0
        for content in run:
            self._chunk(content, at, begin, found)
            at += len(content)

    def _chunk(self, content: bytes, at: int, begin: int, found: Sequence[Shared]) -> None:
        """One chunk of a run: in pieces where that pays, and whole otherwise."""
        inside = [
            Shared(low - at, begin + before + low - one, high - low)
            for one, before, length in found
            if (low := max(one, at)) < (high := min(one + length, at + len(content)))
        ]
        made = _in_pieces(content, inside, self._earlier)
        near = self._earlier.near(begin + at, len(content))
        if made is None or _too_many(made, len(content)):
            self._whole(memoryview(content), _nothing, near)
            return
        for piece in made:
            if isinstance(piece, bytes):
                self.new_bytes += len(piece)
                piece = self._blocks.add_piece(piece, near)
            _add(self._parts, piece)

    def _whole(self, view: memoryview, done: Callable[[], None], near: Counter[ChunkId]) -> None:
        self.new_bytes += len(view)
        self._parts.append(Part(self._put(view, done, near=nearest_first(near)), 0, len(view)))


def _too_many(made: Sequence[Part | bytes], length: int) -> bool:
    """Whether a chunk would lie in more pieces, or more different chunks, than it may."""
    return len(made) > max(_FEWEST_PIECES, length // _PIECE_BYTES) or len(_sources(made)) > max(
        _FEWEST_SOURCES, length // _SOURCE_BYTES
    )


def _sources(made: Sequence[Part | bytes]) -> set[ChunkId | None]:
    return {piece.chunk for piece in made if isinstance(piece, Part)}


def _add(parts: list[Part], part: Part) -> None:
    """Add a piece to those of a file, joined with the one before where both lie side by side."""
    last = parts[-1] if parts else None
    if last is not None and (last.ticket is None) == (part.ticket is None):
        same = last.ticket is part.ticket or (last.chunk is not None and last.chunk == part.chunk)
        if same and (last.ticket is None or last.offset + last.length == part.offset):
            last.length += part.length
            return
    parts.append(part)


def _nothing() -> None:
    """Bytes of their own need no giving back."""
