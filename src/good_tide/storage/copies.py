"""Second copies of the small files that much depends on: header, key slots, index, snapshots, pins. Since
version 2 of the format; ``docs/format.md`` ("Second copies").

A copy is made after its file and removed before it. So a copy without its file says that the file was lost.
"""

from __future__ import annotations

import contextlib
from types import TracebackType
from typing import Self

from good_tide.core.errors import DamageError, NotInPlaceError, PlaceError, PlaceFullError
from good_tide.storage.place import NewFile, Place, StorePlace

COPY_FOLDER = "copies"
DOUBLED_FOLDERS = ("index", "snapshots", "pins", "keys")
_DOUBLED_FILES = ("store.json",)


def is_doubled(file: str) -> bool:
    """Whether a store file has a second copy."""
    return file in _DOUBLED_FILES or file.partition("/")[0] in DOUBLED_FOLDERS


def copy_of(file: str) -> str:
    """Where the second copy of a store file lies."""
    return f"{COPY_FOLDER}/{file}"


def read_copy(place: Place, file: str, most: int | None = None) -> bytes | None:
    """The second copy of a store file; None if there is none that can be read.

    :param most: bytes that are read at most.
    """
    with contextlib.suppress(PlaceError, DamageError):
        return place.read(copy_of(file), 0, most)
    return None


def doubled_names(place: Place, folder: str) -> list[str]:
    """Names of the files in a folder, those included of which only the second copy is left."""
    names, copies = place.names(folder), place.names(copy_of(folder))
    return names if names == copies else sorted({*names, *copies})


def single(place: Place) -> Place:
    """A place without its second copies."""
    return place.single if isinstance(place, Doubled) else place


class Doubled:
    """A place that keeps second copies."""

    def __init__(self, place: Place) -> None:
        self.single = place
        """The same place, as it is."""

    @property
    def where(self) -> StorePlace:
        return self.single.where

    @property
    def title(self) -> str:
        return self.single.title

    def names(self, folder: str) -> list[str]:
        return doubled_names(self.single, folder) if folder in DOUBLED_FOLDERS else self.single.names(folder)

    def expect(self, folder: str) -> None:
        self.single.expect(folder)

    def look_anew(self) -> None:
        self.single.look_anew()

    def size(self, name: str) -> int:
        try:
            return self.single.size(name)
        except NotInPlaceError:
            if not is_doubled(name):
                raise
            return self.single.size(copy_of(name))

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        try:
            return self.single.read(name, offset, length)
        except NotInPlaceError:
            if not is_doubled(name):
                raise
            return self.single.read(copy_of(name), offset, length)

    def create(self, name: str, owner: str) -> NewFile:
        file = self.single.create(name, owner)
        return _DoubledFile(self.single, file, name, owner) if is_doubled(name) else file

    def clear_temporary(self, owner: str) -> None:
        self.single.clear_temporary(owner)

    def remove(self, name: str) -> None:
        if is_doubled(name):
            self.single.remove(copy_of(name))
        self.single.remove(name)

    def total_bytes(self) -> int:
        return self.single.total_bytes()

    def room(self) -> tuple[int, int]:
        return self.single.room()

    def things(self) -> list[str]:
        return self.single.things()

    def holds_only_files(self, folder: str) -> bool:
        return self.single.holds_only_files(folder)


class _DoubledFile:
    """A file that is being written, and then its second copy."""

    def __init__(self, place: Place, file: NewFile, name: str, owner: str) -> None:
        self._place, self._file, self._name, self._owner = place, file, name, owner
        self._data: list[bytes | memoryview] = []

    @property
    def size(self) -> int:
        return self._file.size

    def write(self, data: bytes | memoryview) -> None:
        self._file.write(data)
        self._data.append(data)

    def commit(self, exclusive: bool = False) -> None:
        self._file.commit(exclusive)
        # a full disk has taken the file itself; whoever reads the store back makes the copy later
        with contextlib.suppress(PlaceFullError):
            write_copy(self._place, self._name, self._data, self._owner)

    def discard(self) -> None:
        self._file.discard()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.discard()


def write_copy(place: Place, name: str, data: list[bytes | memoryview], owner: str) -> None:
    """Write the second copy of a store file.

    Raises:
        PlaceError: the disk does not take it.
    """
    with place.create(copy_of(name), owner) as copy:
        for part in data:
            copy.write(part)
        copy.commit()
