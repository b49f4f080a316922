"""Connections to SMB servers ([MS-SMB2]): opening one, asking over it, and what its errors come down to."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import socket
import threading
import uuid
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

from smbprotocol.connection import Connection, Request
from smbprotocol.exceptions import (
    SMBAuthenticationError,
    SMBConnectionClosed,
    SMBException,
    SMBResponseException,
)
from smbprotocol.header import SMB2HeaderResponse
from smbprotocol.open import Open
from smbprotocol.session import Session
from smbprotocol.structure import Structure
from smbprotocol.tree import TreeConnect
from spnego.exceptions import SpnegoError

from good_tide.core.addresses import Address
from good_tide.lines.wire import Trouble
from good_tide.servers.logins import Answers
from good_tide.servers.lossy import expect_loss
from good_tide.servers.server import LineBrokenError, Progress, ServerError

logging.getLogger("smbprotocol").setLevel(logging.CRITICAL)  # a broken line is told by what it broke

T = TypeVar("T")
Ask = tuple[Structure, Callable[[Request], T]]
"""A request, and what makes of its answer."""

_CONNECT_SECONDS = 8
_RECEIVE_SECONDS = 150.0
"""No answer is waited for longer; what hangs is ended sooner, by closing the connection."""
_CREDITS = 64
"""How many credits ([MS-SMB2] 3.3.1.2) are asked for with each request, until there are enough."""
_MANY_CREDITS = 512
_CREDIT_SECONDS = 30.0
_AT_ONCE = 24
"""Requests that are under way at once."""

_TROUBLES = {
    0xC000000F: Trouble.MISSING,  # no such file
    0xC0000034: Trouble.MISSING,  # object name not found
    0xC000003A: Trouble.MISSING,  # object path not found
    0xC0000225: Trouble.MISSING,  # not found
    0xC0000035: Trouble.TAKEN,  # object name collision
    0xC0000022: Trouble.DENIED,  # access denied
    0xC0000061: Trouble.DENIED,  # privilege not held
    0xC00000A2: Trouble.READ_ONLY,  # media write protected
    0xC000007F: Trouble.FULL,  # disk full
    0xC0000044: Trouble.FULL,  # quota exceeded
    0xC00000CC: Trouble.NO_FOLDER,  # bad network name: there is no such share
    0xC0000103: Trouble.MISSING,  # not a directory
}
"""By the status of an answer ([MS-ERREF] 2.3.1)."""
BUSY = frozenset({0xC0000043, 0xC0000056, 0xC0000054})
"""Another has it open, is deleting it, or locks it: sharing violation, delete pending, file lock conflict."""
NO_MORE = 0x80000006
BEYOND_END = 0xC0000011
_NOT_LET_IN = frozenset(
    {0xC000006A, 0xC000006D, 0xC000006E, 0xC000006F, 0xC0000070, 0xC0000071, 0xC0000072, 0xC0000193}
    | {0xC0000224, 0xC0000234, 0xC0000064, 0xC000015B}
)
_ENDED = frozenset({0xC00000C9, 0xC0000203, 0xC0000128, 0xC000020C, 0xC000013B, 0xC00000BF, 0xC000035C})
"""The session, the share or the file is not open any more on the server."""


class _Line(Connection):  # type: ignore[misc]
    """A connection over which several threads may ask: each waits until the server lets it ask, and no answer
    is waited for without end."""

    def __init__(self, host: str, port: int) -> None:
        super().__init__(uuid.uuid4(), host, port, require_signing=True)
        self._turn = threading.Lock()
        self._credits = threading.Condition()

    def _send(self, messages: Sequence[Structure], *given: Any, **named: Any) -> list[Request]:
        wanted = sum(max(1, self._calculate_credit_charge(message)) for message in messages)
        if not self._enough(_MANY_CREDITS):
            named["credit_request"] = max(named.get("credit_request") or 0, _CREDITS, wanted)
        with self._turn:
            with self._credits:
                if not self._credits.wait_for(
                    lambda: self._enough(wanted) or not self.transport.connected, _CREDIT_SECONDS
                ):
                    raise SMBConnectionClosed("the server lets nothing more be asked")
            return super()._send(messages, *given, **named)  # type: ignore[no-any-return]

    def _enough(self, wanted: int) -> bool:
        return bool(self.sequence_window["high"] - self.sequence_window["low"] >= wanted)

    def receive(
        self,
        request: Request,
        wait: bool = True,
        timeout: float | None = None,
        resolve_symlinks: bool = False,
    ) -> SMB2HeaderResponse:
        try:
            return super().receive(request, wait, timeout or _RECEIVE_SECONDS, False)
        finally:
            with self._credits:
                self._credits.notify_all()

    def end(self) -> None:
        """Close the socket, whoever waits for it."""
        if self.transport is None:
            return
        with contextlib.suppress(OSError, AttributeError):
            self.transport._sock.shutdown(socket.SHUT_RDWR)  # a send that hangs holds the lock of "close"
        with contextlib.suppress(OSError, SMBException):
            self.disconnect(close=False)
        with self._credits:
            self._credits.notify_all()


class SmbLine:
    """A share of a server, over one connection."""

    def __init__(self, address: Address, login: Answers, tell: Progress) -> None:
        self._address, self._login, self._tell = address, login, tell
        self._pool = ThreadPoolExecutor(_AT_ONCE, "smb")
        self._connecting = asyncio.Lock()
        self._line: _Line | None = None
        self._tree: TreeConnect | None = None

    def most(self, wanted: int) -> int:
        """How many bytes may be read or written at once."""
        line = self._line
        given = line and min(line.max_read_size or 0, line.max_write_size or 0)
        return min(wanted, given or wanted)

    async def tree(self) -> TreeConnect:
        """The share, over the connection that is open, or a new one."""
        async with self._connecting:
            line = self._line
            if self._tree is None or line is None or not line.transport.connected:
                self.close()
                password = await self._login.known_password()
                self._line = line = _Line(self._address.host, self._address.port)
                self._tree = await self.run(lambda: self._connect(line, password))
            return self._tree

    def _connect(self, line: _Line, password: str | None) -> TreeConnect:
        try:
            line.connect(timeout=_CONNECT_SECONDS)
        except ValueError as error:  # the library's word for an error of the system
            cause = error.__cause__
            raise cause if isinstance(cause, OSError) else LineBrokenError(str(error)) from None
        except (SMBException, TypeError, KeyError) as error:
            raise ServerError(Trouble.NOT_SPOKEN, type(error).__name__) from error
        self._tell.moved()
        expect_loss(line.transport._sock)
        user = self._address.user.replace(";", "\\")
        session = Session(line, user or None, password, bool(line.supports_encryption))
        share = self._address.path.strip("/").partition("/")[0]
        try:
            session.connect()
            tree = TreeConnect(session, f"\\\\{self._address.host}\\{share}")
            tree.connect()
        except (SMBAuthenticationError, SpnegoError):
            raise self._login.refusal() from None
        except SMBResponseException as error:
            if error.status in _NOT_LET_IN or error.status == 0xC0000022:
                raise self._login.refusal() from None
            raise
        except SMBException as error:  # such as a session of a guest, which cannot be signed
            if isinstance(error, SMBConnectionClosed):
                raise
            raise self._login.refusal(str(error).partition(".")[0][:120]) from None
        return tree

    async def run(self, act: Callable[[], T]) -> T:
        """Do something that waits, in a thread.

        Raises:
            ServerError, LineBrokenError: what its errors come down to.
        """
        with told():
            return await asyncio.get_running_loop().run_in_executor(self._pool, act)

    async def ask(self, *asked: Ask[Any]) -> list[Any]:
        """Ask several things in one message, each of what the one before has opened; the first error is
        raised when all have been answered."""
        tree = await self.tree()
        line, session = tree.session.connection, tree.session.session_id

        def act() -> list[Any]:
            requests = line.send_compound(
                [message for message, _ in asked], session, tree.tree_connect_id, related=len(asked) > 1
            )
            answers, failed = [], None
            for request, (_, answer) in zip(requests, asked):
                try:
                    answers.append(answer(request))
                except SMBResponseException as error:
                    failed = failed or error
            if failed is not None:
                raise failed
            return answers

        found = await self.run(act)
        self._tell.moved()
        return found

    async def open(self, name: str) -> Open:
        """Something in the share, not opened yet."""
        return Open(await self.tree(), name)

    def close(self) -> None:
        """End the connection."""
        line, self._line, self._tree = self._line, None, None
        if line is not None:
            threading.Thread(target=line.end, daemon=True).start()


class told(contextlib.AbstractContextManager[None]):  # noqa: N801
    """Turns what the library says into what it comes down to."""

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, SMBResponseException):
            if error.status in _ENDED:
                raise LineBrokenError(_words(error)) from error
            raise ServerError(_TROUBLES.get(error.status, Trouble.OTHER), _words(error)) from error
        if isinstance(error, SMBException):
            raise LineBrokenError(str(error)) from error
        if isinstance(error, OSError):
            raise LineBrokenError(error.strerror or str(error)) from error


def _words(error: SMBResponseException) -> str:
    return f"{type(error).__name__} {error.status:#x}"
