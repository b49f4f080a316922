"""The keys by which SSH servers show who they are: those that the person's and the machine's files know, and
those that were said to be right here."""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Sequence
from pathlib import Path

import asyncssh

from good_tide.core.addresses import PORTS, Address
from good_tide.lines.wire import Trouble
from good_tide.servers.server import LineBrokenError, ServerError
from good_tide.system.desktop_entry import write_file

_SYSTEM_FILE = Path("/etc/ssh/ssh_known_hosts")
_SECONDS = 8.0


def _person_file() -> Path:
    return Path.home() / ".ssh" / "known_hosts"


def port_of(address: Address) -> int | tuple[()]:
    """The port that is asked for; the usual one leaves it to the settings of SSH."""
    return () if address.port == PORTS[address.kind] else address.port


class HostKeys:
    """What is known of the keys of servers (the format of OpenSSH's ``known_hosts``, sshd(8)).

    :param own: the file to which keys are added that somebody has said to be right.
    :param trust: fingerprint of a key that somebody says to be right now.
    """

    def __init__(self, own: Path, trust: str = "") -> None:
        self._own, self._trust = own, trust
        self._matched: list[asyncssh.SSHKey] = []
        self._asked: tuple[str, int] = ("", 0)

    def known_for(
        self, host: str, address: str, port: int | None
    ) -> tuple[Sequence[asyncssh.SSHKey], Sequence[asyncssh.SSHKey], Sequence[asyncssh.SSHKey]]:
        """Keys, keys of authorities, and revoked keys of a server."""
        known = asyncssh.SSHKnownHosts()
        for file in (self._own, _person_file(), _SYSTEM_FILE):
            with contextlib.suppress(OSError, UnicodeDecodeError, ValueError):
                known.load(file.read_text(encoding="utf-8"))
        keys, authorities, revoked, *_ = asyncssh.match_known_hosts(known, host, address, port)
        self._matched = list(keys)
        self._asked = (host, port or 22)
        return keys, authorities, revoked

    async def refusal(self, address: Address) -> Exception:
        """Why a server's key was not taken; one that somebody has said to be right is kept, and the
        connection is worth another try."""
        shown = await self._shown(address)
        if shown is None:
            return LineBrokenError("no key was shown")
        fingerprint = shown.get_fingerprint()
        if self._trust == fingerprint:
            self._keep(shown)
            return LineBrokenError("its key is known now")
        if not self._matched:
            return ServerError(Trouble.NEW_KEY, shown=fingerprint)
        known = ", ".join(dict.fromkeys(key.get_fingerprint() for key in self._matched))
        return ServerError(Trouble.CHANGED_KEY, shown=fingerprint, known=known)

    async def _shown(self, address: Address) -> asyncssh.SSHKey | None:
        """The key that a server shows, of those kinds that are known of it where there are any."""
        kinds = [key.algorithm.decode() for key in self._matched]
        for wanted in (kinds, []):
            with contextlib.suppress(asyncssh.Error, OSError, TimeoutError):
                return await asyncio.wait_for(
                    asyncssh.get_server_host_key(
                        address.host,
                        port_of(address),
                        server_host_key_algs=wanted or (),
                    ),
                    _SECONDS,
                )
        return None

    def _keep(self, key: asyncssh.SSHKey) -> None:
        host, port = self._asked
        name = host if port == 22 else f"[{host}]:{port}"
        line = f"{name} {key.export_public_key('openssh').decode().strip()}\n"
        before = ""
        with contextlib.suppress(OSError):
            before = self._own.read_text(encoding="utf-8")
        kept = [one for one in before.splitlines(keepends=True) if one.partition(" ")[0] != name]
        self._own.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        write_file(self._own, os.fsencode("".join(kept) + line), 0o600)
