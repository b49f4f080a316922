"""The bytes of all files of a store, without asking each of them again: in a folder into which nothing came,
and out of which nothing went, since it was last looked into, they are what they were. Files of a store do not
change once they are in place.
"""

from __future__ import annotations

import contextlib
import os
import tempfile
import threading
import time
from collections.abc import Callable, Container
from pathlib import Path

import msgspec

_SETTLED_NS = 3 * 10**9
"""A folder that changed a shorter time before it was looked into may change again and keep its time."""
_HOLDS_NS = 6 * 3600 * 10**9
"""Then a folder is looked into in any case: there may be file systems that do not keep its time."""
_MOST_STORES = 32


class _Seen(msgspec.Struct, array_like=True, frozen=True):
    """``mark`` says which folder it is, and when something in it last came or went; ``looked``: when that was
    seen. Both in nanoseconds since 1970."""

    mark: tuple[int, int, int]
    looked: int
    size: int
    folders: tuple[str, ...]


_Stores = dict[str, dict[str, _Seen]]
"""By the path of a store, and of a folder in it."""


class FolderSizes:
    """What was seen of some stores. Threads may use it at once."""

    def __init__(self) -> None:
        self._guard = threading.Lock()
        self._file: Path | None = None
        self._stores: _Stores | None = {}

    def keep_in(self, file: Path) -> None:
        """Keep it in a file of its own, and go on with what is there. Only a cache: a file that cannot be
        read, or written, does no harm."""
        with self._guard:
            if file != self._file:
                self._file, self._stores = file, None

    def total(
        self, root: Path, open_folder: Callable[[str], int], deepest: int, moving: Container[str]
    ) -> int:
        """Bytes of all files in a folder and its sub-folders.

        :param open_folder: a handle of a sub-folder, by its path inside; the empty path is the folder itself.
        :param deepest: so many levels down.
        :param moving: sub-folders in which files grow: those are always asked.

        Raises:
            OSError: from ``open_folder``, unless the sub-folder has gone; and while one is looked into.
        """
        with self._guard:
            before = self._known().get(str(root), {})
        kept: dict[str, _Seen] = {}
        total, waiting = 0, [""]
        while waiting:
            inside = waiting.pop()
            try:
                handle = open_folder(inside)
            except FileNotFoundError:
                continue
            try:
                seen = before.get(inside)
                if seen is None or not _holds(seen, handle):
                    seen = _look(handle)
            finally:
                os.close(handle)
            if seen.looked - seen.mark[2] > _SETTLED_NS and inside not in moving:
                kept[inside] = seen
            total += seen.size
            if inside.count("/") < deepest:
                waiting += [f"{inside}{name}/" for name in seen.folders]
        if kept != before:
            self._keep(str(root), kept)
        return total

    def _known(self) -> _Stores:
        if self._stores is None:
            self._stores = {}
            with contextlib.suppress(OSError, msgspec.MsgspecError, UnicodeDecodeError):
                assert self._file is not None
                self._stores = msgspec.msgpack.decode(self._file.read_bytes(), type=_Stores)
        return self._stores

    def _keep(self, root: str, kept: dict[str, _Seen]) -> None:
        with self._guard:
            stores = self._known()
            stores.pop(root, None)
            stores[root] = kept
            while len(stores) > _MOST_STORES:
                del stores[next(iter(stores))]
            if self._file is None:
                return
            with contextlib.suppress(OSError, UnicodeEncodeError):
                _put(self._file, msgspec.msgpack.encode(stores))


def _put(file: Path, data: bytes) -> None:
    file.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=file.parent) as inside:
        fresh = Path(inside) / "sizes"
        fresh.write_bytes(data)
        fresh.replace(file)


def _holds(seen: _Seen, handle: int) -> bool:
    return seen.mark == _mark(handle) and 0 <= time.time_ns() - seen.looked < _HOLDS_NS


def _mark(handle: int) -> tuple[int, int, int]:
    info = os.fstat(handle)
    return info.st_dev, info.st_ino, info.st_mtime_ns


def _look(handle: int) -> _Seen:
    mark, now = _mark(handle), time.time_ns()
    with os.scandir(handle) as listing:
        items = list(listing)
    size = sum(length_of(item) for item in items if item.is_file(follow_symlinks=False))
    folders = tuple(item.name for item in items if item.is_dir(follow_symlinks=False))
    return _Seen(mark, now, size, folders)


def length_of(item: os.DirEntry[str]) -> int:
    """Bytes of a file; none of one that went away meanwhile."""
    with contextlib.suppress(FileNotFoundError):
        return item.stat(follow_symlinks=False).st_size
    return 0
