"""A stand-in mail server: takes every message and keeps it as a file. For the demo and for tests, on this
machine only."""

from __future__ import annotations

import socket
import ssl
import threading
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, AuthResult, Envelope, LoginPassword, Session


class _Keep:
    """Keeps messages in a folder, numbered."""

    def __init__(self, folder: Path) -> None:
        self._folder, self._lock = folder, threading.Lock()

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:  # noqa: N802
        with self._lock:
            number = len(list(self._folder.glob("*.eml"))) + 1
            content = envelope.content
            (self._folder / f"{number:04}.eml").write_bytes(
                content if isinstance(content, bytes) else str(content).encode()
            )
        return "250 Kept"


class StandInMail:
    """The server, while it runs.

    :param folder: where messages are kept, as ``0001.eml`` and so on.
    :param login: name and password that it asks for; None: it asks for none.
    :param tls: offers STARTTLS with this context, and takes no login without it.
    """

    def __init__(
        self,
        folder: Path,
        port: int = 0,
        login: tuple[str, str] | None = None,
        tls: ssl.SSLContext | None = None,
    ) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.port = port or _free_port()

        def check(
            server: SMTP, session: Session, envelope: Envelope, mechanism: str, data: Any
        ) -> AuthResult:
            wanted = (login or ("", ""))[0].encode(), (login or ("", ""))[1].encode()
            right = isinstance(data, LoginPassword) and (data.login, data.password) == wanted
            return AuthResult(success=right, handled=right)

        self._controller = Controller(
            _Keep(folder),
            hostname="127.0.0.1",
            port=self.port,
            authenticator=check if login else None,
            auth_required=login is not None,
            auth_require_tls=tls is not None,
            tls_context=tls,
        )

    def start(self) -> int:
        """Take messages from now on; returns the port."""
        self._controller.start()
        return self.port

    def stop(self) -> None:
        """Take no more."""
        self._controller.stop()


def _free_port() -> int:
    """A port that nobody uses just now."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
