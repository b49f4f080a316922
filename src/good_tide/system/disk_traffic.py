"""What other programs move on a disk, by the kernel's block statistics (``/sys/dev/block/*/stat``, in sectors
of 512 bytes: ``Documentation/block/stat.rst``) and this process's own (``/proc/self/io``, proc_pid_io(5))."""

from __future__ import annotations

import os
import time
from pathlib import Path

from good_tide.lines.mounts import mount_of, read_mounts

_BLOCKS, _OWN = Path("/sys/dev/block"), Path("/proc/self/io")
_SECTOR = 512
_READ_SECTORS, _WRITTEN_SECTORS = 2, 6


class DiskTraffic:
    """Traffic of others on the disk of a folder, from one asking to the next.

    :param blocks: where the kernel tells of block devices. :param own: where it tells of this process.
    """

    def __init__(self, folder: Path, blocks: Path = _BLOCKS, own: Path = _OWN) -> None:
        self._stat, self._own = _statistics(folder, blocks), own
        self._known = self._moved()

    def others(self) -> float:
        """Bytes a second that others moved since this was last asked; 0 where the system does not tell, as of
        network shares."""
        before, self._known = self._known, self._moved()
        if before is None or self._known is None:
            return 0.0
        seconds = max(self._known[0] - before[0], 0.001)
        return max(0.0, (self._known[1] - before[1]) / seconds)

    def _moved(self) -> tuple[float, int] | None:
        """Now, and the bytes that others moved so far."""
        if self._stat is None:
            return None
        try:
            fields = self._stat.read_text().split()
            own = dict(line.split(": ") for line in self._own.read_text().splitlines())
            whole = (int(fields[_READ_SECTORS]) + int(fields[_WRITTEN_SECTORS])) * _SECTOR
            return time.monotonic(), whole - int(own["read_bytes"]) - int(own["write_bytes"])
        except (OSError, ValueError, KeyError, IndexError):
            return None


def _statistics(folder: Path, blocks: Path) -> Path | None:
    """The statistics of the whole disk that a folder is on; None where the system keeps none."""
    try:
        number = os.stat(folder).st_dev
        if not os.major(number):  # a file system over several devices names one of them as its source
            mount = mount_of(folder, read_mounts())
            number = os.stat(mount.source).st_rdev if mount is not None else 0
    except OSError:
        return None
    device = blocks / f"{os.major(number)}:{os.minor(number)}"
    if (device / "partition").exists():
        device = device.resolve().parent
    return device / "stat" if (device / "stat").exists() else None
