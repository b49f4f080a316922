"""Folders on SFTP servers, over SSH."""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Awaitable
from typing import TypeVar

import asyncssh

from good_tide.core.addresses import HOME, Address
from good_tide.lines.wire import TOO_LARGE, Promises, Room, Trouble
from good_tide.servers.folders import Entry, FolderServer, in_blocks
from good_tide.servers.measuring import measured, trial_name
from good_tide.servers.open_files import OpenFiles
from good_tide.servers.server import Progress, ServerError
from good_tide.servers.ssh.connection import connect, later, told
from good_tide.servers.ssh.host_keys import HostKeys
from good_tide.servers.ssh.logins import SshAnswers

T = TypeVar("T")

_BLOCK = 128 * 1024
_UNDER_WAY = 24
"""Blocks under way at once: about 3 MB, which fills a line of 100 Mbit/s over a quarter of a second."""
_STRETCH, _STRETCHES = 8 * _BLOCK, 4
"""Bytes of a file that are asked for together, and how many such stretches at once."""
_PARTS_AHEAD = 8
"""Parts of a listing that are asked for at once, each of some hundred names."""
_KINDS = {asyncssh.FILEXFER_TYPE_REGULAR: "file", asyncssh.FILEXFER_TYPE_DIRECTORY: "folder"}
_HELD = "packs/"
"""Files that are kept open to read from: they are large, and not replaced by others of the same name."""


class SftpServer(FolderServer):
    """A folder on an SFTP server.

    :param tell: counts what goes over the line.
    """

    def __init__(self, address: Address, login: SshAnswers, keys: HostKeys, tell: Progress) -> None:
        self._address, self._login, self._keys, self._tell = address, login, keys, tell
        path = address.path
        self._root = path[len(HOME) :].lstrip("/") or "." if _from_home(path) else path
        self._connecting = asyncio.Lock()
        self._connection: asyncssh.SSHClientConnection | None = None
        self._client: asyncssh.SFTPClient | None = None
        self._held: OpenFiles[asyncssh.SFTPClientFile] = OpenFiles(self._open_to_read, _closed)

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

    async def entries(self, folder: str) -> list[Entry]:
        """What is in a folder. The library asks for one part after the other, each a round trip; here the
        next are asked for before one has come."""
        asking = (await self._open())._handler
        entries: list[Entry] = []
        with told():
            handle = await asking.opendir(self._path(folder).encode())
            try:
                ahead, ended = 2, False
                while not ended:
                    parts = await asyncio.gather(
                        *(asking.readdir(handle) for _ in range(ahead)), return_exceptions=True
                    )
                    for part in parts:
                        if isinstance(part, asyncssh.SFTPEOFError):
                            ended = True
                        elif isinstance(part, BaseException):
                            raise part
                        else:
                            entries += map(_entry, part[0])
                    ahead = min(_PARTS_AHEAD, 2 * ahead)
            finally:
                later(asking.close(handle))
        self._tell.moved(received=len(entries) * 64)
        return [one for one in entries if one.name not in (".", "..")]

    async def size(self, name: str) -> int:
        client = await self._open()
        with told():
            found = await client.lstat(self._path(name))
        if found.type not in (asyncssh.FILEXFER_TYPE_REGULAR, asyncssh.FILEXFER_TYPE_UNKNOWN):
            raise ServerError(Trouble.MISSING)
        return found.size or 0

    async def read(self, name: str, offset: int, length: int | None, limit: int) -> bytes:
        with told():
            held = name.startswith(_HELD)
            file = await self._held.get(name) if held else await self._open_to_read(name)
            try:
                if held and length is not None:
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
                    raise ServerError(Trouble.OTHER, TOO_LARGE)
                left = length - len(first)
                return first + await self._read_fully(file, offset + len(first), left) if left > 0 else first
            finally:
                if not held:
                    later(file.close())

    async def _open_to_read(self, name: str) -> asyncssh.SFTPClientFile:
        client = await self._open()
        with told():
            return await client.open(self._path(name), "rb", block_size=_BLOCK, max_requests=_UNDER_WAY)

    async def _read_fully(self, file: asyncssh.SFTPClientFile, offset: int, length: int) -> bytes:
        return await in_blocks(
            lambda at, count: self._stretch(file, at, count), offset, length, _STRETCH, _STRETCHES
        )

    async def _stretch(self, file: asyncssh.SFTPClientFile, offset: int, length: int) -> bytes:
        await self._tell.pace(received=length)
        part = await file.read(length, offset)
        assert isinstance(part, bytes)
        self._tell.moved(received=len(part))
        return part

    async def put(self, name: str, owner: str, data: bytes | bytearray, exclusive: bool, again: bool) -> None:
        try:
            await super().put(name, owner, data, exclusive, again)
        finally:
            await self._held.let_go(name)

    async def write(self, temporary: str, data: bytes | bytearray) -> None:
        client = await self._open()
        with told():
            await self._write(client, temporary, data)

    async def _write(self, client: asyncssh.SFTPClient, temporary: str, data: bytes | bytearray) -> None:
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

    async def name_it(self, temporary: str, name: str, exclusive: bool) -> None:
        """Where the name must be free it is given by a link, which no other can come before."""
        client = await self._open()
        with told():
            await self._name_it(client, temporary, name, exclusive)

    async def _name_it(self, client: asyncssh.SFTPClient, temporary: str, name: str, exclusive: bool) -> None:
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

    async def make_folder(self, folder: str) -> None:
        client = await self._open()
        with told():
            try:
                await client.mkdir(self._path(folder), asyncssh.SFTPAttrs(permissions=0o700))
            except asyncssh.SFTPNoSuchFile:
                raise
            except asyncssh.SFTPError:
                if not await client.isdir(self._path(folder)):
                    raise

    async def remove(self, name: str) -> None:
        client = await self._open()
        await self._held.let_go(name)
        with told(), contextlib.suppress(asyncssh.SFTPNoSuchFile):
            await client.remove(self._path(name))

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
        first, second = trial_name(), trial_name()
        with told():
            try:
                speeds = await measured(
                    lambda: client.stat(self._root),
                    lambda data: self._write(client, first, data),
                    lambda: self.read(first, 0, size, size),
                    size,
                )
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
        return Promises(durable, once, replaces, *speeds)

    async def close(self) -> None:
        connection, self._connection, self._client = self._connection, None, None
        self._held.forget()
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


async def _closed(file: asyncssh.SFTPClientFile) -> None:
    later(file.close())


def _from_home(path: str) -> bool:
    return path == HOME or path.startswith(f"{HOME}/")


def _entry(named: asyncssh.SFTPName) -> Entry:
    attributes = named.attrs
    return Entry(os.fsdecode(named.filename), _KINDS.get(attributes.type, "other"), attributes.size or 0)


async def _missing_as(trouble: Trouble, asked: Awaitable[T]) -> T:
    try:
        return await asked
    except asyncssh.SFTPNoSuchFile as error:
        raise ServerError(trouble) from error
