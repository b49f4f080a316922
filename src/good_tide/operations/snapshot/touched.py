"""Where something happened, as a watch of the folders tells it.

A run that is told need not look anywhere else. What is told may be incomplete (the system drops what nobody
fetches in time, and a folder that was made this moment is not watched yet), so every store is looked at as a
whole once a day all the same.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Sequence

from good_tide.core.clock import SECOND
from good_tide.core.identifiers import Nanoseconds
from good_tide.lines.mounts import NETWORK_TYPES, Mount, read_mounts
from good_tide.operations.snapshot.sightings import key_of

_MOST = 20_000
"""Folders that are remembered; after more, what happened before counts as not known."""
_SLACK = 5 * SECOND

TouchedSince = Callable[[Nanoseconds], frozenset[bytes] | None]
"""Keys of the folders in which something happened since a moment; None: not known, look everywhere."""


class Touched:
    """The folders in which something happened, with when it was last told. For several threads.

    :param covered: the folders that are watched.
    """

    def __init__(self, covered: Sequence[str]) -> None:
        self._covered = tuple(covered)
        self._at: dict[str, int] = {}
        self._whole_since: int | None = None
        self._mounts: list[Mount] | None = None
        self._lock = threading.Lock()

    def begin(self, now: int) -> None:
        """From now on everything is told."""
        with self._lock:
            self._at.clear()
            self._whole_since, self._mounts = now, _telling(self._covered)

    def lose(self) -> None:
        """Something may not have been told, until ``begin``."""
        with self._lock:
            self._whole_since = None

    def note(self, path: str, now: int) -> None:
        """Something happened to what has that path."""
        folder = os.path.dirname(path)
        with self._lock:
            self._at[folder] = now
            if len(self._at) > _MOST and self._whole_since is not None:
                self._at.clear()
                self._whole_since = now

    def since(self, moment: Nanoseconds) -> frozenset[bytes] | None:
        """As ``TouchedSince``."""
        with self._lock:
            if self._whole_since is None or self._whole_since > moment or self._mounts is None:
                return None
            if _telling(self._covered) != self._mounts:
                self._whole_since = None  # what was mounted, or is no more, was not told
                return None
            begin = moment - _SLACK
            return frozenset(key_of(os.fsencode(path)) for path, at in self._at.items() if at >= begin)


def _telling(folders: Sequence[str]) -> list[Mount] | None:
    """The file systems that some folders lie in. None: of a change on one of them the system may not tell, as
    another machine or a program can make it behind the file system."""
    mounts, found = read_mounts(), []
    for folder in folders:
        above = [one for one in mounts if _is_in(folder, one.point)]
        below = [one for one in mounts if _is_in(one.point, folder)]
        if not above:
            return None
        found += [max(above, key=lambda one: len(one.point)), *below]
    if any(one.type in NETWORK_TYPES or one.type.startswith("fuse") for one in found):
        return None
    return found


def _is_in(path: str, folder: str) -> bool:
    return (path + "/").startswith(folder.rstrip("/") + "/")
