"""What every kind of server gives, and the errors that it has in common."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Callable, Iterator
from typing import Protocol

from good_tide.core.hours import Hours
from good_tide.core.settings import LineLimit
from good_tide.lines.wire import Found, Promises, Room, Thing, Trouble
from good_tide.system.machine import local_zone

DEEPEST = 3
"""How many folders deep a store goes, and is looked into."""
TEMPORARY = "tmp"
"""Folder of files that are not yet complete."""


class ServerError(Exception):
    """A server, or the way to it, did not do something.

    :param trouble: what it comes down to.
    :param said: what the server said.
    :param shown: fingerprint of the key that it showed; ``known``: of those that it showed before.
    :param code: number of the system's error, where it is the system that speaks with it.
    """

    def __init__(
        self, trouble: Trouble, said: str = "", shown: str = "", known: str = "", code: int = 0
    ) -> None:
        super().__init__(trouble, said)
        self.trouble, self.said, self.shown, self.known, self.code = trouble, said, shown, known, code


class LineBrokenError(Exception):
    """The connection ended, or nothing came over it for too long: it is worth another try."""


class Server(Protocol):
    """A folder on a server. Each call raises ``ServerError``, or ``LineBrokenError`` when it may be tried
    again over a new connection; several may be under way at once. Names are relative to the folder."""

    async def there(self) -> None:
        """Whether the folder is there."""
        ...

    async def make(self) -> None:
        """Make the folder, and those above it."""
        ...

    async def tree(self, folder: str) -> list[Found]:
        """Files in a folder and its sub-folders; none where it is not there."""
        ...

    async def things(self, folder: str) -> list[Thing]:
        """What lies in a folder."""
        ...

    async def size(self, name: str) -> int:
        """Length of a file."""
        ...

    async def read(self, name: str, offset: int, length: int | None, limit: int) -> bytes:
        """Bytes of a file, not more than ``limit``."""
        ...

    async def put(self, name: str, owner: str, data: bytes | bytearray, exclusive: bool, again: bool) -> None:
        """Make a file whole.

        :param again: an earlier try may have been carried out, and only its answer been lost.
        """
        ...

    async def remove(self, name: str) -> None:
        """Remove a file; nothing if it is not there."""
        ...

    async def room(self) -> Room:
        """How much room there is."""
        ...

    async def promises(self, size: int) -> Promises:
        """What it can promise, and how fast it takes and gives so many bytes; nothing stays of them."""
        ...

    async def close(self) -> None:
        """End the connection; the next call opens another."""
        ...


class Progress:
    """Bytes that servers have acknowledged, and how many may follow.

    :param tell: called when something moves, or waits because no more may.
    """

    def __init__(self, tell: Callable[[], None], limit: LineLimit | None = None) -> None:
        self._limit = limit or LineLimit()
        self._free = [0.0, 0.0]
        """When the next bytes may move, to the server and from it (seconds of the monotonic clock)."""
        self.sent = 0
        self.received = 0
        self.still = 0
        """How many calls wait for something that may take long."""
        self._tell = tell

    def limit_to(self, limit: LineLimit) -> None:
        """Move no more than so much from now on."""
        self._limit, self._free = limit, [0.0, 0.0]

    @property
    def limited(self) -> bool:
        """Whether there is a limit, at any time."""
        return bool(self._limit.up_bytes or self._limit.down_bytes)

    async def pace(self, sent: int = 0, received: int = 0) -> None:
        """Wait until so many bytes may move."""
        limit = self._limit
        for way, (count, rate) in enumerate(((sent, limit.up_bytes), (received, limit.down_bytes))):
            if not count or not rate or not self._holds(limit):
                continue
            due = max(self._free[way], time.monotonic())
            self._free[way] = due + count / rate
            while (left := due - time.monotonic()) > 0 and self._limit is limit and self._holds(limit):
                await asyncio.sleep(min(left, 1.0))
                self._tell()

    @staticmethod
    def _holds(limit: LineLimit) -> bool:
        return not limit.hours or Hours.of(limit.hours).is_open(time.time_ns(), local_zone())

    @contextlib.contextmanager
    def settling(self) -> Iterator[None]:
        """Meanwhile nothing moves, and that says nothing: the server makes durable what it has."""
        self.still += 1
        try:
            yield
        finally:
            self.still -= 1
            self._tell()

    def moved(self, sent: int = 0, received: int = 0) -> None:
        """Count some more."""
        self.sent += sent
        self.received += received
        self._tell()
