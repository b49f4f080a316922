"""A chunk as it lies in a pack: as it is, compressed, or compressed against others that it leans on.
``docs/format.md`` ("Pack") gives the bytes."""

from __future__ import annotations

import enum
from collections.abc import Callable, Sequence

import msgspec

from good_tide.core.errors import DamageError
from good_tide.core.identifiers import NAME_BYTES, ChunkId, PackId
from good_tide.core.translation import tr
from good_tide.crypto.seals import TAG_BYTES, StoreKeys
from good_tide.storage.compression import DATA_LEVEL, expand, shrink, shrink_against
from good_tide.storage.envelope import FileKind
from good_tide.storage.folders import PACK_FOLDER

CHUNK_LIMIT = 64 * 1024 * 1024
"""Plain bytes of the largest chunk a reader takes memory for (a page of a very large listing)."""

MOST_BASES = 16
"""Chunks that one may lean on."""
BASES_LIMIT = 16 * 1024 * 1024
"""Plain bytes that those may have together."""
_LEAST_LEANING = 4096
"""A chunk that takes less when it is compressed gains nothing worth a second chunk to read."""
_LEANING_GAINS = 2
"""A chunk leans on others where it takes so many times as much without them."""


class Form(enum.IntEnum):
    """How a chunk lies in its pack."""

    AS_IS = 0
    SQUEEZED = 1
    LEANING = 2


class Base(msgspec.Struct, frozen=True):
    """A chunk that another leans on."""

    id: ChunkId
    plain: bytes


class Packed(msgspec.Struct, frozen=True):
    """What a chunk of a pack is. ``bases``: identities of the chunks it leans on, one after the other."""

    id: ChunkId
    plain_length: int
    form: Form
    bases: bytes = b""

    @property
    def context(self) -> bytes:
        """What its seal is bound to."""
        return self.id + self.plain_length.to_bytes(4, "little") + bytes([self.form]) + self.bases


class Prepared(msgspec.Struct, frozen=True):
    """A chunk ready to be sealed."""

    chunk: Packed
    body: bytes


def prepare(
    identity: ChunkId,
    plain: bytes | memoryview,
    near: Callable[[], Sequence[Base]] = tuple,
    level: int = DATA_LEVEL,
) -> Prepared:
    """Compress a chunk where that helps; against others where that helps a great deal more.

    :param near: gives those; asked only where they may help.
    :param level: ``DATA_LEVEL`` or ``CAREFUL_LEVEL``.
    """
    small = shrink(plain, level)
    if small is None:
        return Prepared(Packed(identity, len(plain), Form.AS_IS), bytes(plain))
    bases = near() if len(small) >= _LEAST_LEANING else ()
    if bases:
        leaning = shrink_against(plain, b"".join(base.plain for base in bases), level)
        if len(leaning) * _LEANING_GAINS <= len(small):
            ids = b"".join(base.id for base in bases)
            return Prepared(Packed(identity, len(plain), Form.LEANING, ids), leaning)
    return Prepared(Packed(identity, len(plain), Form.SQUEEZED), small)


def files_of(packs: bytes) -> list[str]:
    """Where packs, whose names lie one after the other, lie in the folder of packs."""
    names, each = packs.hex(), 2 * NAME_BYTES
    return [f"{names[at]}/{names[at : at + each]}" for at in range(0, len(names), each)]


def pack_file(pack: bytes) -> str:
    """Where a pack lies in the store."""
    return f"{PACK_FOLDER}/{files_of(pack)[0]}"


def open_body(
    keys: StoreKeys, pack: PackId, number: int, sealed: bytes, chunk: Packed, by_identity: bool = False
) -> bytes:
    """The bytes of a chunk as they were sealed, compressed or not.

    :param by_identity: its identity proves it, where the seal hides nothing.

    Raises:
        DamageError: it is not what was written.
    """
    if chunk.plain_length > CHUNK_LIMIT or len(sealed) < TAG_BYTES:
        raise DamageError(tr("A chunk has an impossible length"), file=pack_file(pack))
    try:
        opener = keys.opener(FileKind.PACK.word, pack)
        return (opener.body if by_identity else opener.open)(number, sealed, chunk.context)
    except DamageError as error:
        raise _damaged(pack) from error


def open_chunk(
    keys: StoreKeys,
    pack: PackId,
    number: int,
    sealed: bytes,
    chunk: Packed,
    leans_on: bytes = b"",
    by_identity: bool = False,
) -> bytes:
    """The plain bytes of one chunk, authenticated by its seal and by its identity.

    :param leans_on: the plain bytes of the chunks that it leans on, one after the other.
    :param by_identity: as for ``open_body``.

    Raises:
        DamageError: it is not what was written.
    """
    body = open_body(keys, pack, number, sealed, chunk, by_identity)
    try:
        plain = body if chunk.form is Form.AS_IS else expand(body, chunk.plain_length, leans_on)
    except DamageError as error:
        raise _damaged(pack) from error
    if len(plain) != chunk.plain_length or keys.chunk_id(plain) != chunk.id:
        raise DamageError(
            tr("A chunk in {pack_file} is not what it was").format(pack_file=pack_file(pack)),
            file=pack_file(pack),
        )
    return plain


def _damaged(pack: PackId) -> DamageError:
    return DamageError(
        tr("A chunk in {pack_file} is damaged").format(pack_file=pack_file(pack)), file=pack_file(pack)
    )
