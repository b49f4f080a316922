"""The window's end of the socket: asks the agent, never waits for it."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import msgspec
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtNetwork import QLocalSocket

from good_tide.core.errors import PlaceError
from good_tide.core.identifiers import JobId
from good_tide.core.translation import tr
from good_tide.protocol.contract import Answer, Call, Listen, Note, Topic
from good_tide.protocol.faults import UNKNOWN_CALL, Fault
from good_tide.protocol.notes import NOTES
from good_tide.protocol.sockets import NOT_OURS, is_own_process, make_private
from good_tide.protocol.starting import start_agent
from good_tide.protocol.wire import Incoming, call_line

_RETRY_MS = 40
_TRIES = 250

Told = TypeVar("Told", bound=Note)
Said = TypeVar("Said")


class _ForeignError(Exception):
    """Something came that is not of this version's protocol."""


def _decoded(line: bytes | msgspec.Raw, kind: type[Said]) -> Said:
    try:
        return msgspec.json.decode(line, type=kind)
    except msgspec.MsgspecError as error:
        raise _ForeignError from error


class AgentLink(QObject):
    """Speaks with the agent; starts one if none answers. ``lost`` says that the agent has gone, ``foreign``
    that it says what cannot be understood, as one of another version does.

    :param topics: what it is to be told of by itself.
    """

    connected = Signal()
    lost = Signal()
    failed = Signal(str)
    foreign = Signal()

    def __init__(
        self, socket: Path, settings: Path, topics: frozenset[Topic], parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self._path, self._settings, self._topics = socket, settings, topics
        self.job = JobId("")
        """The job that the window shows."""
        self._hearers: dict[type[Note], list[Callable[[Any], None]]] = {}
        self._socket = QLocalSocket(self)
        self._socket.connected.connect(self._on_connected)
        self._socket.disconnected.connect(self._on_disconnected)
        self._socket.errorOccurred.connect(self._on_error)
        self._socket.readyRead.connect(self._on_ready)
        self._waiting: dict[
            int, tuple[Call[Any], Callable[[Any], object], Callable[[Fault], None] | None]
        ] = {}
        self._in_order: set[int] = set()
        self._newest: dict[type[Call[Any]], int] = {}
        """The latest call of a class that was answered, of those that are answered in order."""
        self._numbers = itertools.count(1)
        self._buffer = bytearray()
        self._started = False
        self._tries = 0
        self._up = False

    def open(self) -> None:
        """Connect, now or as soon as the agent is there; never where somebody else could listen."""
        try:
            make_private(self._path.parent)
        except (PlaceError, OSError) as error:
            self.failed.emit(str(error))
            return
        self._socket.connectToServer(str(self._path))

    def close(self) -> None:
        """End the connection."""
        self._socket.disconnected.disconnect(self._on_disconnected)
        self._socket.abort()

    def _on_connected(self) -> None:
        if not is_own_process(int(self._socket.socketDescriptor())):
            self._socket.blockSignals(True)
            self._socket.abort()
            self.failed.emit(tr("{NOT_OURS}. Nothing was sent to it.").format(NOT_OURS=NOT_OURS))
            return
        self._up, self._tries = True, 0
        self.ask(Listen(self._topics))
        self.connected.emit()

    def _on_disconnected(self) -> None:
        self._up, self._started = False, False
        self._waiting.clear()
        self._in_order.clear()
        self._buffer.clear()
        self.lost.emit()
        QTimer.singleShot(_RETRY_MS, self.open)

    def _on_error(self, error: object) -> None:
        if self._up:
            return
        self._tries += 1
        if self._tries > _TRIES:
            self.failed.emit(tr("The agent does not start. Run “good-tide agent” in a terminal to see why."))
            return
        if not self._started:
            self._started = True
            start_agent(self._settings)
        QTimer.singleShot(_RETRY_MS, self.open)

    @property
    def up(self) -> bool:
        """Whether there is a connection now."""
        return self._up

    @property
    def waits(self) -> bool:
        """Whether an answer is still to come."""
        return bool(self._waiting)

    def number(self) -> int:
        """A number that no other call or question of this link has."""
        return next(self._numbers)

    def hear(self, kind: type[Told], then: Callable[[Told], None]) -> None:
        """Have something done whenever the agent tells this by itself."""
        self._hearers.setdefault(kind, []).append(then)

    def ask(
        self,
        call: Call[Answer],
        then: Callable[[Answer], object] | None = None,
        otherwise: Callable[[Fault], None] | None = None,
        in_order: bool = False,
    ) -> None:
        """Ask something; ``then`` gets the answer, ``otherwise`` what went wrong, which is shown without it.

        :param in_order: an answer that comes after one to a later call of the same class is not taken.

        With no connection nothing is asked: the window asks for everything anew when it is connected
        again."""
        if self._socket.state() is not QLocalSocket.LocalSocketState.ConnectedState:
            return
        number = self.number()
        self._waiting[number] = (call, then or (lambda answer: None), otherwise)
        if in_order:
            self._in_order.add(number)
        self._socket.write(call_line(call, number))

    def _on_ready(self) -> None:
        came = bytes(self._socket.readAll().data())
        self._buffer += came
        if b"\n" not in came:
            return  # a long answer comes in many parts
        *lines, rest = self._buffer.split(b"\n")
        self._buffer = bytearray(rest)
        for line in lines:
            try:
                self._take(bytes(line))
            except _ForeignError:
                self.foreign.emit()

    def _take(self, line: bytes) -> None:
        message = _decoded(line, Incoming)
        if message.method:
            self._tell(message)
            return
        known = self._waiting.pop(message.id or 0, None)
        if known is None:
            return
        call, then, otherwise = known
        if message.id in self._in_order:
            self._in_order.discard(message.id)
            if message.id < self._newest.get(type(call), 0):
                return
            self._newest[type(call)] = message.id
        if message.error is None:
            then(_decoded(message.result, call.answer_type()))
        elif message.error.code == UNKNOWN_CALL:
            self.foreign.emit()
        elif otherwise is not None:
            otherwise(message.error)
        else:
            self.failed.emit(str(message.error))

    def _tell(self, message: Incoming) -> None:
        kind = NOTES.get(message.method)
        if kind is not None:
            note = _decoded(message.params, kind)
            for then in self._hearers.get(kind, []):
                then(note)
