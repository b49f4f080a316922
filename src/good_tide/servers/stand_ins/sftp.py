"""A stand-in SFTP server."""

from __future__ import annotations

import asyncio
import contextlib
import os
import secrets
from functools import partial

import asyncssh

from good_tide.servers.stand_ins.facts import HOST, USER, Asked, StandInFacts, asked, tell, until_input_ends


class _Login(asyncssh.SSHServer):
    """Lets in who has the password; with ``code``, who is asked for a code besides is let in by nothing."""

    def __init__(self, password: str, code: bool) -> None:
        self._password, self._code = password, code

    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return not self._code

    def validate_password(self, username: str, password: str) -> bool:
        return username == USER and secrets.compare_digest(password, self._password)

    def kbdint_auth_supported(self) -> bool:
        return self._code

    def get_kbdint_challenge(
        self, username: str, lang: str, submethods: str
    ) -> tuple[str, str, str, list[tuple[str, bool]]]:
        return "", "", "", [("Code from your telephone: ", True)]

    def validate_kbdint_response(self, username: str, responses: object) -> bool:
        return False


async def _serve(wanted: Asked) -> None:
    key = asyncssh.generate_private_key("ssh-ed25519")
    server = await asyncssh.listen(
        HOST,
        wanted.port,
        server_factory=lambda: _Login(wanted.password, wanted.code),
        server_host_keys=[key],
        sftp_factory=partial(asyncssh.SFTPServer, chroot=os.fsencode(wanted.folder)),
        allow_scp=False,
    )
    address = f"sftp://{USER}@{HOST}:{server.get_port()}/store"
    tell(StandInFacts(address, wanted.password, key.get_fingerprint()))
    await asyncio.get_running_loop().run_in_executor(None, until_input_ends)


def main() -> None:
    """Serve until the input ends."""
    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(_serve(asked()))
    os._exit(0)


if __name__ == "__main__":
    main()
