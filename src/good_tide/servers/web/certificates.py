"""The certificates by which web servers show who they are: those that the system trusts, and those that were
said to be right here."""

from __future__ import annotations

import asyncio
import hashlib
import ssl
from pathlib import Path

from good_tide.core.addresses import Address
from good_tide.lines.wire import Trouble
from good_tide.servers.server import LineBrokenError, ServerError
from good_tide.system.desktop_entry import write_file

_SECONDS = 8.0
_BEGIN = "SHA256:"


class Certificates:
    """What is known of the certificates of servers that the system does not trust by itself.

    :param own: the file of those that somebody has said to be right: a line each, the server and the
        fingerprint (SHA-256 of the certificate, as ``openssl x509 -fingerprint -sha256`` shows it).
    :param trust: fingerprint of one that somebody says to be right now.
    """

    def __init__(self, own: Path, trust: str = "") -> None:
        self._own, self._trust = own, trust

    def pinned(self, address: Address) -> bytes | None:
        """SHA-256 of the certificate that a server has to show; None: one that the system trusts."""
        found = self._known().get(_named(address), "")
        try:
            return bytes.fromhex(found.removeprefix(_BEGIN).replace(":", "")) or None
        except ValueError:  # not written by this program: the system decides
            return None

    def _known(self) -> dict[str, str]:
        try:
            lines = self._own.read_text(encoding="utf-8").splitlines()
        except OSError:
            return {}
        return {server: one for server, _, one in (line.partition(" ") for line in lines) if one}

    async def refusal(self, address: Address) -> Exception:
        """Why a server's certificate was not taken; one that somebody has said to be right is kept, and the
        connection is worth another try."""
        try:
            shown = await asyncio.wait_for(asyncio.to_thread(_shown, address), _SECONDS)
        except (OSError, TimeoutError, ValueError) as error:
            return LineBrokenError(str(error))
        if shown == self._trust:
            self._keep(address, shown)
            return LineBrokenError("its certificate is known now")
        known = self._known().get(_named(address), "")
        return ServerError(Trouble.CHANGED_KEY if known else Trouble.NEW_KEY, shown=shown, known=known)

    def _keep(self, address: Address, fingerprint: str) -> None:
        known = {**self._known(), _named(address): fingerprint}
        self._own.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        lines = "".join(f"{server} {one}\n" for server, one in sorted(known.items()))
        write_file(self._own, lines.encode(), 0o600)


def fingerprint_of(certificate: bytes) -> str:
    """The fingerprint of a certificate (DER), as people compare it."""
    digest = hashlib.sha256(certificate).digest()
    return _BEGIN + ":".join(f"{byte:02X}" for byte in digest)


def _named(address: Address) -> str:
    return f"{address.host}:{address.port}"


def _shown(address: Address) -> str:
    pem = ssl.get_server_certificate((address.host, address.port), timeout=_SECONDS)
    return fingerprint_of(ssl.PEM_cert_to_DER_cert(pem))
