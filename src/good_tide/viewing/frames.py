"""Messages between the process that reads files and the one that asks it: the length in four bytes,
big-endian, then MessagePack."""

from __future__ import annotations

from typing import IO

WALL_SECONDS = 10
"""So long a file may be read."""


def read_frame(stream: IO[bytes]) -> bytes | None:
    """A message; None at the end."""
    head = stream.read(4)
    if len(head) < 4:
        return None
    length = int.from_bytes(head, "big")
    data = stream.read(length)
    return data if len(data) == length else None


def write_frame(stream: IO[bytes], data: bytes) -> None:
    """Send a message."""
    stream.write(len(data).to_bytes(4, "big") + data)
    stream.flush()
