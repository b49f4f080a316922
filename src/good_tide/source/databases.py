"""Databases that somebody may be writing: SQLite files (sqlite.org/fileformat2.html) with a write-ahead log.

Read byte by byte, a file and its log are of two moments, and together no database. SQLite's own backup
interface gives one state of both, without holding up whoever writes.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
import tempfile
import time
import urllib.parse
from collections.abc import Iterator, Sequence
from pathlib import Path

from good_tide.core.entries import Kind
from good_tide.source.folders import FILE_FLAGS, Found

LOG_ENDING, SHARED_ENDING = b"-wal", b"-shm"
_MAGIC = b"SQLite format 3\0"
_WITH_LOG = b"\2\2"
"""At bytes 18 and 19: written, and read, with a write-ahead log."""
_LARGEST = 8 << 30
_ROOM_LEFT = 256 << 20
"""Bytes that the disk of the copy keeps free."""
_BUSY_SECONDS = 2.0


def with_log(found: Sequence[Found]) -> dict[bytes, bytes]:
    """Which files of a folder may be databases that are open now: name, and name of the log.

    Without the file that those who have one open share, nobody has; to look into it would make that file in
    the person's folder, and the database and its log hold still anyway.

    :param found: what is in the folder.
    """
    logs = [name for name, _, _, info in found if name.endswith(LOG_ENDING) and info.st_size]
    if not logs:
        return {}
    files = {item.name for item in found if item.kind is Kind.FILE}
    bases = {log[: -len(LOG_ENDING)]: log for log in logs if log in files}
    return {base: log for base, log in bases.items() if {base, base + SHARED_ENDING} <= files}


@contextlib.contextmanager
def in_one_state(folder: int, item: Found, scratch: Path) -> Iterator[int | None]:
    """A handle of a copy of a database in one state, its log taken in; it goes afterwards. None: it is no
    such database, or cannot be copied now.

    :param folder: the open folder that it is in.
    :param scratch: a folder of one's own for the copy.
    """
    with contextlib.ExitStack() as open_now:
        handle = None
        if item.info.st_size <= _LARGEST and _is_database(folder, item.text):
            with contextlib.suppress(OSError, sqlite3.Error):
                scratch.mkdir(parents=True, exist_ok=True, mode=0o700)
                room = os.statvfs(scratch)
                if room.f_bavail * room.f_frsize > 2 * item.info.st_size + _ROOM_LEFT:
                    inside = open_now.enter_context(tempfile.TemporaryDirectory(dir=scratch))
                    handle = _copied(folder, item.text, Path(inside) / "copy")
                    open_now.callback(os.close, handle)
        yield handle


def _is_database(folder: int, name: str) -> bool:
    try:
        handle = os.open(name, FILE_FLAGS, dir_fd=folder)
    except OSError:
        return False
    try:
        head = os.pread(handle, 20, 0)
    except OSError:
        return False
    finally:
        os.close(handle)
    return head.startswith(_MAGIC) and head[18:20] == _WITH_LOG


def _copied(folder: int, name: str, into: Path) -> int:
    """A handle of a copy.

    Raises:
        sqlite3.Error: somebody holds it for themselves, or it is damaged. OSError: the disk does not take it.
    """
    where = urllib.parse.quote(os.fsencode(f"/proc/self/fd/{folder}/{name}"))
    with (
        contextlib.closing(
            sqlite3.connect(f"file:{where}?mode=ro", uri=True, timeout=_BUSY_SECONDS)
        ) as source,
        contextlib.closing(sqlite3.connect(into)) as copy,
    ):
        copy.execute("PRAGMA synchronous = OFF")
        give_up = time.monotonic() + _BUSY_SECONDS

        def look(status: int, left: int, total: int) -> None:
            if status in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED) and time.monotonic() > give_up:
                raise sqlite3.OperationalError  # it is tried without end otherwise

        source.backup(copy, progress=look)
    return os.open(into, os.O_RDONLY | os.O_CLOEXEC)
