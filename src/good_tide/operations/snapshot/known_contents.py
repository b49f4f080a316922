"""What the contents of small files lie in that were met in a run."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from good_tide.core.columns import encode_tables
from good_tide.core.entries import ExtentLike
from good_tide.core.identifiers import DIGEST_BYTES
from good_tide.storage.blocks import BLOCK_MAXIMUM, Laid
from good_tide.storage.content import Part
from good_tide.storage.writer import Ticket

_OFFSET_BITS = 20
_LENGTH_BITS = 20
_OFFSET_MASK, _LENGTH_MASK = (1 << _OFFSET_BITS) - 1, (1 << _LENGTH_BITS) - 1
_TICKET_SHIFT = _OFFSET_BITS + _LENGTH_BITS
assert BLOCK_MAXIMUM <= _OFFSET_MASK + 1

_MOST_LOOSE = 1 << 18
"""So many contents are kept one by one, with some 190 bytes each; more are laid together, with 24."""

Numbers = NDArray[np.int64]
Place = int | tuple[ExtentLike, ...]
"""What a content lies in. What lies in one piece of a block, as most does, is a number: there can be
millions. Its bits are, from the lowest, length, offset and the number of the block."""


class _LaidTogether:
    """Numbers by digests, in two columns, of which the first rises."""

    def __init__(self) -> None:
        self._digests = _column_of(())
        self._numbers = np.empty(0, dtype=np.int64)

    def __len__(self) -> int:
        return len(self._numbers)

    def add(self, numbers: Mapping[bytes, int]) -> None:
        """Add some that are not there."""
        digests = np.concatenate([self._digests, _column_of(numbers)])
        together = np.concatenate([self._numbers, np.fromiter(numbers.values(), np.int64, len(numbers))])
        order = np.argsort(digests, kind="stable")
        self._digests, self._numbers = digests[order], together[order]

    def find(self, digests: Sequence[bytes]) -> Numbers:
        """The number of each; -1 where there is none."""
        if not len(self._numbers):
            return np.full(len(digests), -1, dtype=np.int64)
        asked = _column_of(digests)
        at = np.minimum(np.searchsorted(self._digests, asked), len(self._numbers) - 1)
        found: Numbers = np.where(self._digests[at] == asked, self._numbers[at], -1)
        return found


def _column_of(digests: Iterable[bytes]) -> NDArray[np.bytes_]:
    return np.frombuffer(b"".join(digests), dtype=f"S{DIGEST_BYTES}")


class KnownContents:
    """By the contents' digests."""

    def __init__(self) -> None:
        self._places: dict[bytes, Place] = {}
        self._kept = 0
        """How many of these cannot be laid together."""
        self._together = _LaidTogether()
        self._tickets: list[Ticket] = []

    def get(self, digest: bytes) -> tuple[ExtentLike, ...] | None:
        """What a content lies in; None: it was not met."""
        place = self._places.get(digest)
        if place is None and len(self._together):
            number = int(self._together.find([digest])[0])
            place = number if number >= 0 else None
        return None if place is None else self.parts(place)

    def parts(self, place: Place) -> tuple[ExtentLike, ...]:
        """What a place stands for."""
        if isinstance(place, tuple):
            return place
        offset, length = place >> _LENGTH_BITS & _OFFSET_MASK, place & _LENGTH_MASK
        return (Part(self._tickets[place >> _TICKET_SHIFT], offset, length),)

    def note(self, digest: bytes, parts: tuple[ExtentLike, ...]) -> None:
        """Keep what a content lies in."""
        part = parts[0] if len(parts) == 1 else None
        if not isinstance(part, Part) or part.ticket is None:
            self._places[digest] = parts
            return
        number = self._number(part.ticket)
        self._places[digest] = number << _TICKET_SHIFT | part.offset << _LENGTH_BITS | part.length
        self._lay_together()

    def _number(self, ticket: Ticket) -> int:
        if not self._tickets or self._tickets[-1] is not ticket:
            self._tickets.append(ticket)
        return len(self._tickets) - 1

    def new(self, digests: Sequence[bytes]) -> Sequence[int]:
        """The numbers of those that were not met, of each but the first."""
        known, before = self._places, self._together.find(digests) >= 0
        if known.keys().isdisjoint(digests) and len(set(digests)) == len(digests) and not before.any():
            return range(len(digests))
        first: dict[bytes, int] = {}
        for at, (digest, was) in enumerate(zip(digests, before.tolist(), strict=True)):
            if not was and digest not in known:
                first.setdefault(digest, at)
        return list(first.values())

    def note_laid(self, digests: Sequence[bytes], contents: Sequence[bytes], laid: Sequence[Laid]) -> None:
        """Keep what contents lie in that were laid into blocks."""
        lengths = np.fromiter(map(len, contents), np.int64, len(contents))
        begins = np.cumsum(lengths) - lengths
        counts = [own.files for own in laid]
        firsts = np.cumsum(counts) - counts
        numbers = np.array([self._number(own.ticket) for own in laid], dtype=np.int64)
        steps = np.array([own.offset for own in laid], dtype=np.int64) - begins[firsts]
        offsets = begins + np.repeat(steps, counts)
        places = np.repeat(numbers << _TICKET_SHIFT, counts) | offsets << _LENGTH_BITS | lengths
        self._places.update(zip(digests, places.tolist(), strict=True))
        self._lay_together()

    def _lay_together(self) -> None:
        """Lay together what is kept one by one, if much came since that was last done."""
        if len(self._places) <= self._kept + _MOST_LOOSE:
            return
        self._together.add(
            {digest: place for digest, place in self._places.items() if isinstance(place, int)}
        )
        self._places = {digest: place for digest, place in self._places.items() if not isinstance(place, int)}
        self._kept = len(self._places)

    def of_pages(self, digests: Sequence[bytes], counts: Sequence[int]) -> list[PageContents]:
        """What the files of pages lie in that were all met.

        :param digests: of the files of one page after the other. :param counts: how many each has.
        """
        before = self._together.find(digests).tolist()
        places = [
            number if number >= 0 else self._places[digest]
            for digest, number in zip(digests, before, strict=True)
        ]
        table = np.array([place if isinstance(place, int) else -1 for place in places], dtype=np.int64)
        columns = encode_tables((table >> _LENGTH_BITS & _OFFSET_MASK).reshape(1, -1), counts)
        tickets = self._tickets_of(table >> _TICKET_SHIFT, counts)
        found, at = [], 0
        for count, (offsets,), ticket in zip(counts, columns, tickets, strict=True):
            found.append(PageContents(self, places[at : at + count], ticket, offsets))
            at += count
        return found

    def _tickets_of(self, numbers: Numbers, counts: Sequence[int]) -> list[Ticket | None]:
        """Of each page that of all its files, None where they have several."""
        begins, at = [], 0
        for count in counts:
            if count:
                begins.append(at)
            at += count
        if not begins:
            return [None] * len(counts)
        least = iter(np.minimum.reduceat(numbers, begins).tolist())
        most = iter(np.maximum.reduceat(numbers, begins).tolist())
        found: list[Ticket | None] = []
        for count in counts:
            number = next(least) if count else -1
            same = number == next(most) if count else False
            found.append(self._tickets[number] if same and number >= 0 else None)
        return found


class PageContents:
    """What the files of a page lie in that have content.

    :ivar ticket: the block that all of them lie in, each in one piece; None where it is not so, or there are
        none. :ivar offsets: the column of where they begin in it.
    """

    __slots__ = ("_known", "_places", "offsets", "ticket")

    def __init__(
        self, known: KnownContents, places: Sequence[Place], ticket: Ticket | None, offsets: bytes
    ) -> None:
        self._known, self._places, self.ticket, self.offsets = known, places, ticket, offsets

    def parts(self) -> list[tuple[ExtentLike, ...]]:
        """Of each file."""
        return [self._known.parts(place) for place in self._places]
