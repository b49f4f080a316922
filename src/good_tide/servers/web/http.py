"""Requests to a web server, over TLS (RFC 9110): what goes there and comes back, and what its errors come
down to."""

from __future__ import annotations

import contextlib
import io
import socket
import ssl
from collections.abc import AsyncIterator, Iterator, Mapping
from typing import NamedTuple

import aiohttp
import yarl

from good_tide.core.addresses import Address
from good_tide.lines.wire import TOO_LARGE, Trouble
from good_tide.servers.lossy import expect_loss
from good_tide.servers.server import LineBrokenError, Progress, ServerError
from good_tide.servers.web.certificates import Certificates

BEYOND_END = 416
"""Answers who asks for bytes beyond the end of a file."""
_BLOCK = 128 * 1024
_CONNECTIONS = 16
_CONNECT_SECONDS = 8.0
_ANSWER_SECONDS = 150.0
"""No answer is waited for longer; what hangs is ended sooner, by closing the connections."""
_LARGEST_TEXT = 64 << 20
"""Listings that are larger are not read."""
_AGAIN = frozenset({408, 429, 502, 503, 504})
"""What servers answer that are busy, or being restarted."""


class Reply(NamedTuple):
    """What came back."""

    status: int
    headers: Mapping[str, str]
    body: bytes


class Part(NamedTuple):
    """Bytes of a file that are asked for; ``length`` None: to its end."""

    offset: int
    length: int | None

    @property
    def headers(self) -> dict[str, str]:
        """What asks for them (RFC 9110, section 14.2); nothing for the whole file."""
        if not self.offset and self.length is None:
            return {}
        end = "" if self.length is None else str(self.offset + self.length - 1)
        return {"Range": f"bytes={self.offset}-{end}"}

    def of(self, reply: Reply) -> bytes:
        """What an answer has of them: none beyond the end, and of a whole file, from a server that does not
        know of parts, these only."""
        if reply.status == BEYOND_END:
            return b""
        begin = self.offset if reply.status == 200 else 0
        return reply.body[begin : None if self.length is None else begin + self.length]


def _socket(where: aiohttp.AddrInfoType) -> socket.socket:
    family, kind, protocol, _, _ = where
    made = socket.socket(family, kind, protocol)
    expect_loss(made)
    return made


class WebLine:
    """Asks a web server, over some connections that stay open.

    :param middleware: what answers when the server asks who logs in, if anything does.
    """

    def __init__(self, address: Address, certificates: Certificates, tell: Progress) -> None:
        self._address, self._certificates, self._tell = address, certificates, tell
        self._session: aiohttp.ClientSession | None = None
        self.middlewares: tuple[aiohttp.ClientMiddlewareType, ...] = ()
        host = f"[{address.host}]" if ":" in address.host else address.host
        self.root = f"https://{host}:{address.port}"

    def _opened(self) -> aiohttp.ClientSession:
        if self._session is None:
            pinned = self._certificates.pinned(self._address)
            trusted: ssl.SSLContext | aiohttp.Fingerprint = (
                ssl.create_default_context() if pinned is None else aiohttp.Fingerprint(pinned)
            )
            self._session = aiohttp.ClientSession(
                connector=aiohttp.TCPConnector(limit=_CONNECTIONS, ssl=trusted, socket_factory=_socket),
                timeout=aiohttp.ClientTimeout(
                    total=None, sock_connect=_CONNECT_SECONDS, sock_read=_ANSWER_SECONDS
                ),
                auto_decompress=False,
                cookie_jar=aiohttp.DummyCookieJar(),
                middlewares=self.middlewares,
            )
        return self._session

    async def ask(
        self,
        method: str,
        path: str,
        headers: Mapping[str, str] | None = None,
        body: bytes | bytearray | None = None,
        most: int = _LARGEST_TEXT,
    ) -> Reply:
        """Ask.

        :param path: with what follows it, percent-encoded.
        :param most: bytes of an answer beyond which it is not read.

        Raises:
            ServerError: what it shows is not to be trusted, or it gives more. LineBrokenError: no answer.
        """
        given = {"Accept-Encoding": "identity", **(headers or {})}
        large = body is not None and len(body) > _BLOCK
        if body is not None:
            given["Content-Length"] = str(len(body))
        data: AsyncIterator[bytes] | io.BytesIO | bytes | bytearray | None = body
        if large and self.middlewares and body is not None:
            await self._tell.pace(sent=len(body))
            data = io.BytesIO(body)  # which may have to be sent twice
        with self._told(), contextlib.ExitStack() as settling:
            try:
                async with self._opened().request(
                    method,
                    yarl.URL(self.root + path, encoded=True),
                    headers=given,
                    data=self._parts(body, settling) if body is not None and large and data is body else data,
                    allow_redirects=False,
                ) as answer:
                    self._tell.moved(0 if large and data is body else len(body or b""))
                    found = await self._read(answer, most) if method != "HEAD" else b""
                    if answer.status in _AGAIN:
                        raise LineBrokenError(f"{answer.status} {answer.reason}")
                    return Reply(answer.status, answer.headers, found)
            except (aiohttp.ClientConnectorCertificateError, aiohttp.ServerFingerprintMismatch):
                pass
        await self.close()
        raise await self._certificates.refusal(self._address)

    async def _parts(self, body: bytes | bytearray, settling: contextlib.ExitStack) -> AsyncIterator[bytes]:
        """What is sent, part by part; then the server makes of it what it wants, which may take long."""
        view = memoryview(body)
        for at in range(0, len(body), _BLOCK):
            part = bytes(view[at : at + _BLOCK])
            await self._tell.pace(sent=len(part))
            yield part
            self._tell.moved(sent=len(part))
        settling.enter_context(self._tell.settling())

    async def _read(self, answer: aiohttp.ClientResponse, most: int) -> bytes:
        told = answer.content_length
        if told is not None and told > most:
            answer.close()
            raise ServerError(Trouble.OTHER, TOO_LARGE)
        parts: list[bytes] = []
        count = 0
        async for part in answer.content.iter_chunked(_BLOCK):
            count += len(part)
            if count > most:
                answer.close()
                raise ServerError(Trouble.OTHER, TOO_LARGE)
            parts.append(part)
            self._tell.moved(received=len(part))
            await self._tell.pace(received=len(part))
        return parts[0] if len(parts) == 1 else b"".join(parts)

    @contextlib.contextmanager
    def _told(self) -> Iterator[None]:
        try:
            yield
        except (aiohttp.ClientConnectorCertificateError, aiohttp.ServerFingerprintMismatch):
            raise
        except (aiohttp.ClientSSLError, ssl.SSLError) as error:
            raise ServerError(Trouble.NOT_SPOKEN, "TLS") from error
        except (aiohttp.ClientConnectorError, OSError) as error:
            known = getattr(error, "os_error", error)
            raise LineBrokenError(known.strerror or str(known) or type(known).__name__) from error
        except (aiohttp.ClientResponseError, aiohttp.http.HttpProcessingError) as error:
            raise ServerError(Trouble.NOT_SPOKEN, "HTTP") from error
        except (TimeoutError, aiohttp.ClientError) as error:
            raise LineBrokenError(str(error) or type(error).__name__) from error

    async def close(self) -> None:
        """End the connections; the next question opens others."""
        session, self._session = self._session, None
        if session is not None:
            await session.close()
