"""A stand-in for object storage that speaks the S3 protocol. What it is given it has in memory only; its
folder stays empty."""

from __future__ import annotations

import hmac
import os
import tempfile
import threading
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs
from xml.etree.ElementTree import SubElement, tostring

from botocore.auth import S3SigV4Auth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
from defusedxml import ElementTree
from moto.moto_server.werkzeug_app import create_backend_app
from werkzeug.serving import make_server

from good_tide.servers.stand_ins.facts import (
    HOST,
    USER,
    StandInFacts,
    asked,
    certificate,
    tell,
    until_input_ends,
)

_BUCKET = "harbour"
ADDER = "adder"
"""Who may add and not delete, with the same password."""
_REFUSED = "<Error><Code>{}</Code></Error>"

Start = Callable[..., Any]
Application = Callable[[dict[str, Any], Start], Iterable[bytes]]


class _Checked:
    """Lets through what is signed by who has the password (AWS Signature Version 4): under one name anything,
    under another all but deleting."""

    def __init__(self, inner: Application, password: str) -> None:
        self._inner, self._password = inner, password

    def __call__(self, environ: dict[str, Any], start: Start) -> Iterable[bytes]:
        user = self._signed(environ)
        if not user:
            refusal = "SignatureDoesNotMatch"
        elif user == ADDER and environ["REQUEST_METHOD"] == "DELETE":
            refusal = "AccessDenied"
        else:
            return self._inner(environ, start)
        start("403 Forbidden", [("Content-Type", "application/xml")])
        return [_REFUSED.format(refusal).encode()]

    def _signed(self, environ: dict[str, Any]) -> str:
        """Who has signed a request; empty: nobody who may."""
        given = environ.get("HTTP_AUTHORIZATION", "").partition(" ")[2]
        parts = dict(one.strip().split("=", 1) for one in given.split(",") if "=" in one)
        scope = parts.get("Credential", "").split("/")
        if len(scope) != 5 or scope[0] not in (USER, ADDER):
            return ""
        names = parts.get("SignedHeaders", "").split(";")
        headers = {name: environ.get(f"HTTP_{name.upper().replace('-', '_')}", "") for name in names}
        for name in ("content-type", "content-length"):
            if name in headers:
                headers[name] = environ.get(name.upper().replace("-", "_"), "")
        url = f"https://{environ['HTTP_HOST']}{environ['RAW_URI']}"
        asked_for = AWSRequest(environ["REQUEST_METHOD"], url, headers)
        asked_for.context["timestamp"] = headers.get("x-amz-date", "")
        auth = S3SigV4Auth(Credentials(scope[0], self._password), "s3", scope[2])
        words = auth.string_to_sign(asked_for, auth.canonical_request(asked_for))
        right = hmac.compare_digest(auth.signature(words, asked_for), parts.get("Signature", ""))
        return scope[0] if right else ""


class _Late:
    """Lists what was there so many seconds ago: what came since is not listed yet, and what went is still."""

    def __init__(self, inner: Application, seconds: float) -> None:
        self._inner, self._seconds = inner, seconds
        self._came: dict[str, float] = {}
        self._went: dict[str, tuple[float, int]] = {}
        self._sizes: dict[str, int] = {}

    def __call__(self, environ: dict[str, Any], start: Start) -> Iterable[bytes]:
        method, key = environ["REQUEST_METHOD"], environ["PATH_INFO"].lstrip("/").partition("/")[2]
        query = parse_qs(environ.get("QUERY_STRING", ""))
        if method == "GET" and "list-type" in query:
            return self._listed(environ, start, query.get("prefix", [""])[0], "delimiter" in query)
        if method in ("PUT", "POST") and key:
            if key not in self._sizes:
                self._came[key] = time.monotonic()
            self._sizes[key] = int(environ.get("CONTENT_LENGTH") or 0)
        elif method == "DELETE" and key in self._sizes:
            self._went[key] = time.monotonic(), self._sizes.pop(key)
        return self._inner(environ, start)

    def _listed(self, environ: dict[str, Any], start: Start, begin: str, parted: bool) -> Iterable[bytes]:
        said: list[Any] = []
        body = b"".join(self._inner(environ, lambda *words: said.extend(words)))
        early = time.monotonic() - self._seconds
        tree = ElementTree.fromstring(body)
        name = tree.tag.removesuffix("ListBucketResult")
        for one in tree.findall(f"{name}Contents"):
            if self._came.get(one.findtext(f"{name}Key") or "", early) > early:
                tree.remove(one)
        for key, (when, size) in self._went.items():
            if when > early and key.startswith(begin) and not (parted and "/" in key[len(begin) :]):
                one = SubElement(tree, f"{name}Contents")
                SubElement(one, f"{name}Key").text = key
                SubElement(one, f"{name}Size").text = str(size)
        changed = tostring(tree)
        headers = [one for one in said[1] if one[0].lower() != "content-length"]
        start(said[0], [*headers, ("Content-Length", str(len(changed)))])
        return [changed]


class _OneByOne:
    """Of two requests that may make a name only where none is, one is refused, as storage promises: they are
    answered one after the other."""

    def __init__(self, inner: Application) -> None:
        self._inner, self._lock = inner, threading.Lock()

    def __call__(self, environ: dict[str, Any], start: Start) -> Iterable[bytes]:
        if "HTTP_IF_NONE_MATCH" not in environ:
            return self._inner(environ, start)
        with self._lock:
            return [b"".join(self._inner(environ, start))]


class _Bounded:
    """Takes no request of more bytes than ``most``, and not more than ``room`` in all; 0: any."""

    def __init__(self, inner: Application, most: int, room: int) -> None:
        self._inner, self._most, self._room = inner, most, room
        self._taken = 0

    def __call__(self, environ: dict[str, Any], start: Start) -> Iterable[bytes]:
        size = int(environ.get("CONTENT_LENGTH") or 0)
        if self._most and size > self._most:
            return self._refused(environ, start, size, "EntityTooLarge")
        if self._room and self._taken + size > self._room:
            return self._refused(environ, start, size, "QuotaExceeded")
        self._taken += size
        return self._inner(environ, start)

    @staticmethod
    def _refused(environ: dict[str, Any], start: Start, size: int, code: str) -> Iterable[bytes]:
        environ["wsgi.input"].read(size)
        start("400 Bad Request", [("Content-Type", "application/xml")])
        return [_REFUSED.format(code).encode()]


def main() -> None:
    """Serve until the input ends."""
    wanted = asked()
    kept = wanted.keeps or Path(tempfile.mkdtemp(prefix="good-tide-certificate-"))
    file, fingerprint = certificate(kept)
    storage = create_backend_app("s3")
    inner: Application = _OneByOne(_Late(storage, wanted.lag) if wanted.lag else storage)
    application = _Checked(_Bounded(inner, wanted.most, wanted.room), wanted.password)
    server = make_server(HOST, wanted.port, application, threaded=True, ssl_context=(str(file), str(file)))
    with storage.test_client() as first:
        first.put(f"/{_BUCKET}", base_url="http://s3.amazonaws.com")
    threading.Thread(target=server.serve_forever, daemon=True).start()
    address = f"s3://{USER}@{HOST}:{server.server_port}/{_BUCKET}/store"
    tell(StandInFacts(address, wanted.password, fingerprint))
    until_input_ends()
    os._exit(0)


if __name__ == "__main__":
    main()
