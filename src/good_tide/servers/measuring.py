"""How fast a server takes and gives, found out by trying."""

from __future__ import annotations

import secrets
import time
from collections.abc import Awaitable, Callable
from typing import NamedTuple

from good_tide.lines.wire import TRIAL, Trouble
from good_tide.servers.server import ServerError


class Speeds(NamedTuple):
    """Seconds that a question and its answer take, and bytes a second to the server and from it."""

    round_trip: float
    up: float
    down: float


def trial_name(random_bytes: int = 8) -> str:
    """A name for a file to try with, which nothing else has; without random bytes always the same."""
    return TRIAL + secrets.token_hex(random_bytes)


async def measured(
    ask: Callable[[], Awaitable[object]],
    write: Callable[[bytes], Awaitable[object]],
    read: Callable[[], Awaitable[bytes]],
    size: int,
) -> Speeds:
    """How fast it is with so many bytes.

    Raises:
        ServerError: it gives back others than it was given.
    """
    data = secrets.token_bytes(size)
    await ask()
    begun = time.monotonic()
    await ask()
    asked = time.monotonic()
    await write(data)
    written = time.monotonic()
    if await read() != data:
        raise ServerError(Trouble.OTHER, "it gave back other bytes than it was given")
    whole = time.monotonic() - written
    return Speeds(asked - begun, size / (written - asked), size / whole)
