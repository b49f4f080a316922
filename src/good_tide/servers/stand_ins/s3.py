"""A stand-in for object storage that speaks the S3 protocol. What it is given it has in memory only; its
folder stays empty."""

from __future__ import annotations

import hmac
import os
import tempfile
import threading
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from botocore.auth import S3SigV4Auth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
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


def main() -> None:
    """Serve until the input ends."""
    wanted = asked()
    kept = wanted.keeps or Path(tempfile.mkdtemp(prefix="good-tide-certificate-"))
    file, fingerprint = certificate(kept)
    storage = create_backend_app("s3")
    application = _Checked(storage, wanted.password)
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
