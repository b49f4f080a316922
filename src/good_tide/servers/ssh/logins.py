"""Answers what an SSH server asks of who logs in: with keys and the agent of SSH, or with a password."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence

import asyncssh

from good_tide.core.translation import tr
from good_tide.lines.wire import Begin, Trouble
from good_tide.servers.logins import Answers
from good_tide.servers.server import ServerError
from good_tide.system import logins
from good_tide.system.keyrings import KeyRing


class SshAnswers(Answers):
    """What is known of a login, for one SSH server.

    :param server: the address without its path.
    """

    def __init__(self, server: str, given: Begin, kept: logins.Login, ring: KeyRing) -> None:
        super().__init__(server, given, kept, ring)
        self._more = ""
        self._tried = self._talked = False
        self._locked_key = False

    def options(self, connected: Callable[[], None]) -> dict[str, object]:
        """What a connection is opened with.

        :param connected: called when there is somebody at the other end, before the login.

        Raises:
            ServerError: the key that is named cannot be read.
        """
        self._tried = self._talked = False
        options: dict[str, object] = {"client_factory": lambda: _Client(self, connected)}
        if self._kept.key is not None:
            key = os.path.expanduser(self._kept.key)
            if not os.access(key, os.R_OK):
                raise ServerError(Trouble.LOGIN, tr("the key {key} cannot be read").format(key=key))
            options["client_keys"] = [key]
        passphrase = self._given.key_passphrase or self._kept.key_passphrase
        options["passphrase"] = self._key_passphrase if passphrase is None else passphrase
        return options

    async def password(self) -> str | None:
        """The password, once for each connection."""
        if self._tried:
            return None
        self._tried = True
        return await self.known_password()

    async def _key_passphrase(self, file: str) -> str | None:
        found = await self._recall(logins.key_ring_name(self._server))
        self._locked_key = found is None
        return found

    def may_ask(self) -> bool:
        """Whether the server may ask questions: once for each connection, as some begin them for ever."""
        before, self._talked = self._talked, True
        return not before

    def more_asked(self, words: str) -> None:
        """The server asks for something that is no password."""
        self._more = words

    def refusal(self, said: str = "") -> ServerError:
        if self._more:
            return ServerError(Trouble.MORE_ASKED, self._more)
        if self._locked_key:
            return ServerError(Trouble.LOCKED_KEY)
        return super().refusal(said)


class _Client(asyncssh.SSHClient):
    def __init__(self, answers: SshAnswers, connected: Callable[[], None]) -> None:
        self._answers, self._connected = answers, connected

    def connection_made(self, conn: asyncssh.SSHClientConnection) -> None:
        self._connected()

    async def password_auth_requested(self) -> str | None:
        return await self._answers.password()

    def kbdint_auth_requested(self) -> str | None:
        return "" if self._answers.may_ask() else None

    async def kbdint_challenge_received(
        self, name: str, instructions: str, lang: str, prompts: Sequence[tuple[str, bool]]
    ) -> list[str] | None:
        if not prompts:
            return []
        if len(prompts) == 1 and not prompts[0][1] and "assword" in prompts[0][0]:
            password = await self._answers.password()
            return None if password is None else [password]
        self._answers.more_asked(prompts[0][0].strip(" :"))
        return None
