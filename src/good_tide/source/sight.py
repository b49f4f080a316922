"""What one look at a folder shows, as a digest: two looks with the same digest saw the same names with the
same metadata.

Digested are the name, mode, owner, group, size, times of modification and change, and inode of each thing in
it, in the order of the names. Not the number of the device, which is another after a restart.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable
from operator import itemgetter

import msgspec

from good_tide.core.entries import Kind
from good_tide.source.folders import NAMES, Found

_DIGEST_BYTES = 16
_encode = msgspec.msgpack.Encoder().encode

Row = tuple[bytes, int, int, int, int, int, int, int]
"""Name, mode, owner, group, size in bytes, times of modification and change (ns since 1970 UTC), inode."""
_Seen = tuple[bytes, str | None, Kind | None, os.stat_result]
"""As ``Found``."""


def seen_in(folder: int) -> bytes:
    """The digest of what is in an open folder now.

    Raises:
        OSError: it, or something in it, cannot be looked at.
    """
    with os.scandir(folder) as listing:
        seen = [
            (item.name.encode(NAMES, "surrogateescape"), None, None, item.stat(follow_symlinks=False))
            for item in listing
        ]
    seen.sort(key=itemgetter(0))
    return digest_of(rows_of(seen))


def seen_of(found: Iterable[Found]) -> bytes:
    """The digest of a folder's contents that were scanned, in the order of their names."""
    return digest_of(rows_of(found))


def rows_of(found: Iterable[_Seen]) -> list[Row]:
    """What is looked at of a folder's contents that were scanned."""
    return [
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


def digest_of(rows: list[Row]) -> bytes:
    """The digest of what was looked at of a folder's contents, in the order of their names."""
    return hashlib.blake2b(_encode(rows), digest_size=_DIGEST_BYTES).digest()
