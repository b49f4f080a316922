"""The process that speaks with a server: ``python -m good_tide.servers.helper``. On standard input come what
it begins with and then calls, on standard output go answers (``lines.wire``). It ends with its input."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import sys
import time

import msgspec

from good_tide.lines.wire import (
    Answered,
    AnyCall,
    Asked,
    AskRoom,
    Begin,
    Failed,
    Frame,
    Limit,
    Make,
    Moved,
    Put,
    Read,
    Remove,
    Size,
    There,
    Things,
    Tree,
    Trouble,
    Try,
    frame,
    read_frame,
)
from good_tide.servers.kinds import server_for
from good_tide.servers.server import LineBrokenError, Progress, Server, ServerError
from good_tide.system.limits import set_process_limits

_TRY_SECONDS = 60.0
"""So long a call is tried again when the line breaks."""
_FIRST_PAUSE, _LONGEST_PAUSE = 0.5, 15.0
_STILL_SECONDS = 25.0
"""A connection over which nothing moves for so long, while something is asked, is given up."""
_SETTLING_SECONDS = 120.0
"""The same while a server makes durable what it has, which its disk may hold up; a line that is dead is found
sooner, as SSH asks for signs of life by itself."""
_AT_ONCE_SECONDS = 6.0
_SIGN_SECONDS = 1.0
_MOST_CALLS = 48
"""Calls that are under way at once."""


class _Serving:
    """Carries out calls, each in a task of its own."""

    def __init__(self, begin: Begin) -> None:
        self._progress = Progress(self._moved, begin.limit)
        self._server: Server | None = None
        self._begin = begin
        self._last_move = time.monotonic()
        self._bound = asyncio.Semaphore(_MOST_CALLS)

    def _moved(self) -> None:
        self._last_move = time.monotonic()

    def _served(self) -> Server:
        if self._server is None:
            self._server = server_for(self._begin, self._progress)
        return self._server

    async def carry_out(self, asked: Asked, payload: bytearray) -> None:
        """Answer a call."""
        number = asked.number
        async with self._bound:
            try:
                value, read = await self._tried(asked, payload)
            except ServerError as error:
                failed = Failed(number, error.trouble, error.said, error.shown, error.known, error.code)
                _answer(_in_words(failed))
            except LineBrokenError as error:
                _answer(_in_words(Failed(number, Trouble.AWAY, str(error))))
            except Exception as error:
                _answer(_in_words(Failed(number, Trouble.OTHER, f"{type(error).__name__}: {error}")))
            else:
                _answer(Answered(number, value), read)

    async def _tried(self, asked: Asked, payload: bytearray) -> tuple[msgspec.Raw, bytes]:
        """Carry out a call, again over a new connection while it breaks: once at least, as the server may
        have ended one that was idle."""
        deadline = time.monotonic() + (_TRY_SECONDS if asked.patient else 0.0)
        pause, tries = _FIRST_PAUSE, 0
        while True:
            tries += 1
            before = self._last_move
            try:
                return await self._watched(asked, payload, asked.again or tries > 1)
            except LineBrokenError:
                if self._last_move > before and asked.patient:  # it moves, so it is worth going on
                    deadline, pause = time.monotonic() + _TRY_SECONDS, _FIRST_PAUSE
                if tries > 1 and time.monotonic() + pause > deadline:
                    raise
            if tries > 1:
                await asyncio.sleep(pause)
                pause = min(_LONGEST_PAUSE, 2 * pause)

    async def _watched(self, asked: Asked, payload: bytearray, again: bool) -> tuple[msgspec.Raw, bytes]:
        """Carry out a call, unless the connection stands still."""
        still = _STILL_SECONDS if asked.patient else _AT_ONCE_SECONDS
        began = time.monotonic()
        work = asyncio.ensure_future(self._do(asked.call, payload, again))
        while True:
            done, _ = await asyncio.wait({work}, timeout=1.0)
            if done:
                return work.result()
            limit = max(still, _SETTLING_SECONDS) if self._progress.still else still
            if time.monotonic() - max(began, self._last_move) > limit:
                work.cancel()
                with contextlib.suppress(asyncio.CancelledError, ServerError, LineBrokenError):
                    await work
                await self._served().close()
                raise LineBrokenError("nothing came for too long")

    async def _do(self, call: AnyCall, payload: bytearray, again: bool) -> tuple[msgspec.Raw, bytes]:
        if isinstance(call, Limit):
            self._progress.limit_to(call.limit)
            return msgspec.Raw(b"\xc0"), b""
        server = self._served()
        value: object = None
        match call:
            case There():
                await server.there()
            case Make():
                await server.make()
            case Tree(folder):
                value = await server.tree(folder)
            case Things(folder):
                value = await server.things(folder)
            case Size(name):
                value = await server.size(name)
            case Read(name, offset, length, limit):
                return msgspec.Raw(b"\xc0"), await server.read(name, offset, length, limit)
            case Put(name, owner, exclusive):
                await server.put(name, owner, payload, exclusive, again)
            case Remove(name):
                await server.remove(name)
            case AskRoom():
                value = await server.room()
            case Try(size):
                value = await server.promises(size)
        return msgspec.Raw(msgspec.msgpack.encode(value)), b""

    async def signs(self) -> None:
        """Say as long as something moves."""
        told = 0.0
        while True:
            await asyncio.sleep(_SIGN_SECONDS)
            if self._last_move > told:
                told = self._last_move
                _answer(Moved(self._progress.sent, self._progress.received))


def _in_words(failed: Failed) -> Failed:
    """What was said may hold names that are no words, which cannot be sent."""
    return msgspec.structs.replace(failed, said=failed.said.encode(errors="replace").decode())


def _answer(message: msgspec.Struct, payload: bytes = b"") -> None:
    out = sys.stdout.buffer
    out.write(frame(message, len(payload)))
    if payload:
        out.write(payload)
    out.flush()


async def _serve() -> None:
    loop = asyncio.get_running_loop()

    def take() -> Frame | None:
        return read_frame(sys.stdin.buffer)

    begin = await loop.run_in_executor(None, take)
    if begin is None:
        return
    serving = _Serving(msgspec.msgpack.decode(begin.message, type=Begin))
    signs = asyncio.ensure_future(serving.signs())
    running: set[asyncio.Task[None]] = set()
    while (came := await loop.run_in_executor(None, take)) is not None:
        asked = msgspec.msgpack.decode(came.message, type=Asked)
        task = asyncio.create_task(serving.carry_out(asked, came.payload))
        running.add(task)
        task.add_done_callback(running.discard)
    signs.cancel()


def main() -> None:
    """Serve until the input ends."""
    set_process_limits()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    with contextlib.suppress(BrokenPipeError):
        asyncio.run(_serve())
    os._exit(0)


if __name__ == "__main__":
    main()
