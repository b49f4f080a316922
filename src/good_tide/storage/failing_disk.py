"""Reading from a disk that fails in places: what one file alone does not give is damage, and the rest goes
on."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from good_tide.core.errors import DamageError, Harm, NotInPlaceError, PlaceAwayError, PlaceError
from good_tide.core.translation import tr
from good_tide.storage.place import Place, Readable

_STEP = 1 << 20
_SECTOR = 4096


def answers(place: Place) -> bool:
    """Whether the disk is there."""
    with contextlib.suppress(PlaceError):
        return bool(place.things())
    return False


@contextlib.contextmanager
def damage_of(place: Place, file: str, missing: bool = True) -> Iterator[None]:
    """Take for damage of a store file that the disk does not give it, or that it is not there.

    :param missing: whether it must be there.

    Raises:
        DamageError: the disk gives other files, but not this one.
        PlaceError: the disk gives nothing any more. NotInPlaceError: it is not there, and need not be.
    """
    try:
        yield
    except NotInPlaceError as error:
        if missing and answers(place):
            raise DamageError(
                tr("{file} is missing").format(file=file), file=file, harm=Harm.MISSING
            ) from error
        raise
    except PlaceAwayError:
        raise
    except PlaceError as error:
        if answers(place):
            words = tr("The disk does not give {file} ({what})").format(file=file, what=error.what)
            raise DamageError(words, file=file, harm=Harm.UNREADABLE) from error
        raise


class OneFile:
    """A file that is in memory."""

    def __init__(self, name: str, data: bytes) -> None:
        self._name, self._data = name, data

    def size(self, name: str) -> int:
        return len(self.read(name))

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        if name != self._name:
            raise NotInPlaceError(tr("{name} is not here").format(name=name))
        return self._data[offset:] if length is None else self._data[offset : offset + length]


def read_around(place: Readable, name: str, size: int) -> bytes:
    """``size`` bytes of a file, zeros where the disk does not give them or the file has ended."""
    found = bytearray(size)
    waiting = [(at, min(_STEP, size - at)) for at in range(0, size, _STEP)]
    while waiting:
        at, length = waiting.pop()
        try:
            part = place.read(name, at, length)
            found[at : at + len(part)] = part
        except PlaceError:
            half = -(-length // 2 // _SECTOR) * _SECTOR
            if half < length:
                waiting += [(at, half), (at + half, length - half)]
    return bytes(found)
