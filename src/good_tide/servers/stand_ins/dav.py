"""A stand-in WebDAV server."""

from __future__ import annotations

import os
import tempfile
import threading
from pathlib import Path

from cheroot.ssl.builtin import BuiltinSSLAdapter
from cheroot.wsgi import Server
from wsgidav.wsgidav_app import WsgiDAVApp

from good_tide.servers.stand_ins.facts import (
    HOST,
    USER,
    StandInFacts,
    asked,
    certificate,
    tell,
    until_input_ends,
)

_THREADS = 12


def main() -> None:
    """Serve until the input ends."""
    wanted = asked()
    kept = wanted.keeps or Path(tempfile.mkdtemp(prefix="good-tide-certificate-"))
    file, fingerprint = certificate(kept)
    application = WsgiDAVApp(
        {
            "provider_mapping": {"/": {"root": str(wanted.folder)}},
            "simple_dc": {"user_mapping": {"*": {USER: {"password": wanted.password}}}},
            "http_authenticator": {
                "accept_basic": not wanted.digest,
                "accept_digest": wanted.digest,
                "default_to_digest": wanted.digest,
            },
            "dir_browser": {"enable": False},
            "logging": {"enable": False},
            "verbose": 0,
        }
    )
    server = Server((HOST, wanted.port), application, numthreads=_THREADS, request_queue_size=64)
    server.ssl_adapter = BuiltinSSLAdapter(str(file), str(file))
    server.prepare()
    threading.Thread(target=server.serve, daemon=True).start()
    tell(StandInFacts(f"davs://{USER}@{HOST}:{server.bind_addr[1]}/store", wanted.password, fingerprint))
    until_input_ends()
    os._exit(0)


if __name__ == "__main__":
    main()
