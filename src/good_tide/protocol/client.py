"""A client that asks one thing after the other, for commands. The window has its own, in Qt."""

from __future__ import annotations

import contextlib
import socket
from collections.abc import Iterator
from pathlib import Path

import msgspec

from good_tide.core.errors import PlaceError
from good_tide.core.translation import tr
from good_tide.protocol.contract import Answer, Call, Listen, Topic
from good_tide.protocol.faults import UNKNOWN_CALL
from good_tide.protocol.notes import NOTES, AnyNote
from good_tide.protocol.sockets import NOT_OURS, check_private, is_own_process
from good_tide.protocol.wire import Incoming, call_line

_SECONDS = 60.0


_RESTART = tr("Restart it: systemctl --user restart good-tide-agent, or log out and in again")


class AgentClient:
    """A connection to a running agent."""

    def __init__(self, connected: socket.socket) -> None:
        self._socket, self._lines = connected, connected.makefile("rb")
        self._number = 0
        self._notes: list[AnyNote] = []

    def ask(self, call: Call[Answer]) -> Answer:
        """Ask something.

        Raises:
            GoodTideError: the agent says what is wrong, or has gone.
        """
        self._number += 1
        try:
            self._socket.sendall(call_line(call, self._number))
        except OSError as error:
            raise PlaceError(tr("The agent has gone"), tr("Start it again")) from error
        while True:
            incoming = self._next()
            if incoming.method:
                self._keep(incoming)
            elif incoming.id == self._number:
                if incoming.error is not None and incoming.error.code == UNKNOWN_CALL:
                    raise PlaceError(tr("The agent that runs is of another version"), _RESTART)
                if incoming.error is not None:
                    raise incoming.error.error()
                return msgspec.json.decode(incoming.result, type=call.answer_type())

    def listen(self, *topics: Topic) -> None:
        """Be told of these topics from now on."""
        self.ask(Listen(frozenset(topics)))

    def notes(self) -> Iterator[AnyNote]:
        """What the agent tells by itself; what came while an answer was awaited first."""
        while True:
            if self._notes:
                yield self._notes.pop(0)
                continue
            self._socket.settimeout(None)
            incoming = self._next()
            if incoming.method:
                self._keep(incoming)

    def _keep(self, incoming: Incoming) -> None:
        kind = NOTES.get(incoming.method)
        if kind is not None:  # an agent of another version may tell more
            self._notes.append(msgspec.json.decode(incoming.params, type=kind))

    def _next(self) -> Incoming:
        try:
            line = self._lines.readline()
        except OSError as error:
            raise PlaceError(
                tr("The agent does not answer"), tr("Wait a moment, or start it again")
            ) from error
        if not line:
            raise PlaceError(tr("The agent has gone"), tr("Start it again"))
        return msgspec.json.decode(line, type=Incoming)


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
            raise PlaceError(NOT_OURS, tr("Find out whose it is; nothing was sent to it"))
        client = AgentClient(connected)
        try:
            yield client
        finally:
            client._lines.close()
