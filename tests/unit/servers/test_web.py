"""What web servers answer that real ones on loopback do not: parts that are not known, other regions, busy
storage, listings that are none."""

from __future__ import annotations

import asyncio
import unittest
from collections.abc import Mapping
from pathlib import Path
from unittest import mock

from good_tide.core.addresses import Address
from good_tide.lines.wire import Begin, Found, Trouble
from good_tide.servers.logins import Answers
from good_tide.servers.server import LineBrokenError, Progress, ServerError
from good_tide.servers.web import objects
from good_tide.servers.web.certificates import Certificates, fingerprint_of
from good_tide.servers.web.dav import DavServer
from good_tide.servers.web.http import Reply, WebLine
from good_tide.servers.web.objects import ObjectServer
from good_tide.system.keyrings import KeyRing
from good_tide.system.logins import Login

_ALL = b"0123456789"
_BUSY = b"<Error><Code>SlowDown</Code></Error>"


class _Line(WebLine):
    """Answers with what it is given, one after the other."""

    def __init__(self, *replies: Reply) -> None:
        self.root, self.middlewares = "https://harbour:443", ()
        self._replies, self.asked = list(replies), list[dict[str, str]]()
        self.paths: list[str] = []

    async def ask(
        self,
        method: str,
        path: str,
        headers: Mapping[str, str] | None = None,
        body: bytes | bytearray | None = None,
        most: int = 0,
    ) -> Reply:
        self.asked.append(dict(headers or {}))
        self.paths.append(path)
        return self._replies.pop(0)


def _parts(kind: str) -> tuple[Address, Answers, Certificates, Progress]:
    address = Address(kind, "ada", "harbour", 443, "/tide/desk")
    ring = mock.create_autospec(KeyRing, instance=True)
    answers = Answers(address.server, Begin(str(address), password="lantern"), Login(), ring)
    return address, answers, Certificates(Path("/nonexistent")), Progress(lambda: None)


def _dav(*replies: Reply) -> DavServer:
    server = DavServer(*_parts("davs"))
    server._line = _Line(*replies)
    return server


def _objects(*replies: Reply) -> tuple[ObjectServer, _Line]:
    server, line = ObjectServer(*_parts("s3")), _Line(*replies)
    server._line = line
    return server, line


class PartsTest(unittest.TestCase):
    def test_servers_that_know_no_parts_or_give_more_are_cut(self) -> None:
        for status, given in ((200, _ALL), (206, _ALL[2:])):
            reply = Reply(status, {}, given)
            for server in (_dav(reply), _objects(reply)[0]):
                with self.subTest(status, server=type(server).__name__):
                    self.assertEqual(asyncio.run(server.read("packs/x", 2, 3, 100)), b"234")

    def test_beyond_the_end_is_nothing(self) -> None:
        reply = Reply(416, {}, b"no such part")
        for server in (_dav(reply), _objects(reply)[0]):
            self.assertEqual(asyncio.run(server.read("packs/x", 20, 3, 100)), b"")


class ObjectsTest(unittest.TestCase):
    def test_a_bucket_in_another_region_is_asked_there(self) -> None:
        server, line = _objects(
            Reply(400, {"x-amz-bucket-region": "eu-north-1"}, b""), Reply(200, {"Content-Length": "7"}, b"")
        )
        self.assertEqual(asyncio.run(server.size("x")), 7)
        self.assertIn("/us-east-1/s3/", line.asked[0]["Authorization"])
        self.assertIn("/eu-north-1/s3/", line.asked[1]["Authorization"])

    def test_busy_storage_is_asked_again_and_not_for_ever(self) -> None:
        busy = Reply(400, {}, _BUSY)
        with mock.patch.object(objects, "_PAUSES", (0.0, 0.0)):
            server, _ = _objects(busy, busy, Reply(200, {"Content-Length": "7"}, b""))
            self.assertEqual(asyncio.run(server.size("x")), 7)
            server, line = _objects(busy, busy, busy)
            with self.assertRaisesRegex(LineBrokenError, "SlowDown"):
                asyncio.run(server.size("x"))
        self.assertEqual(len(line.asked), 3)

    def test_a_long_listing_comes_part_by_part(self) -> None:
        page = (
            "<ListBucketResult><IsTruncated>{}</IsTruncated>{}<Contents><Key>desk/index/{}</Key>"
            "<Size>{}</Size></Contents><Contents><Key>desk/index/</Key><Size>0</Size></Contents>"
            "</ListBucketResult>"
        )
        more = "<NextContinuationToken>on &amp; on</NextContinuationToken>"
        server, line = _objects(
            Reply(200, {}, page.format("true", more, "b", 7).encode()),
            Reply(200, {}, page.format("false", "", "a", 9).encode()),
        )
        self.assertEqual(asyncio.run(server.tree("index")), [Found("b", 7), Found("a", 9)])
        self.assertIn("continuation-token=on%20%26%20on", line.paths[1])
        self.assertIn("prefix=desk%2Findex%2F", line.paths[0])

    def test_what_is_no_listing_is_no_storage(self) -> None:
        for body in (
            b"<html/>",
            b"not XML",
            b'<!DOCTYPE x [<!ENTITY a "b">]><ListBucketResult>&a;</ListBucketResult>',
        ):
            server, _ = _objects(Reply(200, {}, body))
            with self.subTest(body), self.assertRaises(ServerError) as refused:
                asyncio.run(server.there())
            self.assertIs(refused.exception.trouble, Trouble.NOT_SPOKEN)


class CertificatesTest(unittest.TestCase):
    def test_a_fingerprint_is_spelled_as_other_tools_do(self) -> None:
        spelled = fingerprint_of(b"")
        self.assertEqual(spelled[:19], "SHA256:E3:B0:C4:42:")
        self.assertEqual(len(spelled.split(":")), 33)
