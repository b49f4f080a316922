"""A place on a failing disk, which does not give one of its files."""

from __future__ import annotations

from pathlib import Path

from good_tide.core.errors import PlaceError
from good_tide.storage.folder_place import LocalPlace


class FaultyPlace(LocalPlace):
    """A folder with a file that cannot be read."""

    def __init__(self, root: Path, bad: str) -> None:
        super().__init__(root)
        self._bad = bad

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        if name == self._bad:
            raise PlaceError(f"Reading {name}: Input/output error", "Check the disk")
        return super().read(name, offset, length)
