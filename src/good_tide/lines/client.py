"""Asks the process that speaks with a server; begins it when it is needed, and ends it when it hangs."""

from __future__ import annotations

import contextlib
import itertools
import os
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from pathlib import Path
from typing import IO, BinaryIO, TypeVar, cast

import msgspec

from good_tide.core.addresses import Address
from good_tide.core.settings import LineLimit
from good_tide.lines.wire import (
    Answer,
    Answered,
    AnyCall,
    Asked,
    Begin,
    Call,
    Failed,
    Limit,
    Moved,
    Put,
    Read,
    Trouble,
    frame,
    read_frame,
)

A = TypeVar("A")

_SILENCE_SECONDS = 150.0
"""After so long without a sign of life the process is ended. It tries for less by itself."""
_AT_ONCE_SECONDS = 20.0
"""The same for calls that are not tried again."""
_LOOK_SECONDS = 0.5
_END_SECONDS = 2.0


class _Patience:
    """Which threads wait while a line that broke is tried again: those that do long work, and all in a
    process that does nothing else. Others are told at once."""

    def __init__(self) -> None:
        self.usual = True
        self._own = threading.local()

    @property
    def now(self) -> bool:
        """Whether this thread waits."""
        found: bool = getattr(self._own, "patient", self.usual)
        return found

    @contextlib.contextmanager
    def of_work(self) -> Iterator[None]:
        """This thread does long work meanwhile."""
        self._own.patient = True
        try:
            yield
        finally:
            del self._own.patient


patience = _Patience()


class LineError(Exception):
    """A call failed: what the server, or the way to it, did."""

    def __init__(self, failed: Failed) -> None:
        super().__init__(failed.trouble)
        self.failed = failed


class _Waiting:
    """A call that has no answer yet."""

    def __init__(self, call: AnyCall) -> None:
        self.call = call
        self.answer: Future[object] = Future()


class _Process:
    """One process and its pipes. Its answers are read by a thread; any thread may ask."""

    def __init__(self, begin: Begin) -> None:
        self._numbers = itertools.count(1)
        self._waiting: dict[int, _Waiting] = {}
        self._guard = threading.Lock()
        self._writing = threading.Lock()
        self.last_sign = time.monotonic()
        self.ended = False
        self.fell = False
        """Whether it ended by itself, or was ended by somebody else."""
        self.process = subprocess.Popen(
            [sys.executable, "-P", "-m", "good_tide.servers.helper"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            env={**os.environ, "PYTHONDONTWRITEBYTECODE": "1"},
            start_new_session=True,
        )
        self._write(begin, b"")
        threading.Thread(target=self._read, name="line", daemon=True).start()

    def ask(self, call: AnyCall, payload: bytes | memoryview, waits: bool, again: bool) -> Future[object]:
        """Send a call."""
        waiting = _Waiting(call)
        with self._guard:
            number = next(self._numbers)
            if self.ended:
                waiting.answer.set_exception(LineError(Failed(number, Trouble.AWAY)))
                return waiting.answer
            self._waiting[number] = waiting
        self._write(Asked(number, call, waits, again), payload)
        return waiting.answer

    def _write(self, message: msgspec.Struct, payload: bytes | memoryview) -> None:
        stream = cast("IO[bytes]", self.process.stdin)
        with self._writing, contextlib.suppress(OSError, ValueError):
            stream.write(frame(message, len(payload)))
            if payload:
                stream.write(payload)
            stream.flush()

    def _read(self) -> None:
        stream = cast("BinaryIO", self.process.stdout)
        with contextlib.suppress(OSError, ValueError, msgspec.MsgspecError):
            while (came := read_frame(stream)) is not None:
                self.last_sign = time.monotonic()
                answer: Answer = msgspec.msgpack.decode(came.message, type=Answer)
                if not isinstance(answer, Moved):
                    self._take(answer, came.payload)
        self.fell = not self.ended
        self.end()
        stream.close()
        with self._writing, contextlib.suppress(OSError):
            cast("IO[bytes]", self.process.stdin).close()

    def _take(self, answer: Answered | Failed, payload: bytearray) -> None:
        with self._guard:
            waiting = self._waiting.pop(answer.number, None)
        if waiting is None:
            return
        if isinstance(answer, Failed):
            waiting.answer.set_exception(LineError(answer))
        elif isinstance(waiting.call, Read):
            waiting.answer.set_result(bytes(payload))
        else:
            waiting.answer.set_result(msgspec.msgpack.decode(answer.value, type=waiting.call.answer))

    def end(self) -> None:
        """End it; what it was asked fails."""
        with self._guard:
            self.ended = True
            left, self._waiting = self._waiting, {}
        self.process.kill()
        for number, waiting in left.items():
            with contextlib.suppress(Exception):
                waiting.answer.set_exception(LineError(Failed(number, Trouble.AWAY)))
        with contextlib.suppress(subprocess.TimeoutExpired):  # held up by a share, it ends when that goes on
            self.process.wait(_END_SECONDS)


def _waited(process: _Process, answer: Future[object], waits: bool) -> object:
    """What a process answered; one that gives no sign of life is ended."""
    asked = time.monotonic()
    longest = _SILENCE_SECONDS if waits else _AT_ONCE_SECONDS
    while True:
        try:
            return answer.result(timeout=_LOOK_SECONDS)
        except TimeoutError:
            if time.monotonic() - max(asked, process.last_sign) > longest:
                process.end()


def _named(address: Address | Path) -> str:
    return address.as_uri() if isinstance(address, Path) else str(address)


class Line:
    """The line of this process to one server. Threads may share it."""

    def __init__(self, address: Address | Path) -> None:
        self.address = address
        self._guard = threading.Lock()
        self._running: _Process | None = None
        self._begin = Begin(_named(address))

    def ask(self, call: Call[A], payload: bytes | memoryview = b"") -> A:
        """Ask, and wait for the answer.

        Raises:
            LineError: the server did not do it.
        """
        return self.begin(call, payload)()

    def begin(self, call: Call[A], payload: bytes | memoryview = b"") -> Callable[[], A]:
        """Ask; what is given back waits for the answer, and raises as ``ask`` does."""
        waits = call.again and (patience.now or isinstance(call, Put))

        def ask(again: bool) -> tuple[_Process, Future[object]]:
            process = self._process()
            return process, process.ask(cast("AnyCall", call), payload, waits, again)

        first = ask(False)

        def wait() -> A:
            try:
                return cast(A, _waited(*first, waits))
            except LineError:
                if not waits or not first[0].fell:
                    raise
                return cast(A, _waited(*ask(True), waits))

        return wait

    def begin_with(self, given: Begin) -> None:
        """Begin anew with what somebody has given: a password, or that a key is the right one."""
        with self._guard:
            self._begin = msgspec.structs.replace(given, limit=self._begin.limit)
            self._end()

    def limit_to(self, limit: LineLimit) -> None:
        """Move no more than so much from now on."""
        with self._guard:
            if self._begin.limit == limit:
                return
            self._begin = msgspec.structs.replace(self._begin, limit=limit)
            running = self._running
        if running is not None and not running.ended:
            running.ask(Limit(limit), b"", False, False)

    def begin_as(self, other: Line) -> None:
        """Use what was given for another folder of the same server."""
        self.begin_with(msgspec.structs.replace(other._begin, address=_named(self.address)))

    def end(self) -> None:
        """End the process, if it runs; it begins again when something is asked."""
        with self._guard:
            self._end()

    def _end(self) -> None:
        if self._running is not None:
            self._running.end()
            self._running = None

    def _process(self) -> _Process:
        with self._guard:
            if self._running is None or self._running.ended:
                self._running = _Process(self._begin)
            return self._running


_lines: dict[Address | Path, Line] = {}
_guard = threading.Lock()


def end_lines() -> None:
    """End all lines of this process: what was asked over them fails at once, and what is asked next begins
    anew."""
    with _guard:
        lines = list(_lines.values())
    for line in lines:
        line.end()


def line_to(address: Address | Path) -> Line:
    """The line of this process to a folder on a server, or to one on a share that is mounted."""
    with _guard:
        return _lines.setdefault(address, Line(address))
