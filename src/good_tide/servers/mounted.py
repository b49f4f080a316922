"""Folders on shares that are mounted. The system's calls wait without end for a server that is gone: they are
made in threads, which are left behind when nothing comes of them, and end with this process."""

from __future__ import annotations

import asyncio
import errno
import os
import stat
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import TypeVar

from good_tide.core.errors import (
    DamageError,
    GoodTideError,
    NameTakenError,
    NotInPlaceError,
    PlaceAwayError,
    PlaceError,
    PlaceFullError,
)
from good_tide.lines.wire import TOO_LARGE, Found, Promises, Room, Thing, Trouble
from good_tide.servers.measuring import measured, trial_name
from good_tide.servers.server import LineBrokenError, Progress, ServerError
from good_tide.storage.folder_place import FolderPlace, LocalPlace
from good_tide.storage.place import NewFile, disk_errors, no_folder

A = TypeVar("A")

_AT_ONCE = 8
"""Calls of the system that are under way at once."""
_PIECE = 1 << 20
"""Bytes that are read or written by one call: a share that is slow gives a sign after each."""
_DISCARD_SECONDS = 2.0
_COMPARED = 1 << 20
_SLACK = 128 * 1024
_BROKEN = frozenset(
    (
        errno.ENOTCONN,
        errno.EHOSTDOWN,
        errno.EHOSTUNREACH,
        errno.ENETDOWN,
        errno.ENETUNREACH,
        errno.ECONNABORTED,
        errno.ECONNRESET,
        errno.ECONNREFUSED,
        errno.ETIMEDOUT,
        errno.ESTALE,
        errno.ESHUTDOWN,
    )
)
"""What the system says where the way to the server is broken."""


class MountedServer:
    """A folder on a share that is mounted."""

    def __init__(self, folder: Path, progress: Progress) -> None:
        self._folder, self._tell = folder, progress
        self._files = LocalPlace(folder)
        self._threads = ThreadPoolExecutor(_AT_ONCE)

    async def there(self) -> None:
        await self._apart(self._look)

    def _look(self) -> None:
        """Ask the server itself: what the system remembers of a folder says nothing."""
        try:
            is_folder = stat.S_ISDIR(os.stat(self._folder).st_mode)
        except (FileNotFoundError, NotADirectoryError):
            is_folder = False
        if not is_folder:
            raise no_folder(self._folder)
        self._files.room()

    async def make(self) -> None:
        await self._apart(FolderPlace(self._folder).make)

    async def tree(self, folder: str) -> list[Found]:
        found = await self._apart(lambda: self._files.sizes(folder))
        return [Found(_in_words(name), size) for name, size in found]

    async def things(self, folder: str) -> list[Thing]:
        return await self._apart(lambda: _things(self._folder / folder))

    async def size(self, name: str) -> int:
        return await self._apart(lambda: self._files.size(name))

    async def read(self, name: str, offset: int, length: int | None, limit: int) -> bytes:
        if length is None:
            length = max(0, await self.size(name) - offset)
        if length > limit:
            raise ServerError(Trouble.OTHER, TOO_LARGE)
        parts: list[bytes] = []
        at, end = offset, offset + length
        while at < end or not parts:
            part = await self._read(name, at, min(_PIECE, end - at))
            parts.append(part)
            at += len(part)
            if len(part) < _PIECE:
                break
        return parts[0] if len(parts) == 1 else b"".join(parts)

    async def _read(self, name: str, at: int, length: int) -> bytes:
        await self._tell.pace(received=length)
        part = await self._apart(lambda: self._files.read(name, at, length))
        self._tell.moved(received=len(part))
        return part

    async def put(self, name: str, owner: str, data: bytes | bytearray, exclusive: bool, again: bool) -> None:
        file: NewFile = await self._apart(lambda: self._files.create(name, owner))
        try:
            view = memoryview(data)
            for at in range(0, len(data), _PIECE):
                piece = view[at : at + _PIECE]
                await self._tell.pace(sent=len(piece))
                await self._apart(partial(file.write, piece))
                self._tell.moved(sent=len(piece))
            with self._tell.settling():
                await self._apart(lambda: file.commit(exclusive))
        except ServerError as error:
            if error.trouble is Trouble.TAKEN and again and await self._same(name, data):
                return
            await self._explain(error, len(data))
            raise
        finally:
            discarding = asyncio.get_running_loop().run_in_executor(self._threads, file.discard)
            await asyncio.wait({discarding}, timeout=_DISCARD_SECONDS)

    async def _same(self, name: str, data: bytes | bytearray) -> bool:
        """Whether a file holds what was to be written."""
        return len(data) <= _COMPARED and await self.read(name, 0, len(data) + 1, _COMPARED + 1) == data

    async def _explain(self, error: ServerError, size: int) -> None:
        """Some clients call it a plain failure: ask whether there is room for it."""
        if error.trouble is Trouble.OTHER and 0 <= (await self.room()).free < size + _SLACK:
            raise ServerError(Trouble.FULL, code=errno.ENOSPC) from error

    async def remove(self, name: str) -> None:
        await self._apart(lambda: self._files.remove(name))

    async def room(self) -> Room:
        return Room(*await self._apart(self._files.room))

    async def promises(self, size: int) -> Promises:
        first, second = (self._folder / trial_name() for _ in range(2))
        promise = _Promise(first, second)
        try:
            speeds = await measured(
                self.there,
                lambda data: self._apart(lambda: promise.write(data)),
                lambda: self._apart(first.read_bytes),
                size,
            )
            await self._apart(promise.try_names)
        finally:
            await self._apart(promise.remove)
        return Promises(promise.durable, promise.names_once, True, *speeds, deletes=promise.deletes)

    async def close(self) -> None:
        """Leave the threads behind that are held up."""
        self._threads.shutdown(wait=False)
        self._threads = ThreadPoolExecutor(_AT_ONCE)

    async def _apart(self, work: Callable[[], A]) -> A:
        """Do something in a thread of its own."""
        try:
            return await asyncio.get_running_loop().run_in_executor(self._threads, work)
        except GoodTideError as error:
            raise _told(error) from error
        except OSError as error:
            raise _told(_as_place_error(error)) from error


class _Promise:
    """What a share can promise, tried with two files that are removed again."""

    def __init__(self, first: Path, second: Path) -> None:
        self._first, self._second = first, second
        self.durable = self.names_once = self.deletes = True

    def write(self, data: bytes) -> None:
        """Write the first file."""
        with open(self._first, "xb") as file:
            file.write(data)
            file.flush()
            try:
                os.fsync(file.fileno())
            except OSError as error:
                if error.errno not in (errno.EINVAL, errno.ENOTSUP):
                    raise
                self.durable = False

    def try_names(self) -> None:
        """Give it a second name."""
        try:
            os.link(self._first, self._second)
        except OSError:
            self.names_once = False

    def remove(self) -> None:
        """Remove what there is of both."""
        for file in (self._first, self._second):
            try:
                file.unlink(missing_ok=True)
            except PermissionError:
                self.deletes = False


def _things(folder: Path) -> list[Thing]:
    """What lies in a folder."""
    found = []
    with disk_errors(str(folder)), os.scandir(folder) as listing:
        for item in listing:
            is_folder = item.is_dir(follow_symlinks=False)
            kind = "folder" if is_folder else "file" if item.is_file(follow_symlinks=False) else "other"
            found.append(Thing(_in_words(item.name), kind))
    return sorted(found, key=lambda one: one.name)


def _in_words(name: str) -> str:
    """A name, as well as it can be told; no file of a store has one that is no words."""
    return os.fsencode(name).decode(errors="replace")


def _as_place_error(error: OSError) -> PlaceError:
    try:
        with disk_errors(""):
            raise error
    except PlaceError as told:
        return told


def _told(error: GoodTideError) -> ServerError | LineBrokenError:
    """What an error of a folder comes down to. The system's number goes along, so that who asked can say it
    as of a disk."""
    cause = error.__cause__
    code = (cause.errno or 0) if isinstance(cause, OSError) else 0
    if code in _BROKEN:
        return LineBrokenError(os.strerror(code))
    match error:
        case PlaceAwayError():
            return ServerError(Trouble.NO_FOLDER)
        case NameTakenError():
            return ServerError(Trouble.TAKEN)
        case NotInPlaceError():
            return ServerError(Trouble.MISSING, code=errno.ENOENT)
        case PlaceFullError():
            return ServerError(Trouble.FULL, code=code or errno.ENOSPC)
        case DamageError():
            return ServerError(Trouble.OTHER, TOO_LARGE)
    denied = code in (errno.EACCES, errno.EPERM)
    return ServerError(Trouble.DENIED if denied else Trouble.OTHER, error.what, code=code or errno.EIO)
