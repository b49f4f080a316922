"""What one look at a folder shows, as a digest: two looks with the same digest saw the same names with the
same metadata.

Digested are the name, mode, owner, group, size, times of modification and change, and inode of each thing in
it, in the order of the names. Not the number of the device, which is another after a restart.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable

import msgspec

from good_tide.source.folders import NAMES, Found

_DIGEST_BYTES = 16
_encode = msgspec.msgpack.Encoder().encode

_Row = tuple[bytes, int, int, int, int, int, int, int]


def seen_in(folder: int) -> bytes:
    """The digest of what is in an open folder now.

    Raises:
        OSError: it, or something in it, cannot be looked at.
    """
    rows: list[_Row] = []
    with os.scandir(folder) as listing:
        for item in listing:
            info = item.stat(follow_symlinks=False)
            rows.append(
                (
                    item.name.encode(NAMES, "surrogateescape"),
                    info.st_mode,
                    info.st_uid,
                    info.st_gid,
                    info.st_size,
                    info.st_mtime_ns,
                    info.st_ctime_ns,
                    info.st_ino,
                )
            )
    rows.sort()
    return _digest(rows)


def seen_of(found: Iterable[Found]) -> bytes:
    """The digest of a folder's contents that were scanned, in the order of their names."""
    return _digest(
        [
            (
                name,
                info.st_mode,
                info.st_uid,
                info.st_gid,
                info.st_size,
                info.st_mtime_ns,
                info.st_ctime_ns,
                info.st_ino,
            )
            for name, _, _, info in found
        ]
    )


def _digest(rows: list[_Row]) -> bytes:
    return hashlib.blake2b(_encode(rows), digest_size=_DIGEST_BYTES).digest()
