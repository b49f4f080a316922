"""The stand-in servers of the web, for tests."""

from __future__ import annotations

import sys
from pathlib import Path

from good_tide.core.addresses import Address
from good_tide.servers.stand_ins.facts import USER, certificate
from tests.support.servers import ServedFolder, ended, free_port


class WebServer(ServedFolder):
    """A server that shows a certificate."""

    password = "lantern-harbour"

    def __init__(self, folder: Path, before: tuple[str, ...] = (), more: tuple[str, ...] = ()) -> None:
        super().__init__(folder, before)
        self.certificates, self._more = folder / "certificate", more
        self.set_up()
        self.start()

    def set_up(self) -> None:
        """Which program it is."""
        module = f"good_tide.servers.stand_ins.{self.kind}"
        more = ["--password", self.password, "--certificate", str(self.certificates)]
        self.words = [sys.executable, "-m", module, str(self.files), str(self.port), *more, *self._more]

    def begin_anew_with_another_certificate(self) -> None:
        """What a server does that was set up anew, or somebody in between."""
        self.end()
        (self.certificates / "certificate.pem").unlink()
        self.set_up()
        self.start()

    def let_in(self, settings: Path, port: int = 0) -> None:
        super().let_in(settings, port)
        _, fingerprint = certificate(self.certificates)
        with open(settings / "known_certificates", "a", encoding="utf-8") as file:
            file.write(f"{self.host}:{port or self.port} {fingerprint}\n")


class DavServer(WebServer):
    """A WebDAV server."""

    kind = "dav"

    @property
    def address(self) -> Address:
        return Address("davs", USER, self.host, self.port, "/")


class ObjectServer(WebServer):
    """Object storage. It has everything in memory, so that what stops or hangs is a line to it."""

    kind = "s3"

    def set_up(self) -> None:
        outside, self.port = self.port, free_port()
        super().set_up()
        self.storage = self.begun()
        relay = (outside, self.port, 0, 1e12)
        self.words = [sys.executable, "-m", "tests.support.slow_line", *map(str, relay)]
        self.port = outside

    @property
    def address(self) -> Address:
        return Address("s3", USER, self.host, self.port, "/harbour")

    def end(self) -> None:
        """Stop it for good."""
        self.stop()
        self.storage.kill()
        ended(self.storage)
