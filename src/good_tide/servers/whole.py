"""Servers themselves, of which only parts can hold a store: what parts there are to choose from."""

from __future__ import annotations

from abc import ABC, abstractmethod

from good_tide.lines.wire import Found, Promises, Room, Thing, Trouble
from good_tide.servers.server import ServerError


class WholeServer(ABC):
    """Lists its shares or buckets, and holds nothing else."""

    @abstractmethod
    async def parts(self) -> list[str]:
        """Names of the parts that may hold files.

        Raises:
            ServerError: it does not tell.
        """

    @abstractmethod
    async def close(self) -> None:
        """End the connection; the next call opens another."""

    async def there(self) -> None:
        """Whether it lets in."""
        await self.parts()

    async def things(self, folder: str) -> list[Thing]:
        """Its parts, each a folder."""
        if folder:
            raise ServerError(Trouble.NO_FOLDER)
        return [Thing(name, "folder") for name in sorted(await self.parts())]

    async def make(self) -> None:
        """Nothing can be made in it."""
        raise ServerError(Trouble.NO_FOLDER)

    async def tree(self, folder: str) -> list[Found]:
        """As ``make``."""
        raise ServerError(Trouble.NO_FOLDER)

    async def size(self, name: str) -> int:
        """As ``make``."""
        raise ServerError(Trouble.NO_FOLDER)

    async def read(self, name: str, offset: int, length: int | None, limit: int) -> bytes:
        """As ``make``."""
        raise ServerError(Trouble.NO_FOLDER)

    async def put(self, name: str, owner: str, data: bytes | bytearray, exclusive: bool, again: bool) -> None:
        """As ``make``."""
        raise ServerError(Trouble.NO_FOLDER)

    async def remove(self, name: str) -> None:
        """As ``make``."""
        raise ServerError(Trouble.NO_FOLDER)

    async def room(self) -> Room:
        """It has none of its own."""
        return Room(-1, -1)

    async def promises(self, size: int) -> Promises:
        """As ``make``."""
        raise ServerError(Trouble.NO_FOLDER)
