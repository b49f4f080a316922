"""The agent's end of the socket."""

from __future__ import annotations

import contextlib
import os
import queue
import socket
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

import msgspec

from good_tide.core.errors import DamageError, GoodTideError, PersonError, PlaceError, StoppedError, of_system
from good_tide.protocol.messages import Fault, Reply, Request, encode, raw
from good_tide.protocol.sockets import is_own_process, make_private

FAULT_CODES: tuple[tuple[type[GoodTideError], int], ...] = (
    (PersonError, 2),
    (PlaceError, 3),
    (DamageError, 4),
    (StoppedError, 5),
)
_BUG = -32603
_UNKNOWN = -32601
_VERSIONS = "See whether the agent is of the same version as what asks it"
_REQUEST_LIMIT = 4 * 1024 * 1024
_UNSENT_LIMIT = 16 * 1024 * 1024
"""Bytes that may wait for a client that does not read."""
_LAST_SECONDS = 5.0
"""How long a client that asks nothing more is waited for to read what it asked."""

Wanted = TypeVar("Wanted")


class Asked(NamedTuple):
    """A request as its handler gets it: what is asked, and the job that is meant (empty: none is named)."""

    params: msgspec.Raw
    job: str

    def read(self, kind: type[Wanted]) -> Wanted:
        """What is asked, as a type."""
        return msgspec.json.decode(self.params, type=kind)


Handler = Callable[[Asked], Any]


class _Client:
    """The sending end of one client. What it does not read waits, and holds nobody up: a window that stands
    still, or a command that was stopped with Ctrl-Z, must not keep the agent from its work. Who leaves too
    much unread is let go, and may come again."""

    def __init__(self, connection: socket.socket) -> None:
        self._connection = connection
        self._lines: queue.SimpleQueue[bytes | None] = queue.SimpleQueue()
        self._lock = threading.Lock()
        self._unsent = 0
        self._sender = threading.Thread(target=self._send_all, name="sender", daemon=True)
        self._sender.start()

    def send(self, line: bytes) -> None:
        """Send a line as soon as the ones before it are sent."""
        with self._lock:
            if self._unsent > _UNSENT_LIMIT:
                self.end()
                return
            self._unsent += len(line)
        self._lines.put(line)

    def end(self, wait_seconds: float = 0) -> None:
        """Let the client go; what waits for it is sent if that takes no longer than ``wait_seconds``."""
        self._lines.put(None)
        self._sender.join(wait_seconds)
        with contextlib.suppress(OSError):
            self._connection.shutdown(socket.SHUT_RDWR)

    def _send_all(self) -> None:
        with contextlib.suppress(OSError):
            while (line := self._lines.get()) is not None:
                self._connection.sendall(line)
                with self._lock:
                    self._unsent -= len(line)


class Server:
    """Accepts clients of the same user on a Unix socket; each is served by a thread of its own.

    :param apart: methods that may take long (they touch disks that may hang); each of their requests gets a
        thread of its own, so that a client's other requests are answered meanwhile.

    Raises:
        PlaceError: another agent serves this socket already, or its folder is not one's own.
    """

    def __init__(
        self,
        path: Path,
        handlers: dict[str, Handler],
        on_count: Callable[[int], None],
        apart: frozenset[str] = frozenset(),
    ) -> None:
        self._handlers, self._on_count, self._apart = handlers, on_count, apart
        self._clients: set[_Client] = set()
        self._guard = threading.Lock()
        make_private(path.parent)
        if answers(path):
            raise PlaceError("Another agent is already running", "Use that one, or end it first")
        with contextlib.suppress(FileNotFoundError):
            path.unlink()
        self._path = path
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        before = os.umask(0o177)
        try:
            self._socket.bind(str(path))
        finally:
            os.umask(before)
        self._socket.listen(8)

    @property
    def count(self) -> int:
        """How many clients there are."""
        with self._guard:
            return len(self._clients)

    def serve(self) -> None:
        """Accept clients until ``close``."""
        while True:
            try:
                client, _ = self._socket.accept()
            except OSError:
                return
            threading.Thread(target=self._client, args=(client,), name="client", daemon=True).start()

    def close(self) -> None:
        """Stop accepting and end all connections."""
        with contextlib.suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        self._socket.close()
        with contextlib.suppress(FileNotFoundError):
            self._path.unlink()
        with self._guard:
            for client in self._clients:
                client.end()

    def notify(self, method: str, value: Any) -> None:
        """Tell all clients something."""
        line = encode(Request(method, raw(value)))
        with self._guard:
            clients = list(self._clients)
        for client in clients:
            client.send(line)

    def _client(self, connection: socket.socket) -> None:
        if not is_own_process(connection.fileno()):
            connection.close()
            return
        connection.settimeout(None)
        client = _Client(connection)
        self._count_changed(self._clients.add, client)
        try:
            with connection.makefile("rb") as lines, contextlib.suppress(OSError):
                while line := lines.readline(_REQUEST_LIMIT):
                    self._serve(client, line)
        finally:
            self._count_changed(self._clients.discard, client)
            client.end(_LAST_SECONDS)
            connection.close()

    def _count_changed(self, change: Callable[[_Client], None], client: _Client) -> None:
        with self._guard:
            change(client)
            count = len(self._clients)
        self._on_count(count)

    def _serve(self, client: _Client, line: bytes) -> None:
        """Answer one request, here or in a thread of its own."""
        try:
            request = msgspec.json.decode(line, type=Request)
        except (msgspec.MsgspecError, UnicodeDecodeError):
            return
        if request.method in self._apart:
            threading.Thread(
                target=self._reply, args=(client, request), name=request.method, daemon=True
            ).start()
        else:
            self._reply(client, request)

    def _reply(self, client: _Client, request: Request) -> None:
        client.send(encode(self._answer(request)))

    def _answer(self, request: Request) -> Reply:
        number = request.id if request.id is not None else 0
        handler = self._handlers.get(request.method)
        if handler is None:
            return Reply(
                number, error=Fault(_UNKNOWN, f"This agent does not know {request.method}", _VERSIONS)
            )
        try:
            return Reply(number, result=raw(handler(Asked(request.params, request.job))))
        except GoodTideError as error:
            code = next(code for kind, code in FAULT_CODES if isinstance(error, kind))
            return Reply(number, error=Fault(code, error.what, error.advice))
        except msgspec.MsgspecError as error:
            return Reply(number, error=Fault(2, f"The request cannot be understood ({error})", _VERSIONS))
        except OSError as error:
            told = of_system(error)
            return Reply(number, error=Fault(3, told.what, told.advice))
        except Exception as error:
            threading.excepthook(
                threading.ExceptHookArgs(
                    (type(error), error, error.__traceback__, threading.current_thread())
                )
            )
            return Reply(number, error=Fault(_BUG, f"A fault in the program: {error!r}"))


def answers(path: Path) -> bool:
    """Whether somebody accepts connections on a socket."""
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as probe:
        try:
            probe.connect(str(path))
        except OSError:
            return False
        return True
