"""A line with delay and limited speed to a server on loopback: ``python -m tests.support.slow_line PORT TO
MILLISECONDS BYTES``. Each direction delays by half the round trip, and takes so many bytes a second."""

from __future__ import annotations

import asyncio
import contextlib
import subprocess
import sys
import time
from pathlib import Path

_PART = 64 * 1024
_BURST = 0.02
"""Seconds for which a line that stood still may make up, so that a sleep a little too long costs nothing."""
_WAITING_PARTS = 64
"""Parts that are on the way at most: what a line of 100 Mbit/s holds in a third of a second."""


async def _carry(
    source: asyncio.StreamReader, target: asyncio.StreamWriter, delay: float, rate: float
) -> None:
    """Bytes of one direction, in order, each part as late as the line makes it."""
    waiting: asyncio.Queue[tuple[float, bytes]] = asyncio.Queue(_WAITING_PARTS)

    async def give() -> None:
        while True:
            due, part = await waiting.get()
            await asyncio.sleep(max(0.0, due - time.monotonic()))
            if not part:
                target.close()
                return
            target.write(part)
            await target.drain()

    giving = asyncio.ensure_future(give())
    free = time.monotonic()
    with contextlib.suppress(OSError):
        while True:
            part = await source.read(_PART)
            free = max(free, time.monotonic() - _BURST) + len(part) / rate
            await waiting.put((free + delay, part))
            if not part:
                break
            await asyncio.sleep(max(0.0, free - time.monotonic()))
    with contextlib.suppress(OSError):
        await giving


async def _serve(port: int, to: int, seconds: float, rate: float) -> None:
    async def client(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        there, back = await asyncio.open_connection("127.0.0.1", to)
        await asyncio.gather(
            _carry(reader, back, seconds / 2, rate), _carry(there, writer, seconds / 2, rate)
        )

    server = await asyncio.start_server(client, "127.0.0.1", port)
    print("ready", flush=True)
    await server.serve_forever()


class SlowLine:
    """The process of a line, as long as it is used in a ``with`` block."""

    def __init__(self, port: int, to: int, milliseconds: float, rate: float = 12.5e6) -> None:
        words = [sys.executable, "-m", "tests.support.slow_line", *map(str, (port, to, milliseconds, rate))]
        root = Path(__file__).resolve().parents[2]
        self._process = subprocess.Popen(words, stdout=subprocess.PIPE, cwd=root)
        assert self._process.stdout is not None
        self._process.stdout.readline()

    def end(self) -> None:
        """Cut it."""
        self._process.kill()
        self._process.wait()
        assert self._process.stdout is not None
        self._process.stdout.close()


if __name__ == "__main__":
    asyncio.run(_serve(int(sys.argv[1]), int(sys.argv[2]), float(sys.argv[3]) / 1000, float(sys.argv[4])))
