"""The agent's end of the socket."""

from __future__ import annotations

import contextlib
import logging
import os
import queue
import socket
import threading
import time
from collections.abc import Callable, Iterable
from pathlib import Path

import msgspec

from good_tide.core.errors import GoodTideError, PlaceError, of_system
from good_tide.core.translation import tr
from good_tide.protocol.contract import Asker, Handler, Listen, Note, Topic
from good_tide.protocol.faults import FAULT_IN_PROGRAM, PERSON, UNKNOWN_CALL, Fault, fault_of
from good_tide.protocol.sockets import answers, is_own_process, make_private
from good_tide.protocol.wire import Reply, Request, note_line, raw, reply_line

_log = logging.getLogger(__name__)

_LONG_SECONDS = 1.0
"""Calls that take longer are in the log."""
_VERSIONS = "See whether the agent is of the same version as what asks it"
_REQUEST_LIMIT = 4 * 1024 * 1024
_UNSENT_LIMIT = 16 * 1024 * 1024
"""Bytes that may wait for a client that does not read."""
_LAST_SECONDS = 5.0
"""How long a client that asks nothing more is waited for to read what it asked."""


class _Client:
    """The sending end of one client, and what it wants to be told of. What it does not read waits, and holds
    nobody up: a window that stands still, or a command that was stopped with Ctrl-Z, must not keep the agent
    from its work. Who leaves too much unread is let go, and may come again."""

    def __init__(self, connection: socket.socket) -> None:
        self._connection = connection
        self._lines: queue.SimpleQueue[bytes | None] = queue.SimpleQueue()
        self._lock = threading.Lock()
        self._unsent = 0
        self.topics: frozenset[Topic] = frozenset()
        self._sender = threading.Thread(target=self._send_all, name="sender", daemon=True)
        self._sender.start()

    def tell(self, note: Note) -> None:
        """Tell it something by itself."""
        self.send(note_line(note))

    def listen(self, topics: frozenset[Topic]) -> None:
        """Tell it from now on what happens about these topics."""
        self.topics = topics

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
    """Accepts clients of the same user on a Unix socket; each is served by a thread of its own. A call that
    may block is answered in a thread of its own, so that its client's other calls are answered meanwhile.

    :param on_count: told how many clients there are whenever that changes.
    :param on_gone: told of a client that has gone.

    Raises:
        PlaceError: another agent serves this socket already, or its folder is not one's own.
    """

    def __init__(
        self,
        path: Path,
        handlers: Iterable[Handler],
        on_count: Callable[[int], None],
        on_gone: Callable[[Asker], None] = lambda asker: None,
    ) -> None:
        listen = Listen.by_asker(lambda call, asker: asker.listen(call.topics))
        self._handlers = {handler.call.wire_name(): handler for handler in (listen, *handlers)}
        self._on_count, self._on_gone = on_count, on_gone
        self._clients: set[_Client] = set()
        self._guard = threading.Lock()
        make_private(path.parent)
        if answers(path):
            raise PlaceError(tr("Another agent is already running"), tr("Use that one, or end it first"))
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

    def tell(self, note: Note) -> None:
        """Tell something to all clients that listen to its topic."""
        line = note_line(note)
        with self._guard:
            clients = [client for client in self._clients if note.topic in client.topics]
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
            self._on_gone(client)
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
        handler = self._handlers.get(request.method)
        if handler is None:
            client.send(reply_line(_unknown(request)))
        elif handler.call.may_block:
            threading.Thread(
                target=self._reply, args=(client, handler, request), name=request.method, daemon=True
            ).start()
        else:
            self._reply(client, handler, request)

    @staticmethod
    def _reply(client: _Client, handler: Handler, request: Request) -> None:
        began = time.monotonic()
        reply = _answered(client, handler, request)
        seconds, code = time.monotonic() - began, reply.error.code if reply.error is not None else 0
        level = logging.INFO if code or seconds > _LONG_SECONDS else logging.DEBUG
        _log.log(level, "%s answered in %.3f s, code %d", request.method, seconds, code)
        client.send(reply_line(reply))


def _unknown(request: Request) -> Reply:
    return Reply(
        request.id or 0, error=Fault(UNKNOWN_CALL, f"This agent does not know {request.method}", _VERSIONS)
    )


def _answered(client: _Client, handler: Handler, request: Request) -> Reply:
    """The answer to a call, or why there is none."""
    number = request.id or 0
    try:
        call = msgspec.json.decode(request.params, type=handler.call)
    except msgspec.MsgspecError as error:
        return Reply(number, error=Fault(PERSON, f"The request cannot be understood ({error})", _VERSIONS))
    try:
        return Reply(number, result=raw(handler.answer(call, client)))
    except GoodTideError as error:
        return Reply(number, error=fault_of(error))
    except OSError as error:
        return Reply(number, error=fault_of(of_system(error)))
    except Exception as error:
        threading.excepthook(
            threading.ExceptHookArgs((type(error), error, error.__traceback__, threading.current_thread()))
        )
        return Reply(number, error=Fault(FAULT_IN_PROGRAM, f"A fault in the program: {error!r}"))
