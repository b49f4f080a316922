"""Servers that announce themselves in the local network (DNS-SD, RFC 6763), as Avahi tells of them over the
system's bus."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Sequence
from typing import Any
from urllib.parse import quote

from good_tide.system.bus import Bus, BusError

_AVAHI, _SERVER, _BROWSER = (
    "org.freedesktop.Avahi",
    "org.freedesktop.Avahi.Server",
    "org.freedesktop.Avahi.ServiceBrowser",
)
_KINDS = {"_sftp-ssh._tcp": ("sftp", 22), "_smb._tcp": ("smb", 445), "_webdavs._tcp": ("davs", 443)}
"""The kinds of services that are asked for, each with the kind of address that it is and its usual port."""
_ANY, _UNSPECIFIED = -1, -1
_SECONDS = 1.5
"""So long announcements are waited for."""
_MOST = 50


class AnnouncedServers:
    """Asks which servers there are. Without Avahi there are none."""

    def __init__(self, system: Bus) -> None:
        self._system = system
        self._guard = threading.Lock()
        self._seen: list[Sequence[Any]] = []
        self._waiting = 0
        self._all = threading.Event()
        self._listens = False

    def addresses(self) -> list[str]:
        """Addresses of servers, each to be completed by a folder: ``smb://pier.local/``."""
        with self._guard:
            try:
                return self._found()
            except BusError:
                return []

    def _found(self) -> list[str]:
        self._seen.clear()
        self._all.clear()
        self._waiting = len(_KINDS)
        if not self._listens:
            self._system.listen(_BROWSER, self._heard)
            self._listens = True
        browsers = []
        try:
            for kind in _KINDS:
                words = [_ANY, _UNSPECIFIED, kind, "", 0]
                browsers += self._system.call(_AVAHI, "/", _SERVER, "ServiceBrowserNew", "iissu", words)
            self._all.wait(_SECONDS)
        finally:
            for browser in browsers:
                with contextlib.suppress(BusError):
                    self._system.call(_AVAHI, browser, _BROWSER, "Free")
        found = []
        for place, protocol, name, kind, domain, *_ in self._seen[:_MOST]:
            with contextlib.suppress(BusError, ValueError):
                words = [place, protocol, name, kind, domain, _UNSPECIFIED, 0]
                resolved = self._system.call(_AVAHI, "/", _SERVER, "ResolveService", "iisssiu", words)
                host, port, told = resolved[5], resolved[8], resolved[9]
                found.append(_address(kind, host, port, told))
        return sorted(set(found))

    def _heard(self, name: str, body: Sequence[Any]) -> None:
        if name == "ItemNew" and len(body) >= 5 and body[3] in _KINDS:
            self._seen.append(tuple(body))
        elif name == "AllForNow":
            self._waiting -= 1
            if self._waiting <= 0:
                self._all.set()


def _address(kind: str, host: str, port: int, told: Sequence[bytes]) -> str:
    """The address of a service; what it tells of itself may name its folder (``path=…``)."""
    scheme, usual = _KINDS[kind]
    path = "/"
    for words in told:
        text = bytes(words).decode("utf-8", "replace")
        if text.startswith("path="):
            path = "/" + text[len("path=") :].strip("/")
    port_words = "" if port == usual else f":{port}"
    return f"{scheme}://{host}{port_words}{quote(path)}"
