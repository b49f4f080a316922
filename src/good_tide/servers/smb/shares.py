"""The shares of an SMB server, as it tells of them itself: NetrShareEnum ([MS-SRVS] 3.1.4.8), called over the
pipe ``srvsvc`` in the form of DCE/RPC (C706, chapters 12 and 14; transfer syntax NDR)."""

from __future__ import annotations

import struct
import uuid

import msgspec
from smbprotocol.open import (
    CreateDisposition,
    CreateOptions,
    FileAttributes,
    FilePipePrinterAccessMask,
    ImpersonationLevel,
    Open,
    ShareAccess,
)
from smbprotocol.tree import TreeConnect

from good_tide.core.addresses import Address
from good_tide.lines.wire import Trouble
from good_tide.servers.logins import Answers
from good_tide.servers.server import Progress, ServerError
from good_tide.servers.smb.connection import SmbLine
from good_tide.servers.whole import WholeServer

_PIPES = "/IPC$"
_SERVICE = (uuid.UUID("4b324fc8-1670-01d3-1278-5a47bf6ee188"), 3)
_NDR = (uuid.UUID("8a885d04-1ceb-11c9-9fe8-08002b104860"), 2)
_SHARE_ENUM = 15
_REQUEST, _ANSWER, _BIND, _BOUND = 0, 2, 11, 12
_WHOLE, _LAST = 3, 2
"""Flags of a message: its first and its last part, its last part."""
_HEAD = struct.Struct("<BBBBIHHI")
"""Version, its minor number, kind, flags, how numbers are written, length, length of what proves who speaks
(none: the pipe is of somebody who is logged in), number of the call."""
_LITTLE_ENDIAN = 0x10
_FRAGMENT = 4280
_MOST_BYTES = 1 << 20
_MOST_SHARES = 10_000
_OF_FILES = 0
"""The kind of a share that holds files, and is not one of the server's own ([MS-SRVS] 2.2.2.4)."""


class SmbShares(WholeServer):
    """A server of shares.

    :param tell: counts what goes over the line.
    """

    def __init__(self, address: Address, login: Answers, tell: Progress) -> None:
        self._line = SmbLine(msgspec.structs.replace(address, path=_PIPES), login, tell)
        self._host = address.host

    async def parts(self) -> list[str]:
        tree = await self._line.tree()
        return await self._line.run(lambda: _shares(tree, self._host))

    async def close(self) -> None:
        self._line.close()


def _shares(tree: TreeConnect, host: str) -> list[str]:
    pipe = Open(tree, "srvsvc")
    pipe.create(
        ImpersonationLevel.Impersonation,
        FilePipePrinterAccessMask.FILE_READ_DATA | FilePipePrinterAccessMask.FILE_WRITE_DATA,
        FileAttributes.FILE_ATTRIBUTE_NORMAL,
        ShareAccess.FILE_SHARE_READ | ShareAccess.FILE_SHARE_WRITE,
        CreateDisposition.FILE_OPEN,
        CreateOptions.FILE_NON_DIRECTORY_FILE,
    )
    try:
        pipe.write(_message(_BIND, _bind()))
        _read(pipe, _BOUND)
        pipe.write(_message(_REQUEST, _asked(host)))
        return shares_in(_read(pipe, _ANSWER)[8:])
    finally:
        pipe.close()


def _message(kind: int, body: bytes) -> bytes:
    return _HEAD.pack(5, 0, kind, _WHOLE, _LITTLE_ENDIAN, _HEAD.size + len(body), 0, 1) + body


def _bind() -> bytes:
    syntaxes = b"".join(one.bytes_le + struct.pack("<I", version) for one, version in (_SERVICE, _NDR))
    return struct.pack("<HHIBxxxHBx", _FRAGMENT, _FRAGMENT, 0, 1, 0, 1) + syntaxes


def _asked(host: str) -> bytes:
    """The request: all shares with their kinds (level 1), in one answer."""
    name = f"\\\\{host}\0".encode("utf-16-le")
    count = len(name) // 2
    stub = struct.pack("<IIII", 1, count, 0, count) + name + bytes(-len(name) % 4)
    stub += struct.pack("<IIIII", 1, 1, 2, 0, 0)  # level, the same for the union, its container: empty
    stub += struct.pack("<II", 0xFFFFFFFF, 0)  # as much as there is, from the beginning
    return struct.pack("<IHH", len(stub), 0, _SHARE_ENUM) + stub


def _read(pipe: Open, kind: int) -> bytes:
    """What a message holds; its parts after the first without what begins each of them anew."""
    whole = b""
    while len(whole) < _MOST_BYTES:
        data: bytes = pipe.read(0, _FRAGMENT)
        if len(data) < _HEAD.size:
            break
        _, _, found, flags, _, length, _, _ = _HEAD.unpack_from(data)
        while len(data) < length and (more := pipe.read(0, length - len(data))):
            data += more
        if found != kind or len(data) < length:
            break
        whole += data[_HEAD.size : length] if not whole else data[_HEAD.size + 8 : length]
        if flags & _LAST:
            return whole
    raise ServerError(Trouble.OTHER, "the server does not tell of its shares")


def shares_in(stub: bytes) -> list[str]:
    """Names of the shares that hold files, of an answer (NDR, [MS-SRVS] 2.2.4.23).

    Raises:
        ServerError: it is no such answer.
    """
    try:
        _, _, container, count, entries = struct.unpack_from("<IIIII", stub)
        if not container or not entries or count > _MOST_SHARES:
            return []
        at = 24  # behind the length of the array, which is told once more
        kinds = [struct.unpack_from("<III", stub, at + 12 * number) for number in range(count)]
        at += 12 * count
        names = []
        for name, kind, remark in kinds:
            words = ""
            if name:
                words, at = _words(stub, at)
            if remark:
                _, at = _words(stub, at)
            if words and kind == _OF_FILES:
                names.append(words)
    except (struct.error, UnicodeDecodeError) as error:
        raise ServerError(Trouble.OTHER, "the server tells of its shares in another way") from error
    return names


def _words(stub: bytes, at: int) -> tuple[str, int]:
    """A text, and where what follows begins."""
    _, _, count = struct.unpack_from("<III", stub, at)
    begin, end = at + 12, at + 12 + 2 * count
    if end > len(stub):
        raise struct.error("it ends before")
    return stub[begin:end].decode("utf-16-le").rstrip("\0"), end + -end % 4
