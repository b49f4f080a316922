"""A place on a failing disk, which does not give one of its files, or a sector of it."""

from __future__ import annotations

from pathlib import Path

from good_tide.core.errors import PlaceError
from good_tide.storage.folder_place import LocalPlace

_SECTOR = 4096


class FaultyPlace(LocalPlace):
    """A folder with a file that cannot be read.

    :param sector: the only part of the file that cannot; None: all of it.
    """

    def __init__(self, root: Path, bad: str, sector: int | None = None) -> None:
        super().__init__(root)
        self._bad, self._sector = bad, sector

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        if name == self._bad and self._is_hit(offset, length):
            raise PlaceError(f"Reading {name}: Input/output error", "Check the disk")
        return super().read(name, offset, length)

    def _is_hit(self, offset: int, length: int | None) -> bool:
        if self._sector is None:
            return True
        begin = self._sector * _SECTOR
        return offset < begin + _SECTOR and (length is None or offset + length > begin)
