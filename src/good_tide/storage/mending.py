"""Files that are put right as soon as they are found damaged, from parity or a second copy."""

from __future__ import annotations

import contextlib

from good_tide.core.errors import PlaceError
from good_tide.storage.damage import KnownDamage
from good_tide.storage.place import Place

_OWNER = "mend-"


class Mending:
    """Puts files right, and remembers which.

    :param place: where the files are; of a file that has a second copy, only what is named is written.
    """

    def __init__(self, place: Place, damage: KnownDamage) -> None:
        self._place, self._damage = place, damage
        self.files: list[str] = []
        """Those that were found damaged, and could be read all the same."""

    def put_right(self, file: str, data: bytes) -> bool:
        """Write a file as it was; False on a disk that does not take it: the file stays damaged, and is
        mended at each reading."""
        if file not in self.files:
            self.files.append(file)
        with contextlib.suppress(PlaceError):
            with self._place.create(file, _OWNER) as new:
                new.write(data)
                new.commit()
            self._damage.forget([file])
            return True
        return False
