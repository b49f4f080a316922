"""What servers of files and folders have in common: how a store's folder is looked through, and how a file is
made whole under a name of its own before it gets the one that is looked for."""

from __future__ import annotations

import asyncio
import hashlib
import secrets
from abc import ABC, abstractmethod
from collections import deque
from collections.abc import Awaitable, Callable, Coroutine
from typing import NamedTuple

from good_tide.lines.wire import Found, Room, Thing, Trouble
from good_tide.servers.server import DEEPEST, TEMPORARY, ServerError

_OPEN_FOLDERS = 16
"""Folders that are listed at once."""
_COMPARED = 1 << 20
_SLACK = 128 * 1024


CLAIM_SECONDS = 10.0
"""So long another may take to give a file the same name."""


def claim_of(name: str) -> str:
    """What somebody makes who is about to give a name, on servers that look whether a name is free and give
    it then: another who claims the same name waits."""
    return f"{TEMPORARY}/claim-{hashlib.blake2b(name.encode(), digest_size=12).hexdigest()}"


async def a_moment() -> None:
    """Wait a little, each a time of its own, so that two do not meet again."""
    await asyncio.sleep(0.005 + secrets.randbelow(40) / 1000)


async def in_blocks(
    part: Callable[[int, int], Coroutine[None, None, bytes]],
    offset: int,
    length: int,
    block: int,
    at_once: int,
) -> bytes:
    """So many bytes of a file, fewer at its end. Blocks are asked for before those before them have come.

    :param part: reads at an offset, so many bytes.
    :param block: bytes that are asked for together; ``at_once``: how many such blocks.
    """
    parts: list[bytes] = []
    coming: deque[asyncio.Task[bytes]] = deque()
    at, end = offset, offset + length
    try:
        while at < end or coming:
            while at < end and len(coming) < at_once:
                coming.append(asyncio.create_task(part(at, min(block, end - at))))
                at += block
            came = await coming.popleft()
            parts.append(came)
            if len(came) < block:
                break
    finally:
        for one in coming:
            one.cancel()
    return parts[0] if len(parts) == 1 else b"".join(parts)


class Entry(NamedTuple):
    """Something in a folder: ``kind`` is file, folder or other; the size of a file in bytes."""

    name: str
    kind: str
    size: int


class FolderServer(ABC):
    """A folder on a server that has folders. Names are relative to it, with slashes."""

    @abstractmethod
    async def entries(self, folder: str) -> list[Entry]:
        """What is in a folder; ``ServerError`` (missing) where it is not there."""

    @abstractmethod
    async def size(self, name: str) -> int:
        """Length of a file."""

    @abstractmethod
    async def read(self, name: str, offset: int, length: int | None, limit: int) -> bytes:
        """Bytes of a file."""

    @abstractmethod
    async def room(self) -> Room:
        """How much room there is."""

    @abstractmethod
    async def write(self, temporary: str, data: bytes | bytearray) -> None:
        """Write a file and make it durable; it does not stay where that fails."""

    @abstractmethod
    async def name_it(self, temporary: str, name: str, exclusive: bool) -> None:
        """Give a file its name; where that fails, it does not stay. ``ServerError`` (taken) where the name
        must be free and is not."""

    @abstractmethod
    async def make_folder(self, folder: str) -> None:
        """Make a folder, nothing if it is there; ``ServerError`` (missing) where the one above is not."""

    async def tree(self, folder: str) -> list[Found]:
        """Files in a folder and its sub-folders; none where it is not there."""
        found: list[Found] = []
        bound = asyncio.Semaphore(_OPEN_FOLDERS)

        async def look(inside: str, depth: int) -> None:
            async with bound:
                try:
                    entries = await self.entries(f"{folder}/{inside}".strip("/") if inside else folder)
                except ServerError as error:
                    if error.trouble is not Trouble.MISSING:
                        raise
                    return
            below = []
            for one in entries:
                if one.kind == "file":
                    found.append(Found(inside + one.name, one.size))
                elif one.kind == "folder" and depth < DEEPEST:
                    below.append(look(f"{inside}{one.name}/", depth + 1))
            await asyncio.gather(*below)

        await look("", 0)
        return sorted(found, key=lambda one: one.name)

    async def things(self, folder: str) -> list[Thing]:
        """What lies in a folder."""
        try:
            entries = await self.entries(folder)
        except ServerError as error:
            raise ServerError(Trouble.NO_FOLDER) if error.trouble is Trouble.MISSING else error from None
        return sorted((Thing(one.name, one.kind) for one in entries), key=lambda one: one.name)

    async def put(self, name: str, owner: str, data: bytes | bytearray, exclusive: bool, again: bool) -> None:
        """Make a file whole.

        :param again: an earlier try may have been carried out, and only its answer been lost.
        """
        temporary = f"{TEMPORARY}/{owner}{secrets.token_hex(8)}"
        written = False
        try:
            await self._in_folder(temporary, lambda: self.write(temporary, data))
            written = True
            await self._in_folder(name, lambda: self.name_it(temporary, name, exclusive))
        except ServerError as error:
            if error.trouble is Trouble.TAKEN and again and await self._same(name, data):
                return
            if error.trouble in (Trouble.OTHER, Trouble.FULL) and not written:
                await self._explain(error, len(data))
            raise

    async def _same(self, name: str, data: bytes | bytearray) -> bool:
        """Whether a file holds what was to be written."""
        if len(data) > _COMPARED or await self.size(name) != len(data):
            return False
        return await self.read(name, 0, len(data), len(data)) == data

    async def _explain(self, error: ServerError, size: int) -> None:
        """Many servers call it a plain failure: ask whether there is room for it."""
        room = await self.room()
        if 0 <= room.free < size + _SLACK:
            raise ServerError(Trouble.FULL) from error

    async def _in_folder(self, name: str, act: Callable[[], Awaitable[None]]) -> None:
        """Do something with a name; where its folder is not there, make it and do it again."""
        try:
            await act()
        except ServerError as error:
            if error.trouble is not Trouble.MISSING:
                raise
            await self._folder_of(name)
            await act()

    async def _folder_of(self, name: str) -> None:
        """Make the folder of a file, and those above it in the store; the folder of the address must be
        there."""
        folder = name.rpartition("/")[0]
        if not folder:
            return
        await self._folder_of(folder)
        try:
            await self.make_folder(folder)
        except ServerError as error:
            raise ServerError(Trouble.NO_FOLDER) if error.trouble is Trouble.MISSING else error from None
