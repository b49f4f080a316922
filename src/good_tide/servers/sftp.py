"""Folders on SFTP servers, over SSH."""

from __future__ import annotations

import asyncio
import contextlib
import os
import secrets
import time
from collections import OrderedDict, deque
from collections.abc import Awaitable, Callable
from typing import TypeVar

import asyncssh

from good_tide.core.addresses import HOME, Address
from good_tide.lines.wire import Found, Promises, Room, Thing, Trouble
from good_tide.servers.host_keys import HostKeys
from good_tide.servers.logins import Answers
from good_tide.servers.server import DEEPEST, TEMPORARY, Progress, ServerError
from good_tide.servers.ssh import connect, later, told

T = TypeVar("T")

_BLOCK = 128 * 1024
_UNDER_WAY = 24
"""Blocks under way at once: about 3 MB, which fills a line of 100 Mbit/s over a quarter of a second."""
_STRETCH, _STRETCHES = 8 * _BLOCK, 4
"""Bytes of a file that are asked for together, and how many such stretches at once."""
_OPEN_FILES = 16
_OPEN_FOLDERS = 16
"""Folders that are listed at once."""
_PARTS_AHEAD = 8
"""Parts of a listing that are asked for at once, each of some hundred names."""
_COMPARED = 1 << 20
_HELD = "packs/"
"""Files that are kept open to read from: they are large, and not replaced by others of the same name."""


class SftpServer:
    """A folder on an SFTP server.

    :param tell: counts what goes over the line.
    """

    def __init__(self, address: Address, login: Answers, keys: HostKeys, tell: Progress) -> None:
        self._address, self._login, self._keys, self._tell = address, login, keys, tell
        path = address.path
        self._root = path[len(HOME) :].lstrip("/") or "." if _from_home(path) else path
        self._connecting = asyncio.Lock()
        self._connection: asyncssh.SSHClientConnection | None = None
        self._client: asyncssh.SFTPClient | None = None
        self._held: OrderedDict[str, asyncssh.SFTPClientFile] = OrderedDict()

    async def there(self) -> None:
        client = await self._open()
        with told():
            kind = await _missing_as(Trouble.NO_FOLDER, client.stat(self._root))
        if kind.type not in (asyncssh.FILEXFER_TYPE_DIRECTORY, asyncssh.FILEXFER_TYPE_UNKNOWN):
            raise ServerError(Trouble.NO_FOLDER)

    async def make(self) -> None:
        client = await self._open()
        with told():
            await client.makedirs(self._root, asyncssh.SFTPAttrs(permissions=0o700), exist_ok=True)

    async def tree(self, folder: str) -> list[Found]:
        found: list[Found] = []
        bound = asyncio.Semaphore(_OPEN_FOLDERS)

        async def look(inside: str, depth: int) -> None:
            async with bound:
                entries = await self._entries(f"{folder}/{inside}" if inside else folder)
            below = []
            for name, attributes in entries:
                if attributes.type == asyncssh.FILEXFER_TYPE_REGULAR:
                    found.append(Found(inside + name, attributes.size or 0))
                elif attributes.type == asyncssh.FILEXFER_TYPE_DIRECTORY and depth < DEEPEST:
                    below.append(look(f"{inside}{name}/", depth + 1))
            await asyncio.gather(*below)

        await look("", 0)
        return sorted(found, key=lambda one: one.name)

    async def things(self, folder: str) -> list[Thing]:
        kinds = {asyncssh.FILEXFER_TYPE_REGULAR: "file", asyncssh.FILEXFER_TYPE_DIRECTORY: "folder"}
        client = await self._open()
        with told():
            await _missing_as(Trouble.NO_FOLDER, client.stat(self._path(folder)))
        entries = await self._entries(folder)
        return sorted(
            (Thing(name, kinds.get(attributes.type, "other")) for name, attributes in entries),
            key=lambda one: one.name,
        )

    async def _entries(self, folder: str) -> list[tuple[str, asyncssh.SFTPAttrs]]:
        """What is in a folder. The library asks for one part after the other, each a round trip; here the
        next are asked for before one has come."""
        asking = (await self._open())._handler
        entries: list[tuple[str, asyncssh.SFTPAttrs]] = []
        with told():
            try:
                handle = await asking.opendir(self._path(folder).encode())
            except asyncssh.SFTPNoSuchFile:
                return []
            try:
                ahead, ended = 2, False
                while not ended:
                    parts = await asyncio.gather(
                        *(asking.readdir(handle) for _ in range(ahead)), return_exceptions=True
                    )
                    for part in parts:
                        if isinstance(part, asyncssh.SFTPEOFError | asyncssh.SFTPNoSuchFile):
                            ended = True  # some servers look for the folder only now
                        elif isinstance(part, BaseException):
                            raise part
                        else:
                            entries += [(_name(entry.filename), entry.attrs) for entry in part[0]]
                    ahead = min(_PARTS_AHEAD, 2 * ahead)
            finally:
                later(asking.close(handle))
        self._tell.moved(received=len(entries) * 64)
        return [(name, attributes) for name, attributes in entries if name not in (".", "..")]

    async def size(self, name: str) -> int:
        client = await self._open()
        with told():
            found = await client.lstat(self._path(name))
        if found.type not in (asyncssh.FILEXFER_TYPE_REGULAR, asyncssh.FILEXFER_TYPE_UNKNOWN):
            raise ServerError(Trouble.MISSING)
        return found.size or 0

    async def read(self, name: str, offset: int, length: int | None, limit: int) -> bytes:
        with told():
            file = await self._to_read(name)
            try:
                if name.startswith(_HELD) and length is not None:
                    return await self._read_fully(file, offset, length)
                if length is not None and length <= _BLOCK:
                    whole = await self._stretch(file, offset, length)
                    if len(whole) == length:
                        return whole
                first, found = await asyncio.gather(
                    file.read(min(_BLOCK, limit if length is None else length), offset), file.stat()
                )
                assert isinstance(first, bytes)
                self._tell.moved(received=len(first))
                rest = max(0, (found.size or 0) - offset)
                length = rest if length is None else min(length, rest)
                if length > limit:
                    raise ServerError(Trouble.OTHER, "too large")
                left = length - len(first)
                return first + await self._read_fully(file, offset + len(first), left) if left > 0 else first
            finally:
                if not name.startswith(_HELD):
                    later(file.close())

    async def _to_read(self, name: str) -> asyncssh.SFTPClientFile:
        held = self._held.get(name)
        if held is not None:
            self._held.move_to_end(name)
            return held
        client = await self._open()
        file = await client.open(self._path(name), "rb", block_size=_BLOCK, max_requests=_UNDER_WAY)
        if name.startswith(_HELD):
            self._held[name] = file
            while len(self._held) > _OPEN_FILES:
                later(self._held.popitem(last=False)[1].close())
        return file

    async def _read_fully(self, file: asyncssh.SFTPClientFile, offset: int, length: int) -> bytes:
        """So many bytes, fewer at the end of the file. Stretches are asked for before those before them have
        come."""
        parts: list[bytes] = []
        coming: deque[asyncio.Future[bytes]] = deque()
        at, end = offset, offset + length
        try:
            while at < end or coming:
                while at < end and len(coming) < _STRETCHES:
                    coming.append(asyncio.ensure_future(self._stretch(file, at, min(_STRETCH, end - at))))
                    at += _STRETCH
                part = await coming.popleft()
                parts.append(part)
                if len(part) < _STRETCH:
                    break
        finally:
            for one in coming:
                one.cancel()
        return parts[0] if len(parts) == 1 else b"".join(parts)

    async def _stretch(self, file: asyncssh.SFTPClientFile, offset: int, length: int) -> bytes:
        await self._tell.pace(received=length)
        part = await file.read(length, offset)
        assert isinstance(part, bytes)
        self._tell.moved(received=len(part))
        return part

    async def put(self, name: str, owner: str, data: bytes | bytearray, exclusive: bool, again: bool) -> None:
        client = await self._open()
        temporary = f"{TEMPORARY}/{owner}{secrets.token_hex(8)}"
        written = False
        try:
            with told():
                await self._in_folder(temporary, lambda: self._write(client, temporary, data))
                written = True
                await self._in_folder(name, lambda: self._name_it(client, temporary, name, exclusive))
        except ServerError as error:
            if error.trouble is Trouble.TAKEN and again and await self._same(name, data):
                return
            if error.trouble in (Trouble.OTHER, Trouble.FULL):
                await self._explain(error, len(data), written)
            raise
        finally:
            self._forget(name)

    async def _write(self, client: asyncssh.SFTPClient, temporary: str, data: bytes | bytearray) -> None:
        """Write a temporary file and make it durable; it does not stay where that fails."""
        path = self._path(temporary)
        try:
            file = await client.open(
                path,
                asyncssh.FXF_WRITE | asyncssh.FXF_CREAT | asyncssh.FXF_EXCL,
                asyncssh.SFTPAttrs(permissions=0o600),
                encoding=None,
                block_size=_BLOCK,
                max_requests=_UNDER_WAY,
            )
            try:
                view, at = memoryview(data), 0
                step = _BLOCK if self._tell.limited else _BLOCK * _UNDER_WAY
                running: list[asyncio.Task[None]] = []
                while at < len(data):
                    running.append(asyncio.ensure_future(self._write_part(file, view[at : at + step], at)))
                    at += step
                    if len(running) > 1:
                        await running.pop(0)
                await asyncio.gather(*running)  # not every server keeps requests in order
                with self._tell.settling(), contextlib.suppress(asyncssh.SFTPOpUnsupported):
                    await file.fsync()
            finally:
                later(file.close())
        except asyncssh.SFTPError:
            with contextlib.suppress(asyncssh.SFTPError):
                await client.remove(path)
            raise

    async def _write_part(self, file: asyncssh.SFTPClientFile, part: memoryview, at: int) -> None:
        await self._tell.pace(sent=len(part))
        await file.write(bytes(part), at)
        self._tell.moved(sent=len(part))

    async def _name_it(self, client: asyncssh.SFTPClient, temporary: str, name: str, exclusive: bool) -> None:
        """Give a file its name. Where the name must be free by a link, which no other can come before."""
        source, target = self._path(temporary), self._path(name)
        try:
            if not exclusive:
                try:
                    await client.posix_rename(source, target)
                except asyncssh.SFTPOpUnsupported:
                    await self._replace(client, source, target)
                return
            try:
                await client.link(source, target)
            except asyncssh.SFTPOpUnsupported:
                await client.rename(source, target)  # version 3: refuses a name that is taken
            else:
                await client.remove(source)
        except asyncssh.SFTPNoSuchFile:
            raise
        except asyncssh.SFTPError as error:
            taken = exclusive and await client.lexists(target)
            with contextlib.suppress(asyncssh.SFTPError):
                await client.remove(source)
            if not taken:
                raise
            raise ServerError(Trouble.TAKEN) from error

    async def _replace(self, client: asyncssh.SFTPClient, source: str, target: str) -> None:
        """For servers that cannot put one file in the place of another: the name is free for a moment."""
        with contextlib.suppress(asyncssh.SFTPNoSuchFile):
            await client.remove(target)
        await client.rename(source, target)

    async def _same(self, name: str, data: bytes | bytearray) -> bool:
        """Whether a file holds what was to be written."""
        if len(data) > _COMPARED or await self.size(name) != len(data):
            return False
        return await self.read(name, 0, len(data), len(data)) == data

    async def _explain(self, error: ServerError, size: int, written: bool) -> None:
        """Version 3 of the protocol calls most things a failure: ask what may be behind it."""
        room = await self.room()
        if not written and 0 <= room.free < size + _BLOCK:
            raise ServerError(Trouble.FULL) from error

    async def _in_folder(self, name: str, act: Callable[[], Awaitable[None]]) -> None:
        """Do something with a name; where its folder is not there, make it and do it again."""
        try:
            await act()
        except asyncssh.SFTPNoSuchFile:
            await self._folder_of(name)
            await act()

    async def _folder_of(self, name: str) -> None:
        """Make the folder of a file, and those above it in the store; the folder of the address must be
        there."""
        folder = name.rpartition("/")[0]
        if not folder:
            return
        await self._folder_of(folder)
        client = await self._open()
        try:
            await client.mkdir(self._path(folder), asyncssh.SFTPAttrs(permissions=0o700))
        except asyncssh.SFTPNoSuchFile:
            raise ServerError(Trouble.NO_FOLDER) from None
        except asyncssh.SFTPError:
            if not await client.isdir(self._path(folder)):
                raise

    async def remove(self, name: str) -> None:
        client = await self._open()
        self._forget(name)
        with told(), contextlib.suppress(asyncssh.SFTPNoSuchFile):
            await client.remove(self._path(name))

    def _forget(self, name: str) -> None:
        held = self._held.pop(name, None)
        if held is not None:
            later(held.close())

    async def room(self) -> Room:
        client = await self._open()
        with told():
            try:
                found = await client.statvfs(self._root)
            except asyncssh.SFTPOpUnsupported:
                return Room(-1, -1)
        unit = found.frsize or found.bsize
        return Room(found.bavail * unit, found.blocks * unit)

    async def promises(self, size: int) -> Promises:
        client = await self._open()
        durable = replaces = once = True
        first, second = (f".good-tide-try-{secrets.token_hex(8)}" for _ in range(2))
        data = secrets.token_bytes(size)
        with told():
            begun = time.monotonic()
            await client.stat(self._root)
            round_trip = time.monotonic() - begun
            try:
                begun = time.monotonic()
                await self._write(client, first, data)
                up = time.monotonic() - begun
                begun = time.monotonic()
                whole = await self.read(first, 0, size, size) == data
                down = time.monotonic() - begun
                async with client.open(self._path(first), "ab", encoding=None) as file:
                    try:
                        await file.fsync()
                    except asyncssh.SFTPOpUnsupported:
                        durable = False
                try:
                    await client.posix_rename(self._path(first), self._path(second))
                    await client.posix_rename(self._path(second), self._path(first))
                except asyncssh.SFTPOpUnsupported:
                    replaces = False
                try:
                    await client.link(self._path(first), self._path(second))
                except asyncssh.SFTPError:
                    once = False
            finally:
                for name in (first, second):
                    with contextlib.suppress(asyncssh.SFTPError):
                        await client.remove(self._path(name))
        if not whole:
            raise ServerError(Trouble.OTHER, "it gave back other bytes than it was given")
        return Promises(durable, once, replaces, round_trip, size / up, size / down)

    async def close(self) -> None:
        connection, self._connection, self._client = self._connection, None, None
        self._held.clear()
        if connection is not None:
            connection.abort()

    def _path(self, name: str) -> str:
        return f"{self._root}/{name}" if name else self._root

    async def _open(self) -> asyncssh.SFTPClient:
        """The client of the connection that is open, or of a new one."""
        async with self._connecting:
            if self._client is None or self._connection is None or self._connection.is_closed():
                await self.close()
                self._connection, self._client = await connect(
                    self._address, self._login, self._keys, self._tell
                )
            return self._client


def _from_home(path: str) -> bool:
    return path == HOME or path.startswith(f"{HOME}/")


def _name(name: str | bytes) -> str:
    return os.fsdecode(name)


async def _missing_as(trouble: Trouble, asked: Awaitable[T]) -> T:
    try:
        return await asked
    except asyncssh.SFTPNoSuchFile as error:
        raise ServerError(trouble) from error
