"""A client that asks one thing after the other, for commands. The window has its own, in Qt."""

from __future__ import annotations

import contextlib
import socket
from collections.abc import Iterator
from pathlib import Path
from types import NoneType
from typing import Any, TypeVar

import msgspec

from good_tide.core.errors import DamageError, GoodTideError, PersonError, PlaceError, StoppedError
from good_tide.protocol.messages import Fault, Request, encode, raw
from good_tide.protocol.sockets import NOT_OURS, check_private, is_own_process

Answer = TypeVar("Answer")
_ERRORS: dict[int, type[GoodTideError]] = {2: PersonError, 3: PlaceError, 4: DamageError, 5: StoppedError}
_SECONDS = 60.0


class _Incoming(msgspec.Struct):
    method: str = ""
    params: msgspec.Raw = msgspec.Raw(b"null")
    id: int | None = None
    result: msgspec.Raw = msgspec.Raw(b"null")
    error: Fault | None = None


class AgentClient:
    """A connection to a running agent."""

    def __init__(self, connected: socket.socket) -> None:
        self._socket, self._lines = connected, connected.makefile("rb")
        self._number = 0
        self._notes: list[tuple[str, bytes]] = []

    def ask(self, method: str, params: Any = None, answer: type[Answer] = NoneType, job: str = "") -> Answer:  # type: ignore[assignment]
        """Ask something, of a job where one is meant; the decoded answer, None where none is awaited.

        Raises:
            GoodTideError: the agent says what is wrong, or has gone.
        """
        self._number += 1
        self._send(Request(method, raw(params if params is not None else {}), self._number, job))
        while True:
            incoming = self._next()
            if incoming.method:
                self._notes.append((incoming.method, bytes(incoming.params)))
            elif incoming.id == self._number:
                if incoming.error is not None:
                    raise _ERRORS.get(incoming.error.code, PlaceError)(
                        incoming.error.message, incoming.error.data
                    )
                return msgspec.json.decode(incoming.result, type=answer)

    def notes(self) -> Iterator[tuple[str, bytes]]:
        """What the agent tells by itself, as names and JSON; those that came while an answer was awaited
        first."""
        while True:
            if self._notes:
                yield self._notes.pop(0)
                continue
            self._socket.settimeout(None)
            incoming = self._next()
            if incoming.method:
                yield incoming.method, bytes(incoming.params)

    def _send(self, request: Request) -> None:
        try:
            self._socket.sendall(encode(request))
        except OSError as error:
            raise PlaceError("The agent has gone", "Start it again") from error

    def _next(self) -> _Incoming:
        try:
            line = self._lines.readline()
        except OSError as error:
            raise PlaceError("The agent does not answer", "Wait a moment, or start it again") from error
        if not line:
            raise PlaceError("The agent has gone", "Start it again")
        return msgspec.json.decode(line, type=_Incoming)


@contextlib.contextmanager
def agent_client(path: Path) -> Iterator[AgentClient | None]:
    """A connection to the agent at a socket, None while none runs.

    Raises:
        PlaceError: somebody else could listen, or listens, there.
    """
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as connected:
        connected.settimeout(_SECONDS)
        try:
            check_private(path.parent)
            connected.connect(str(path))
        except OSError:
            yield None
            return
        if not is_own_process(connected.fileno()):
            raise PlaceError(NOT_OURS, "Find out whose it is; nothing was sent to it")
        client = AgentClient(connected)
        try:
            yield client
        finally:
            client._lines.close()
