"""A stand-in SFTP server on loopback, with a login that is thrown away: ``python -m
good_tide.servers.stand_in FOLDER PORT``. Its first line of output says where it is and how to log in
(``StandInFacts`` as JSON); it ends with its input."""

from __future__ import annotations

import asyncio
import contextlib
import os
import secrets
import sys
from functools import partial
from pathlib import Path

import asyncssh
import msgspec

_USER = "guest"
_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"


class StandInFacts(msgspec.Struct, frozen=True):
    """Where a stand-in server is, and how to log in."""

    address: str
    password: str
    fingerprint: str


class _Login(asyncssh.SSHServer):
    """Lets in who has the password; with ``code``, who is asked for a code besides is let in by nothing."""

    def __init__(self, password: str, code: bool) -> None:
        self._password, self._code = password, code

    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return not self._code

    def validate_password(self, username: str, password: str) -> bool:
        return username == _USER and secrets.compare_digest(password, self._password)

    def kbdint_auth_supported(self) -> bool:
        return self._code

    def get_kbdint_challenge(
        self, username: str, lang: str, submethods: str
    ) -> tuple[str, str, str, list[tuple[str, bool]]]:
        return "", "", "", [("Code from your telephone: ", True)]

    def validate_kbdint_response(self, username: str, responses: object) -> bool:
        return False


async def _serve(folder: Path, port: int, code: bool) -> None:
    password = "".join(secrets.choice(_LETTERS) for _ in range(12))
    key = asyncssh.generate_private_key("ssh-ed25519")
    server = await asyncssh.listen(
        "127.0.0.1",
        port,
        server_factory=lambda: _Login(password, code),
        server_host_keys=[key],
        sftp_factory=partial(asyncssh.SFTPServer, chroot=os.fsencode(folder)),
        allow_scp=False,
    )
    facts = StandInFacts(
        f"sftp://{_USER}@127.0.0.1:{server.get_port()}/store", password, key.get_fingerprint()
    )
    print(msgspec.json.encode(facts).decode(), flush=True)
    await asyncio.get_running_loop().run_in_executor(None, sys.stdin.read)


def main() -> None:
    """Serve until the input ends."""
    folder, port = Path(sys.argv[1]).resolve(), int(sys.argv[2])
    folder.mkdir(parents=True, exist_ok=True)
    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(_serve(folder, port, "--code" in sys.argv))
    os._exit(0)


if __name__ == "__main__":
    main()
