"""The window's end of the socket: asks the agent, never waits for it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import msgspec
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtNetwork import QLocalSocket

from good_tide.core.errors import PlaceError
from good_tide.protocol.messages import Fault, Request, encode, raw
from good_tide.protocol.sockets import NOT_OURS, is_own_process, make_private
from good_tide.protocol.starting import start_agent

Result = TypeVar("Result")
_RETRY_MS = 40
_TRIES = 250


class _Incoming(msgspec.Struct):
    """Either a reply or a notification."""

    id: int | None = None
    result: msgspec.Raw = msgspec.Raw(b"null")
    error: Fault | None = None
    method: str = ""
    params: msgspec.Raw = msgspec.Raw(b"{}")


class AgentLink(QObject):
    """Speaks with the agent; starts one if none answers.

    ``notified`` carries a notification's name and raw content; ``lost`` says that the agent has gone.
    """

    connected = Signal()
    lost = Signal()
    failed = Signal(str)
    notified = Signal(str, object)

    def __init__(self, socket: Path, settings: Path, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._path, self._settings = socket, settings
        self.job = ""
        """The job that the window shows, and that requests mean unless they say otherwise."""
        self._socket = QLocalSocket(self)
        self._socket.connected.connect(self._on_connected)
        self._socket.disconnected.connect(self._on_disconnected)
        self._socket.errorOccurred.connect(self._on_error)
        self._socket.readyRead.connect(self._on_ready)
        self._waiting: dict[int, tuple[Any, Callable[[Any], None], Callable[[Fault], None] | None]] = {}
        self._number = 0
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
            self.failed.emit(f"{NOT_OURS}. Nothing was sent to it.")
            return
        self._up, self._tries = True, 0
        self.connected.emit()

    def _on_disconnected(self) -> None:
        self._up, self._started = False, False
        self._waiting.clear()
        self._buffer.clear()
        self.lost.emit()
        QTimer.singleShot(_RETRY_MS, self.open)

    def _on_error(self, error: object) -> None:
        if self._up:
            return
        self._tries += 1
        if self._tries > _TRIES:
            self.failed.emit("The agent does not start. Run “good-tide agent” in a terminal to see why.")
            return
        if not self._started:
            self._started = True
            start_agent(self._settings)
        QTimer.singleShot(_RETRY_MS, self.open)

    def ask(
        self,
        method: str,
        params: Any = None,
        answer: type[Result] | None = None,
        then: Callable[[Result], None] | None = None,
        otherwise: Callable[[Fault], None] | None = None,
        job: str | None = None,
    ) -> int:
        """Send a request; ``then`` gets the decoded answer, ``otherwise`` what went wrong. Without a
        connection nothing is asked: the window asks for everything anew when it is connected again.

        :param job: the job that is meant; the one that is shown if not given.
        """
        self._number += 1
        if self._socket.state() is not QLocalSocket.LocalSocketState.ConnectedState:
            return self._number
        self._waiting[self._number] = (answer, then or (lambda result: None), otherwise)
        wanted = self.job if job is None else job
        self._socket.write(
            encode(Request(method, raw(params if params is not None else {}), self._number, wanted))
        )
        return self._number

    def _on_ready(self) -> None:
        self._buffer += bytes(self._socket.readAll().data())
        *lines, rest = self._buffer.split(b"\n")
        self._buffer = bytearray(rest)
        for line in lines:
            self._take(bytes(line))

    def _take(self, line: bytes) -> None:
        message = msgspec.json.decode(line, type=_Incoming)
        if message.method:
            self.notified.emit(message.method, bytes(message.params))
            return
        answer, then, otherwise = self._waiting.pop(message.id or 0, (None, None, None))
        if message.error is not None:
            if otherwise is not None:
                otherwise(message.error)
            else:
                self.failed.emit(f"{message.error.message}. {message.error.data}".strip())
        elif then is not None:
            then(msgspec.json.decode(message.result, type=answer) if answer is not None else None)
