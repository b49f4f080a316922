"""Folders in object storage that speaks the S3 protocol, over TLS: ``s3://key@endpoint/bucket/prefix``. An
object is there whole or not at all, so that nothing is written aside; a folder is a beginning of names, and
is there when an object is named so, with a slash at its end, or begins so."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Mapping
from urllib.parse import quote, urlencode
from xml.etree.ElementTree import Element, ParseError, SubElement, tostring

from botocore.auth import S3SigV4Auth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
from defusedxml import ElementTree
from defusedxml.common import DefusedXmlException

from good_tide.core.addresses import Address
from good_tide.lines.wire import Found, Promises, Room, Thing, Trouble
from good_tide.servers.logins import Answers
from good_tide.servers.measuring import measured, trial_name
from good_tide.servers.server import LineBrokenError, Progress, ServerError
from good_tide.servers.web.certificates import Certificates
from good_tide.servers.web.http import BEYOND_END, Part, Reply, WebLine
from good_tide.servers.whole import WholeServer

_USUAL_REGION = "us-east-1"
_COMPARED = 1 << 20
_PART = 5 << 20
"""Bytes of a part: the fewest that the protocol lets all but the last have."""
_LARGE = frozenset({"EntityTooLarge", "HTTP 413"})
_FEW_BYTES = 64 << 10
_PAUSES = (0.1, 0.3, 1.0, 2.0)
_BUSY = frozenset({"SlowDown", "InternalError", "ServiceUnavailable", "RequestTimeout", "OperationAborted"})
_RACED = "ConditionalRequestConflict"
_TROUBLES = {
    "NoSuchKey": Trouble.MISSING,
    "NoSuchBucket": Trouble.NO_FOLDER,
    "PreconditionFailed": Trouble.TAKEN,
    "AccessDenied": Trouble.DENIED,
    "InvalidAccessKeyId": Trouble.LOGIN,
    "SignatureDoesNotMatch": Trouble.LOGIN,
    "ExpiredToken": Trouble.LOGIN,
    "QuotaExceeded": Trouble.FULL,
    "EntityTooLarge": Trouble.OTHER,
    "InsufficientStorage": Trouble.FULL,
    "XMinioStorageFull": Trouble.FULL,
}
"""By the code of an error."""
_BY_STATUS = {403: Trouble.DENIED, 404: Trouble.MISSING, 412: Trouble.TAKEN, 507: Trouble.FULL}


class ObjectServer:
    """A beginning of names in a bucket.

    :param tell: counts what goes over the line.
    """

    def __init__(self, address: Address, login: Answers, certificates: Certificates, tell: Progress) -> None:
        self._address, self._login = address, login
        self._line = WebLine(address, certificates, tell)
        self._bucket, _, inside = address.path.strip("/").partition("/")
        self._prefix = f"{inside}/" if inside else ""
        self._region = _USUAL_REGION
        self._credentials: Credentials | None = None
        self._seen = False
        self._too_large = 1 << 32
        """Bytes that one request does not take, as far as is known."""

    async def _signed(
        self, method: str, path: str, headers: Mapping[str, str], body: bytes | bytearray | None
    ) -> dict[str, str]:
        """The headers of a request, with who asks (AWS Signature Version 4)."""
        if self._credentials is None:
            password = await self._login.known_password()
            if password is None or not self._address.user:
                await self._line.ask("GET", path)  # whether it is to be trusted comes first
                raise self._login.refusal()
            self._credentials = Credentials(self._address.user, password)
        asked = AWSRequest(
            method, self._line.root + path, dict(headers), bytes(body) if body is not None else None
        )
        S3SigV4Auth(self._credentials, "s3", self._region).add_auth(asked)
        return {name: str(value) for name, value in asked.headers.items()}

    async def _ask(
        self,
        method: str,
        name: str,
        headers: Mapping[str, str] | None = None,
        body: bytes | bytearray | None = None,
        most: int = 64 << 20,
        query: str = "",
    ) -> Reply:
        """Ask for an object; with a ``query`` and no name for the bucket. While the server is busy, again.

        Raises:
            ServerError: it does not do it.
        """
        inside = f"/{quote(self._prefix + name)}" if name or not query else ""
        path = f"/{quote(self._bucket)}{inside}" + (f"?{query}" if query else "")
        return await self._asked(method, path, headers, body, most)

    async def buckets(self) -> list[str]:
        """Names of the buckets that this login has.

        Raises:
            ServerError: it may not ask.
        """
        found = _xml(await self._asked("GET", "/"), "ListAllMyBucketsResult")
        return [one.text or "" for one in found.iterfind("{*}Buckets/{*}Bucket/{*}Name")]

    async def _asked(
        self,
        method: str,
        path: str,
        headers: Mapping[str, str] | None = None,
        body: bytes | bytearray | None = None,
        most: int = 64 << 20,
    ) -> Reply:
        for pause in (*_PAUSES, None):
            signed = await self._signed(method, path, headers or {}, body)
            reply = await self._line.ask(method, path, signed, body, most)
            if 200 <= reply.status < 300 or reply.status == BEYOND_END:
                return reply
            code, region = _told(reply)
            if region and region != self._region:
                self._region = region
                continue
            if code in _BUSY:
                if pause is None:
                    raise LineBrokenError(code)
                await asyncio.sleep(pause)
                continue
            if code == _RACED:
                raise ServerError(Trouble.TAKEN, code)
            raise ServerError(
                _TROUBLES.get(code) or _BY_STATUS.get(reply.status, Trouble.OTHER),
                code or f"HTTP {reply.status}",
            )
        raise LineBrokenError("busy")

    async def _listed(self, begin: str, parted: bool, most: int = 1000) -> tuple[list[Found], list[str]]:
        """Objects whose names begin so, by what follows; with ``parted`` those of one folder only, and the
        folders in it. No more than ``most``, if that is less than a page."""
        found: list[Found] = []
        folders: list[str] = []
        asked = {"list-type": "2", "prefix": begin, "max-keys": str(most)}
        if parted:
            asked["delimiter"] = "/"
        while True:
            query = urlencode(sorted(asked.items()), quote_via=quote, safe="-_.~")
            tree = _xml(await self._ask("GET", "", query=query))
            for one in tree.iterfind("{*}Contents"):
                name = (one.findtext("{*}Key") or "")[len(begin) :]
                found.append(Found(name, int(one.findtext("{*}Size") or 0)))
            for one in tree.iterfind("{*}CommonPrefixes"):
                folders.append((one.findtext("{*}Prefix") or "")[len(begin) :].rstrip("/"))
            more = tree.findtext("{*}NextContinuationToken")
            if tree.findtext("{*}IsTruncated") != "true" or not more or most < 1000:
                return found, folders
            asked["continuation-token"] = more

    async def there(self) -> None:
        found, _ = await self._listed(self._prefix, parted=False, most=1)
        if not found and self._prefix:
            raise ServerError(Trouble.NO_FOLDER)
        self._seen = True

    async def make(self) -> None:
        if self._prefix:
            await self._ask("PUT", "", body=b"")
            if not await self._lists(""):
                raise ServerError(Trouble.LATE)
        await self.there()

    async def _lists(self, name: str) -> bool:
        """Whether an object is listed now."""
        found, _ = await self._listed(self._prefix + name, parted=False, most=1)
        return any(not one.name for one in found)

    async def tree(self, folder: str) -> list[Found]:
        begin = f"{self._prefix}{folder}/" if folder else self._prefix
        found, _ = await self._listed(begin, parted=False)
        return [one for one in found if one.name and not one.name.endswith("/")]

    async def things(self, folder: str) -> list[Thing]:
        begin = f"{self._prefix}{folder}/" if folder else self._prefix
        found, folders = await self._listed(begin, parted=True)
        if not found and not folders and begin:
            raise ServerError(Trouble.NO_FOLDER)
        things = [Thing(one.name, "file") for one in found if one.name]
        return sorted(things + [Thing(name, "folder") for name in folders], key=lambda one: one.name)

    async def size(self, name: str) -> int:
        reply = await self._ask("HEAD", name)
        return int(reply.headers.get("Content-Length", 0))

    async def read(self, name: str, offset: int, length: int | None, limit: int) -> bytes:
        if length == 0:
            await self.size(name)
            return b""
        part = Part(offset, length)
        return part.of(await self._ask("GET", name, part.headers, most=limit))

    async def put(self, name: str, owner: str, data: bytes | bytearray, exclusive: bool, again: bool) -> None:
        if not self._seen:
            await self.there()
        condition = {"If-None-Match": "*"} if exclusive else {}
        try:
            if len(data) < self._too_large:
                try:
                    await self._ask("PUT", name, condition, data)
                    return
                except ServerError as error:
                    if error.said not in _LARGE or len(data) <= _PART:
                        raise
                self._too_large = len(data)
            await self._put_in_parts(name, condition, data)
        except ServerError as error:
            if error.trouble is not Trouble.TAKEN or not again or not await self._same(name, data):
                raise

    async def _put_in_parts(self, name: str, condition: dict[str, str], data: bytes | bytearray) -> None:
        """Make an object of parts, where one request does not take it whole (multipart upload)."""
        begun = _xml(await self._ask("POST", name, query="uploads="), "InitiateMultipartUploadResult")
        upload = {"uploadId": begun.findtext("{*}UploadId") or ""}
        whole = Element("CompleteMultipartUpload")
        view = memoryview(data)
        try:
            for number, at in enumerate(range(0, len(data), _PART), 1):
                query = urlencode({"partNumber": str(number), **upload})
                put = await self._ask("PUT", name, body=bytes(view[at : at + _PART]), query=query)
                part = SubElement(whole, "Part")
                SubElement(part, "PartNumber").text = str(number)
                SubElement(part, "ETag").text = put.headers.get("ETag", "")
            asked = tostring(whole)
            _xml(
                await self._ask("POST", name, condition, asked, query=urlencode(upload)),
                "CompleteMultipartUploadResult",
            )
        except ServerError:
            with contextlib.suppress(ServerError):  # where it may not delete, who runs it clears it
                await self._ask("DELETE", name, query=urlencode(upload))
            raise

    async def _same(self, name: str, data: bytes | bytearray) -> bool:
        if len(data) > _COMPARED or await self.size(name) != len(data):
            return False
        return await self.read(name, 0, len(data), len(data)) == data

    async def remove(self, name: str) -> None:
        try:
            await self._ask("DELETE", name)
        except ServerError as error:
            if error.trouble is not Trouble.MISSING:
                raise

    async def room(self) -> Room:
        return Room(-1, -1)

    async def promises(self, size: int) -> Promises:
        name, once, deletes = trial_name(), False, await self._deletes()
        lists = True
        if not deletes:  # what is tried stays there
            name, size = trial_name(0), min(size, _FEW_BYTES)
        try:
            speeds = await measured(
                self.there,
                lambda data: self._ask("PUT", name, body=data),
                lambda: self.read(name, 0, size, size),
                size,
            )
            try:
                await self._ask("PUT", name, {"If-None-Match": "*"}, b"another")
            except ServerError as error:
                once = error.trouble is Trouble.TAKEN
            lists = await self._lists(name)
        finally:
            if deletes:
                await self.remove(name)
        lists = lists and not (deletes and await self._lists(name))
        return Promises(True, once, True, *speeds, deletes=deletes, lists_at_once=lists)

    async def _deletes(self) -> bool:
        """Whether who is logged in may delete, asked of what is not there."""
        try:
            await self.remove(trial_name())
        except ServerError as error:
            if error.trouble is not Trouble.DENIED:
                raise
            return False
        return True

    async def close(self) -> None:
        self._seen = False
        await self._line.close()


class Buckets(WholeServer):
    """Object storage itself."""

    def __init__(self, objects: ObjectServer) -> None:
        self._objects = objects

    async def parts(self) -> list[str]:
        return await self._objects.buckets()

    async def close(self) -> None:
        await self._objects.close()


def _xml(reply: Reply, kind: str = "ListBucketResult") -> Element:
    try:
        found: Element = ElementTree.fromstring(reply.body)
    except (ParseError, DefusedXmlException, ValueError) as error:
        raise ServerError(Trouble.NOT_SPOKEN, "XML") from error
    said = found.tag.rpartition("}")[2]
    if said == "Error":  # some say so late that they have promised that all is well
        code = found.findtext("{*}Code") or ""
        raise ServerError(_TROUBLES.get(code, Trouble.OTHER), code)
    if said != kind:
        raise ServerError(Trouble.NOT_SPOKEN, f"<{said}>")
    return found


def _told(reply: Reply) -> tuple[str, str]:
    """The code of an error, and the region that the bucket is in where it is in another."""
    region = reply.headers.get("x-amz-bucket-region", "")
    try:
        found = ElementTree.fromstring(reply.body) if reply.body else None
    except (ParseError, DefusedXmlException, ValueError):
        found = None
    if found is None:
        return "", region
    return found.findtext("{*}Code") or "", found.findtext("{*}Region") or region
