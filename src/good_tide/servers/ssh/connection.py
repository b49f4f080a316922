"""Connections to SSH servers: opening one, and what its errors come down to."""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Awaitable

import asyncssh

from good_tide.core.addresses import Address
from good_tide.lines.wire import Trouble
from good_tide.servers.lossy import expect_loss
from good_tide.servers.server import LineBrokenError, Progress, ServerError
from good_tide.servers.ssh.host_keys import HostKeys, port_of
from good_tide.servers.ssh.logins import SshAnswers

_CIPHERS = "aes128-gcm@openssh.com,aes256-gcm@openssh.com,chacha20-poly1305@openssh.com,aes256-ctr"
"""The fastest first; others follow where a server has none of them."""
_CONNECT_SECONDS = 8.0
_KEEPALIVE_SECONDS, _KEEPALIVES = 15.0, 4


async def connect(
    address: Address, login: SshAnswers, keys: HostKeys, tell: Progress
) -> tuple[asyncssh.SSHClientConnection, asyncssh.SFTPClient]:
    """Log in.

    Raises:
        ServerError: the server is not to be trusted, or does not let in. LineBrokenError: no connection.
    """
    connection = None
    try:
        connection = await asyncssh.connect(
            address.host,
            port_of(address),
            username=address.user or (),
            **login.options(tell.moved),
            known_hosts=keys.known_for,
            encryption_algs=f"^{_CIPHERS}",
            compression_algs="none",
            connect_timeout=_CONNECT_SECONDS,
            login_timeout=2 * _CONNECT_SECONDS,
            keepalive_interval=_KEEPALIVE_SECONDS,
            keepalive_count_max=_KEEPALIVES,
        )
        tell.moved()
        expect_loss(connection.get_extra_info("socket"))
        return connection, await connection.start_sftp_client()
    except asyncssh.HostKeyNotVerifiable:
        raise await keys.refusal(address) from None
    except asyncssh.PermissionDenied:
        raise login.refusal() from None
    except (asyncssh.KeyImportError, asyncssh.KeyEncryptionError):
        raise ServerError(Trouble.LOCKED_KEY) from None
    except asyncssh.ChannelOpenError as error:
        raise ServerError(Trouble.NOT_SPOKEN, error.reason) from None
    except (asyncssh.ProtocolError, asyncssh.KeyExchangeFailed, asyncssh.ProtocolNotSupported) as error:
        if "authentication" in error.reason:
            raise login.refusal() from None
        raise ServerError(Trouble.NOT_SPOKEN, str(error.reason)) from None
    except (asyncssh.DisconnectError, asyncssh.SFTPError, OSError, TimeoutError) as error:
        if connection is not None:
            connection.abort()
        raise LineBrokenError(reason(error)) from error


def reason(error: Exception) -> str:
    """Why a connection ended, in the words of the system or of the library."""
    if isinstance(error, OSError) and (error.strerror or error.errno):
        known = isinstance(error.errno, int) and error.errno > 0
        return os.strerror(error.errno) if known and error.errno is not None else str(error.strerror)
    return str(error) or type(error).__name__


def later(closing: Awaitable[object]) -> None:
    """Let something end by itself; that it fails when the line is broken says nothing new."""

    async def end() -> None:
        with contextlib.suppress(asyncssh.Error, OSError):
            await closing

    _ending.add(task := asyncio.ensure_future(end()))
    task.add_done_callback(_ending.discard)


_ending: set[asyncio.Future[None]] = set()


_TROUBLES: dict[type[asyncssh.SFTPError], Trouble] = {
    asyncssh.SFTPNoSuchFile: Trouble.MISSING,
    asyncssh.SFTPNoSuchPath: Trouble.MISSING,
    asyncssh.SFTPFileAlreadyExists: Trouble.TAKEN,
    asyncssh.SFTPPermissionDenied: Trouble.DENIED,
    asyncssh.SFTPWriteProtect: Trouble.READ_ONLY,
    asyncssh.SFTPNoSpaceOnFilesystem: Trouble.FULL,
    asyncssh.SFTPQuotaExceeded: Trouble.FULL,
}


class told(contextlib.AbstractContextManager[None]):  # noqa: N801
    """Turns what the library says into what it comes down to."""

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, asyncssh.SFTPNoConnection | asyncssh.SFTPConnectionLost):
            raise LineBrokenError(error.reason) from error
        if isinstance(error, asyncssh.SFTPError):
            raise ServerError(_TROUBLES.get(type(error), Trouble.OTHER), error.reason) from error
        if isinstance(error, asyncssh.Error | OSError | asyncio.IncompleteReadError):
            raise LineBrokenError(reason(error)) from error
