"""Folders on WebDAV servers (RFC 4918), over TLS: ``davs://user@host:port/path``. They promise less than
others: nothing can be asked to be durable, and a file that is replaced may be gone for a moment."""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import time
from collections.abc import AsyncIterator, Mapping
from email.utils import parsedate_to_datetime
from typing import NamedTuple
from urllib.parse import quote, unquote, urlsplit
from xml.etree.ElementTree import Element, ParseError

import aiohttp
from defusedxml import ElementTree
from defusedxml.common import DefusedXmlException

from good_tide.core.addresses import Address
from good_tide.lines.wire import Promises, Room, Trouble
from good_tide.servers.folders import CLAIM_SECONDS, Entry, FolderServer, a_moment, claim_of
from good_tide.servers.logins import Answers
from good_tide.servers.measuring import measured, trial_name
from good_tide.servers.server import LineBrokenError, Progress, ServerError
from good_tide.servers.web.certificates import Certificates
from good_tide.servers.web.http import BEYOND_END, Part, Reply, WebLine

_ASKED = (
    b'<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><resourcetype/><getcontentlength/>'
    b"</prop></propfind>"
)
_ASKED_ROOM = (
    b'<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><quota-available-bytes/>'
    b"<quota-used-bytes/></prop></propfind>"
)
_ASKED_TIME = (
    b'<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><getlastmodified/></prop></propfind>'
)
_LEFT_SECONDS = 120.0
_PAUSES = (0.05, 0.2, 0.5, 1.0, 2.0)

_TROUBLES = {
    401: Trouble.LOGIN,
    403: Trouble.DENIED,
    404: Trouble.MISSING,
    405: Trouble.NOT_SPOKEN,
    409: Trouble.MISSING,  # the folder around it is not there
    410: Trouble.MISSING,
    412: Trouble.TAKEN,
    501: Trouble.NOT_SPOKEN,
    507: Trouble.FULL,
}
_LOCKED = 423


class _Told(NamedTuple):
    """What a server says of one thing."""

    path: str
    properties: Mapping[str, Element]

    @property
    def kind(self) -> str:
        found = self.properties.get("resourcetype")
        return "folder" if found is not None and found.find("{DAV:}collection") is not None else "file"

    def number(self, name: str) -> int:
        """A number; -1: it does not say."""
        found = self.properties.get(name)
        words = (found.text or "").strip() if found is not None else ""
        return int(words) if words.isdigit() else -1


class DavServer(FolderServer):
    """A folder on a WebDAV server."""

    def __init__(self, address: Address, login: Answers, certificates: Certificates, tell: Progress) -> None:
        self._address, self._login = address, login
        self._line = WebLine(address, certificates, tell)
        self._root = quote(address.path.rstrip("/"))
        self._entering = asyncio.Lock()
        self._basic: str | None = None

    def _path(self, name: str) -> str:
        """Where something is; the names of folders end with a slash."""
        return f"{self._root}/{quote(name.lstrip('/'))}"

    async def _ask(
        self,
        method: str,
        name: str,
        headers: Mapping[str, str] | None = None,
        body: bytes | bytearray | None = None,
        most: int = 64 << 20,
    ) -> Reply:
        """Ask, logged in."""
        given = dict(headers or {})
        async with self._entering:
            if self._basic is None:
                password = await self._login.known_password()  # without one the server says what it thinks
                self._basic = (
                    aiohttp.encode_basic_auth(self._address.user, password, "utf-8")
                    if password is not None
                    else ""
                )
        if self._basic and not self._line.middlewares:
            given["Authorization"] = self._basic
        reply = await self._line.ask(method, self._path(name), given, body, most)
        if reply.status == 401 and await self._digest(reply):
            given.pop("Authorization", None)
            reply = await self._line.ask(method, self._path(name), given, body, most)
        if reply.status == 401:
            raise self._login.refusal()
        return reply

    async def _digest(self, reply: Reply) -> bool:
        """Log in by what shows that the password is known (RFC 7616), where the server wants that."""
        async with self._entering:
            if self._line.middlewares:
                return False
            wanted = reply.headers.get("WWW-Authenticate", "")
            password = await self._login.known_password()
            if not wanted.lower().startswith("digest") or password is None:
                return False
            await self._line.close()
            self._line.middlewares = (aiohttp.DigestAuthMiddleware(self._address.user, password),)
            return True

    async def _done(
        self,
        method: str,
        name: str,
        headers: Mapping[str, str] | None = None,
        body: bytes | bytearray | None = None,
    ) -> Reply:
        """Ask for something that has to be done; while another has it locked, again."""
        for pause in (*_PAUSES, None):
            reply = await self._ask(method, name, headers, body)
            if reply.status == _LOCKED and pause is not None:
                await asyncio.sleep(pause)
                continue
            break
        if not 200 <= reply.status < 300:
            raise _refused(reply)
        return reply

    async def _told_of(self, name: str, depth: int, asked: bytes = _ASKED) -> list[_Told]:
        headers = {"Depth": str(depth), "Content-Type": "application/xml"}
        reply = await self._done("PROPFIND", name, headers, asked)
        if reply.status != 207:
            raise ServerError(Trouble.NOT_SPOKEN, f"HTTP {reply.status}")
        return _responses(reply)

    async def there(self) -> None:
        try:
            found = await self._told_of("", 0)
        except ServerError as error:
            raise ServerError(Trouble.NO_FOLDER) if error.trouble is Trouble.MISSING else error from None
        if not found or found[0].kind != "folder":
            raise ServerError(Trouble.NO_FOLDER)

    async def make(self) -> None:
        whole = self._root
        try:
            await self._make(whole)
        finally:
            self._root = whole

    async def _make(self, path: str) -> None:
        """Make a folder, and those above it that are not there."""
        self._root = path
        try:
            await self.make_folder("")
        except ServerError as error:
            if error.trouble is not Trouble.MISSING or "/" not in path.strip("/"):
                raise
            await self._make(path.rpartition("/")[0])
            self._root = path
            await self.make_folder("")

    async def make_folder(self, folder: str) -> None:
        reply = await self._ask("MKCOL", f"{folder}/")
        if reply.status == 405 or 200 <= reply.status < 300:  # 405: it is there
            return
        if reply.status in (404, 409) or not await self._is_folder(folder):  # made by another just now
            raise _refused(reply)

    async def _is_folder(self, folder: str) -> bool:
        try:
            found = await self._told_of(f"{folder}/", 0)
        except ServerError:
            return False
        return bool(found) and found[0].kind == "folder"

    async def entries(self, folder: str) -> list[Entry]:
        own = unquote(self._path(folder)).rstrip("/")
        return [
            Entry(one.path.rpartition("/")[2], one.kind, max(0, one.number("getcontentlength")))
            for one in await self._told_of(f"{folder}/", 1)
            if one.path != own
        ]

    async def size(self, name: str) -> int:
        found = await self._told_of(name, 0)
        if not found or found[0].kind != "file":
            raise ServerError(Trouble.MISSING)
        return max(0, found[0].number("getcontentlength"))

    async def read(self, name: str, offset: int, length: int | None, limit: int) -> bytes:
        if length == 0:
            await self.size(name)
            return b""
        part = Part(offset, length)
        reply = await self._ask("GET", name, part.headers, most=limit)
        if reply.status not in (200, 206, BEYOND_END):
            raise _refused(reply)
        return part.of(reply)

    async def write(self, temporary: str, data: bytes | bytearray) -> None:
        try:
            await self._done("PUT", temporary, {"Content-Type": "application/octet-stream"}, data)
        except ServerError as error:
            if error.trouble is not Trouble.MISSING:
                await self._clear(temporary)
            raise

    async def name_it(self, temporary: str, name: str, exclusive: bool) -> None:
        """Servers look whether a name is free and give it then, and another may come between: whoever wants
        a name for itself claims it first by a folder, which only one can make."""
        try:
            if not exclusive:
                await self._move(temporary, name, replaces=True)
                return
            async with self._claimed(name):
                await self._move(temporary, name, replaces=False)
        except ServerError as error:
            if error.trouble is not Trouble.MISSING:
                await self._clear(temporary)
            raise

    @contextlib.asynccontextmanager
    async def _claimed(self, name: str) -> AsyncIterator[None]:
        claim = f"{claim_of(name)}/"  # the names of folders end so, or some servers lead elsewhere
        deadline = time.monotonic() + CLAIM_SECONDS
        while not await self._made(claim):
            if await self._left_behind(claim):
                aside = f"{claim.rstrip('/')}-{secrets.token_hex(8)}/"
                with contextlib.suppress(ServerError):
                    await self._move(claim, aside, replaces=False)  # of several that see it, one
                    await self.remove(aside)
            elif time.monotonic() > deadline:
                raise LineBrokenError("another holds the name")
            else:
                await a_moment()
        try:
            yield
        finally:
            # Once only: some servers say that it failed when another has made the same folder meanwhile.
            await self._clear(claim)

    async def _made(self, folder: str) -> bool:
        """Whether a folder was made by this very request."""
        reply = await self._ask("MKCOL", folder)
        if reply.status == 409 or reply.status in (403, 507):
            raise _refused(reply)
        return 200 <= reply.status < 300

    async def _left_behind(self, claim: str) -> bool:
        """Whether a claim was made so long ago, by the server's own clock, that nobody can be at it."""
        reply = await self._ask("PROPFIND", claim, {"Depth": "0"}, _ASKED_TIME)
        if reply.status != 207:
            return False
        try:
            now = parsedate_to_datetime(reply.headers.get("Date", ""))
            for told in _responses(reply):
                made = parsedate_to_datetime(told.properties["getlastmodified"].text or "")
                return (now - made).total_seconds() > _LEFT_SECONDS
        except (KeyError, ValueError, TypeError):
            pass
        return False

    async def _move(self, source: str, target: str, replaces: bool) -> None:
        where = self._line.root + self._path(target)
        await self._done("MOVE", source, {"Destination": where, "Overwrite": "T" if replaces else "F"})

    async def _clear(self, name: str) -> None:
        with contextlib.suppress(ServerError, LineBrokenError):
            await self.remove(name)

    async def remove(self, name: str) -> None:
        try:
            await self._done("DELETE", name)
        except ServerError as error:
            if error.trouble is not Trouble.MISSING:
                raise

    async def room(self) -> Room:
        found = await self._told_of("", 0, _ASKED_ROOM)
        free, used = (
            (found[0].number("quota-available-bytes"), found[0].number("quota-used-bytes"))
            if found
            else (-1, -1)
        )
        return Room(free, free + max(0, used)) if free >= 0 else Room(-1, -1)

    async def promises(self, size: int) -> Promises:
        first, second = trial_name(), trial_name()
        try:
            speeds = await measured(
                self.there,
                lambda data: self.write(first, data),
                lambda: self.read(first, 0, size, size),
                size,
            )
            once = await self._made(f"{second}/") and not await self._made(f"{second}/")
        finally:
            for name in (first, f"{second}/"):
                await self._clear(name)
        return Promises(False, once, False, *speeds)

    async def close(self) -> None:
        await self._line.close()


def _refused(reply: Reply) -> ServerError:
    return ServerError(_TROUBLES.get(reply.status, Trouble.OTHER), f"HTTP {reply.status}")


def _responses(reply: Reply) -> list[_Told]:
    try:
        tree = ElementTree.fromstring(reply.body)
    except (ParseError, DefusedXmlException, ValueError) as error:
        raise ServerError(Trouble.NOT_SPOKEN, "XML") from error
    return [_told(one) for one in tree.iter("{DAV:}response")]


def _told(response: Element) -> _Told:
    """What a ``response`` says; of properties those that it has."""
    path = unquote(urlsplit((response.findtext("{DAV:}href") or "").strip()).path).rstrip("/")
    properties = {}
    for found in response.iter("{DAV:}propstat"):
        if " 200" in (found.findtext("{DAV:}status") or " 200"):
            for one in found.iterfind("{DAV:}prop/*"):
                properties[one.tag.rpartition("}")[2]] = one
    return _Told(path, properties)
