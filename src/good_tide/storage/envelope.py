"""The eight bytes every store file begins with, and sealed files that are read as a whole (index,
snapshot)."""

from __future__ import annotations

import enum

from good_tide.core.errors import DamageError, PlaceError
from good_tide.core.identifiers import FORMAT_VERSION, NAME_BYTES
from good_tide.core.translation import tr
from good_tide.crypto.seals import StoreKeys
from good_tide.storage.compression import squeezed, unsqueezed

MAGIC = b"GDTD"
HEAD_BYTES = 8


class FileKind(enum.IntEnum):
    """Kinds of sealed store files, as stored in the sixth byte."""

    PACK = 1
    INDEX = 2
    SNAPSHOT = 3
    STATUS = 4
    DOOMED = 5
    PIN = 6
    DAMAGE = 7
    SUMMARY = 8
    CATALOG = 9

    @property
    def word(self) -> str:
        """The word that goes into the derivation of the file's key."""
        return self.name.lower()

    @property
    def limit(self) -> int:
        """Bytes that the content may expand to; more is refused before memory is taken."""
        return _LIMITS.get(self, 1 << 20)


_LIMITS = {
    FileKind.INDEX: 1 << 30,
    FileKind.SNAPSHOT: 1 << 27,
    FileKind.DOOMED: 1 << 27,
    FileKind.DAMAGE: 1 << 27,
    FileKind.CATALOG: 1 << 24,
}


def head(kind: FileKind, encrypted: bool, version: int = 1, parity: bool = False) -> bytes:
    """Magic, version of the file's own layout, kind, suite (0 open, 1 AES-256-GCM), whether it has parity."""
    return MAGIC + bytes([version, kind, int(encrypted), int(parity)])


def check_head(data: bytes, kind: FileKind, encrypted: bool, file: str) -> bool:
    """Refuse a file that does not begin as it must. Returns whether it has parity.

    Raises:
        PlaceError: written by a newer version.
        DamageError: anything else.
    """
    begin = data[:HEAD_BYTES]
    is_newer = begin[:4] == MAGIC and len(begin) == HEAD_BYTES and begin[4] > FORMAT_VERSION
    if is_newer and begin[5:7] == head(kind, encrypted)[5:7]:
        raise PlaceError(
            tr("{file} was written by a newer version of Good Tide").format(file=file),
            tr("Install that version to use this store"),
        )
    if kind is FileKind.PACK and begin == head(kind, encrypted, 2, parity=True):
        return True
    if begin not in (head(kind, encrypted), head(kind, encrypted, 2)):
        raise DamageError(tr("{file} does not begin as a store file must").format(file=file), file=file)
    return False


def seal_new(keys: StoreKeys, kind: FileKind, plain: bytes, version: int = 1) -> tuple[bytes, bytes]:
    """A fresh name, and the complete store file of that name: head, then the plain bytes with a leading 1
    (zstd) or 0, sealed.

    :param version: of the file's own layout.
    """
    body, begin = squeezed(plain), head(kind, keys.encrypted, version)
    seal = keys.fresh_seal(kind.word)
    return seal.name, begin + seal.seal(0, body, begin)


def seal_again(keys: StoreKeys, kind: FileKind, name: bytes, plain: bytes) -> bytes:
    """A store file under the name that its content has in another store. The bytes depend on name and content
    alone, so that a try that is cut off and made again seals no second text; the content must be the same
    each time."""
    begin = head(kind, keys.encrypted)
    return begin + keys.named_seal(kind.word, name).seal(0, b"\0" + plain, begin)


def open_whole(keys: StoreKeys, kind: FileKind, name: bytes, data: bytes, file: str) -> bytes:
    """The plain bytes of a sealed file.

    Raises:
        DamageError: changed, cut, or under another name than it was written.
    """
    check_head(data, kind, keys.encrypted, file)
    try:
        body = keys.opener(kind.word, name).open(0, data[HEAD_BYTES:], data[:HEAD_BYTES])
        return unsqueezed(body, kind.limit)
    except DamageError as error:
        raise DamageError(
            tr("{file} is damaged: {what}").format(file=file, what=error.what), file=file
        ) from error


def file_name_bytes(name: str, file: str) -> bytes:
    """The 16 bytes that a store file's name stands for.

    Raises:
        DamageError: the name is none that a store gives.
    """
    try:
        value = bytes.fromhex(name)
    except ValueError:
        value = b""
    if len(value) != NAME_BYTES or value.hex() != name:
        raise DamageError(
            tr("{file} does not belong to this store").format(file=file), tr("Move it elsewhere"), file
        )
    return value
