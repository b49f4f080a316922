"""Addresses of places that are in no folder of this machine (RFC 3986), such as ``sftp://user@host:port/path``."""

from __future__ import annotations

import re
from typing import Self
from urllib.parse import quote, unquote, urlsplit

import msgspec

from good_tide.core.errors import PersonError
from good_tide.core.translation import tr

PORTS = {"sftp": 22, "smb": 445, "davs": 443, "s3": 443}
"""The kinds of servers that are known, each with the port that it uses where none is named."""
EXAMPLES = {
    "sftp": "sftp://user@host/folder",
    "smb": "smb://user@host/share/folder",
    "davs": "davs://user@host/folder",
    "s3": "s3://key@host/bucket/folder",
}
"""How an address of each kind is written."""
_PARTED = ("smb", "s3")
"""Kinds with a share or a bucket, which the path begins with."""
_WITH_CERTIFICATE = ("davs", "s3")
HOME = "/~"
"""Begins a path that is meant from the folder in which a login begins."""

_ADDRESS = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*://")
_HOST = re.compile(r"[A-Za-z0-9._:%-]+")


class Address(msgspec.Struct, frozen=True):
    """A folder on a server.

    :param kind: a key of ``PORTS``.
    :param user: who logs in; empty: as the machine's settings say.
    :param path: absolute, or ``/~/…`` from the folder in which the login begins.
    """

    kind: str
    user: str
    host: str
    port: int
    path: str

    def __str__(self) -> str:
        return self.server + quote(self.path, safe="/~")

    @property
    def server(self) -> str:
        """The address without its path: what a login is for."""
        user = quote(self.user, safe="") + "@" if self.user else ""
        host = f"[{self.host}]" if ":" in self.host else self.host
        port = "" if self.port == PORTS[self.kind] else f":{self.port}"
        return f"{self.kind}://{user}{host}{port}"

    @property
    def login(self) -> str:
        """Who logs in where, as people write it."""
        return f"{self.user}@{self.host}" if self.user else self.host

    @property
    def by_certificate(self) -> bool:
        """Whether the server shows who it is by a certificate (TLS)."""
        return self.kind in _WITH_CERTIFICATE

    @property
    def by_key(self) -> bool:
        """Whether a key may log in instead of a password, and the server shows one of its own (SSH)."""
        return self.kind == "sftp"

    @property
    def is_whole(self) -> bool:
        """Whether it is the server itself, with its shares or buckets, in which no store can be."""
        return self.kind in _PARTED and not self.path.strip("/")

    @property
    def around(self) -> Self | None:
        """The folder around this one, or what shares or buckets there are beside its own; None at the top."""
        if self.kind in _PARTED and not self.is_whole and self.above is None:
            return msgspec.structs.replace(self, path="/")
        return None if self.is_whole else self.above

    @property
    def above(self) -> Self | None:
        """The folder around this one; None at the top, which of a share or a bucket is the whole of it."""
        around, _, _ = self.path.rstrip("/").rpartition("/")
        top = self.path in ("/", HOME) or (self.kind in _PARTED and not around)
        return None if top else msgspec.structs.replace(self, path=around or "/")

    def inside(self, name: str) -> Self:
        """The address of a folder in this one."""
        return msgspec.structs.replace(self, path=f"{self.path.rstrip('/')}/{name}")


def looks_like_address(named: str) -> bool:
    """Whether a person meant an address and no path."""
    return _ADDRESS.match(named) is not None


def address(named: str, whole: bool = False) -> Address:
    """The address that a person names.

    :param whole: whether a server itself may be meant, where only parts of it have folders.

    Raises:
        PersonError: it is of an unknown kind, incomplete, or gives a password away.
    """
    try:
        parts = urlsplit(named.strip())
        kind, host, port = parts.scheme.lower(), parts.hostname or "", parts.port
    except ValueError:
        raise PersonError(
            tr("{named} is no address").format(named=named),
            tr("Write {example}").format(example=EXAMPLES["sftp"]),
        ) from None
    if kind not in PORTS:
        raise PersonError(
            tr("{named} is an address of a kind that is not known").format(named=named),
            tr("Known are {kinds}; let the system mount other places, and name the folder").format(
                kinds=", ".join(f"{known}://" for known in PORTS)
            ),
        )
    if parts.password is not None:
        raise PersonError(
            tr("The address has a password in it, which others can read"),
            tr("Leave it out: it is asked for, and kept in the key ring"),
        )
    path = unquote(parts.path).rstrip("/") or parts.path[:1]
    odd = not path or parts.query or parts.fragment or _odd(path)
    unparted = kind in _PARTED and not path.strip("/")
    if whole and unparted:
        path, odd = "/", bool(parts.query or parts.fragment)
    if not _HOST.fullmatch(host) or odd or (unparted and not whole):
        raise PersonError(
            tr("{named} does not say which folder on which server").format(named=named),
            tr("Write {example}").format(example=EXAMPLES[kind]),
        )
    return Address(kind, unquote(parts.username or ""), host, port or PORTS[kind], path)


def _odd(path: str) -> bool:
    """Whether a path goes up, or holds what no name can."""
    return any(part in (".", "..") for part in path.split("/")) or any(ord(sign) < 32 for sign in path)


def refuse_address(named: str) -> None:
    """Not take an address for a path: a folder named ``sftp:`` would be made.

    Raises:
        PersonError: it is one (RFC 3986, section 3).
    """
    if looks_like_address(named):
        raise PersonError(
            tr("{named} is an address, and here only folders can be used").format(named=named),
            tr("Let the system mount that place, and name the folder where it is mounted"),
        )
