"""How often disks go away, kept in the person's state folder: a disk that is removed often makes a doubtful
place."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from pathlib import Path

import msgspec

from good_tide.core.clock import SECOND, Clock

_LATELY = 28 * 86400 * SECOND
_MOST_KEPT = 50


class DiskAbsences:
    """Remembers when each disk went away, for four weeks."""

    def __init__(self, state: Path, clock: Clock) -> None:
        self._file, self._clock = state / "disks-away.json", clock

    def _read(self) -> dict[str, list[int]]:
        with contextlib.suppress(OSError, msgspec.MsgspecError):
            return msgspec.json.decode(self._file.read_bytes(), type=dict[str, list[int]])
        return {}

    def went(self, disks: Iterable[str]) -> None:
        """Disks, by what stays of them, went away just now."""
        since = self._clock.now() - _LATELY
        known = {disk: [time for time in times if time >= since] for disk, times in self._read().items()}
        gone = list(disks)
        for disk in gone:
            known[disk] = [*known.get(disk, []), self._clock.now()][-_MOST_KEPT:]
        if gone:
            with contextlib.suppress(OSError):
                self._file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
                new = self._file.with_suffix(".new")
                new.write_bytes(msgspec.json.encode({disk: times for disk, times in known.items() if times}))
                new.replace(self._file)

    def times(self, disk: str) -> int:
        """How often a disk went away in the last four weeks."""
        since = self._clock.now() - _LATELY
        return sum(time >= since for time in self._read().get(disk, []))
