"""Asks the process in which files are read, and begins it anew when it fell."""

from __future__ import annotations

import contextlib
import os
import queue
import select
import subprocess
import sys
import threading
import time
from typing import IO

import msgspec

from good_tide.viewing.frames import WALL_SECONDS, write_frame
from good_tide.viewing.requests import Answer, Failed, Request

_PATIENCE = WALL_SECONDS + 5.0
"""Seconds after which the process itself is given up: its child has been ended by then."""
_AT_ONCE = 2
"""So many files are read at the same time: one that hangs does not hold up the next."""


class _Gone(Exception):
    """The process is not there any more."""


class _Process:
    """One process that reads files, one after the other."""

    def __init__(self) -> None:
        self._running: subprocess.Popen[bytes] | None = None

    def ask(self, request: bytes) -> bytes:
        """Its answer. Begun where it does not run; raises ``_Gone``."""
        running = self._running
        if running is None or running.poll() is not None:
            running = self._begin()
        assert running.stdin is not None
        assert running.stdout is not None
        try:
            write_frame(running.stdin, request)
            return _read_frame(running.stdout, time.monotonic() + _PATIENCE)
        except (OSError, _Gone) as error:
            self.end()
            raise _Gone from error

    def _begin(self) -> subprocess.Popen[bytes]:
        self.end()
        environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1", "PYTHONDONTWRITEBYTECODE": "1"}
        self._running = subprocess.Popen(
            [sys.executable, "-P", "-m", "good_tide.viewing.helper"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            env=environment,
        )
        return self._running

    def end(self) -> None:
        """It is needed no more."""
        running, self._running = self._running, None
        if running is not None:
            running.kill()
            for stream in (running.stdin, running.stdout):
                if stream is not None:
                    with contextlib.suppress(OSError):
                        stream.close()
            running.wait()


def _read_frame(stream: IO[bytes], deadline: float) -> bytes:
    """A whole answer, however it comes in pieces; raises ``_Gone`` when it does not come in time."""

    def read(count: int) -> bytes:
        parts = []
        while count:
            left = deadline - time.monotonic()
            if left <= 0 or not select.select([stream], [], [], left)[0]:
                raise _Gone
            part = os.read(stream.fileno(), min(count, 1 << 20))
            if not part:
                raise _Gone
            parts.append(part)
            count -= len(part)
        return b"".join(parts)

    return read(int.from_bytes(read(4), "big"))


class Viewer:
    """Shows and compares files, each read in a process of its own. Threads may share it."""

    def __init__(self) -> None:
        self._free: queue.LifoQueue[_Process] = queue.LifoQueue()
        self._all = [_Process() for _ in range(_AT_ONCE)]
        self._closed = threading.Event()
        for one in reversed(self._all):
            self._free.put(one)

    def ask(self, request: Request) -> Answer:
        """The answer; ``Failed`` where the file brought its reader down."""
        data = msgspec.msgpack.encode(request)
        process = self._free.get()
        try:
            for _ in range(2):  # it may have ended for want of work
                with contextlib.suppress(_Gone):
                    answer: Answer = msgspec.msgpack.decode(process.ask(data), type=Answer)
                    return answer
        except msgspec.MsgspecError:
            process.end()
        finally:
            if self._closed.is_set():
                process.end()
            self._free.put(process)
        return Failed("It could not be read: the file is damaged, or made to do harm.")

    def close(self) -> None:
        """End the processes; those at work end with their file."""
        self._closed.set()
        with contextlib.suppress(queue.Empty):
            while True:
                self._free.get_nowait().end()
