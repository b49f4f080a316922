"""Packs: files of sealed chunks with a sealed table at the end. ``docs/format.md`` ("Pack") gives the bytes."""

from __future__ import annotations

import enum
import secrets
from collections.abc import Iterator

import msgspec
import numpy as np

from good_tide.core.errors import DamageError, PlaceFullError
from good_tide.core.identifiers import CHUNK_ID_BYTES, NAME_BYTES, ChunkId, PackId
from good_tide.crypto.seals import TAG_BYTES, StoreKeys
from good_tide.storage.compression import expand, shrink
from good_tide.storage.envelope import HEAD_BYTES, FileKind, check_head, head
from good_tide.storage.place import NewFile, Place

PACK_BYTES = 64 * 1024 * 1024
"""A pack is finished when it has grown to this many bytes."""

CHUNK_LIMIT = 64 * 1024 * 1024
"""Plain bytes of the largest chunk a reader takes memory for (a page of a very large listing)."""

_TABLE_NUMBER = (1 << 64) - 1
_TABLE_LIMIT = 1 << 28
_FOOT = b"DTDG"
_FOOT_BYTES = 8


class Holds(enum.IntEnum):
    """What a pack's chunks are: contents of files, or pages of listings."""

    DATA = 0
    TREE = 1


class PackTable(msgspec.Struct, frozen=True):
    """The chunks of one pack, in order, by columns.

    ``stored`` and ``plain`` are little-endian 32-bit lengths in bytes, sealed and plain; ``squeezed`` has a 1 for
    each chunk that is compressed. Offsets follow from the lengths.
    """

    pack: PackId
    holds: int
    ids: bytes
    stored: bytes
    plain: bytes
    squeezed: bytes

    def __len__(self) -> int:
        return len(self.squeezed)

    def checked(self) -> PackTable:
        """Itself.

        Raises:
            DamageError: the columns contradict each other.
        """
        count = len(self.squeezed)
        lengths = (len(self.pack), len(self.ids), len(self.stored), len(self.plain))
        if lengths != (NAME_BYTES, count * CHUNK_ID_BYTES, count * 4, count * 4) or set(self.squeezed) - {0, 1}:
            raise DamageError("A table of chunks contradicts itself")
        return self

    def offsets(self) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
        """Where each chunk begins in the pack, in bytes."""
        stored = np.frombuffer(self.stored, dtype="<u4").astype(np.int64)
        return np.cumsum(stored) - stored + HEAD_BYTES

    def chunk_ids(self) -> Iterator[ChunkId]:
        """The chunks' identities in order."""
        for at in range(0, len(self.ids), CHUNK_ID_BYTES):
            yield ChunkId(self.ids[at : at + CHUNK_ID_BYTES])


class Prepared(msgspec.Struct, frozen=True):
    """A chunk ready to be sealed."""

    id: ChunkId
    plain_length: int
    body: bytes
    squeezed: bool


def prepare(identity: ChunkId, plain: bytes | memoryview) -> Prepared:
    """Compress a chunk where that helps."""
    small = shrink(plain)
    return Prepared(identity, len(plain), bytes(plain) if small is None else small, small is not None)


def pack_file(pack: bytes) -> str:
    """Where a pack lies in the store."""
    name = pack.hex()
    return f"packs/{name[0]}/{name}"


def _context(identity: bytes, plain_length: int, squeezed: bool) -> bytes:
    return identity + plain_length.to_bytes(4, "little") + bytes([squeezed])


class PackWriter:
    """Writes one pack. Used by one thread."""

    def __init__(self, place: Place, keys: StoreKeys, holds: Holds, owner: str) -> None:
        self.pack = PackId(secrets.token_bytes(NAME_BYTES))
        self._holds = holds
        self._seal = keys.seal_for(FileKind.PACK.word, self.pack)
        self._file: NewFile = place.create(pack_file(self.pack), owner)
        self._rows: list[tuple[Prepared, int]] = []
        self._file.write(head(FileKind.PACK, keys.encrypted))

    @property
    def size(self) -> int:
        """Bytes written so far."""
        return self._file.size

    def add(self, chunk: Prepared) -> None:
        """Seal and append a chunk."""
        context = _context(chunk.id, chunk.plain_length, chunk.squeezed)
        sealed = self._seal.seal(len(self._rows), chunk.body, context)
        self._file.write(sealed)
        self._rows.append((chunk, len(sealed)))

    def _table(self) -> PackTable:
        rows = self._rows
        return PackTable(
            pack=self.pack,
            holds=self._holds,
            ids=b"".join(chunk.id for chunk, _ in rows),
            stored=np.array([stored for _, stored in rows], dtype="<u4").tobytes(),
            plain=np.array([chunk.plain_length for chunk, _ in rows], dtype="<u4").tobytes(),
            squeezed=bytes(chunk.squeezed for chunk, _ in rows),
        )

    def finish(self) -> PackTable:
        """Append the table and make the pack visible."""
        begin = self._file.size
        table = self._table()
        plain = msgspec.msgpack.encode(table)
        small = shrink(plain, level=9)
        body = b"\0" + plain if small is None else b"\1" + small
        sealed = self._seal.seal(_TABLE_NUMBER, body, begin.to_bytes(8, "little"))
        self._file.write(sealed + len(sealed).to_bytes(4, "little") + _FOOT)
        self._file.commit()
        return table

    def salvage(self) -> PackTable | None:
        """Finish on a full disk: give up as many of the last chunks as the table needs room. None if nothing is left."""
        while self._rows:
            _, stored = self._rows.pop()
            try:
                self._file.cut(self._file.size - stored)
                return self.finish() if self._rows else None
            except PlaceFullError:
                continue
        return None

    def discard(self) -> None:
        """Throw the pack away unless it is finished."""
        self._file.discard()


def read_table(place: Place, keys: StoreKeys, pack: PackId) -> PackTable:
    """The table at the end of a pack.

    Raises:
        DamageError: it is not intact.
    """
    file = pack_file(pack)
    check_head(place.read(file, 0, HEAD_BYTES), FileKind.PACK, keys.encrypted, file)
    size = place.size(file)
    foot = place.read(file, max(0, size - _FOOT_BYTES), _FOOT_BYTES)
    length = int.from_bytes(foot[:4], "little")
    begin = size - _FOOT_BYTES - length
    if foot[4:] != _FOOT or begin < HEAD_BYTES or length > _TABLE_LIMIT:
        raise DamageError(f"{file} does not end as a pack must", "Run verify on this store", file)
    seal = keys.seal_for(FileKind.PACK.word, pack)
    try:
        body = seal.open(_TABLE_NUMBER, place.read(file, begin, length), begin.to_bytes(8, "little"))
        plain = expand(body[1:], _TABLE_LIMIT) if body[:1] == b"\1" else body[1:]
        table = msgspec.msgpack.decode(plain, type=PackTable).checked()
    except (DamageError, msgspec.MsgspecError) as error:
        raise DamageError(f"The table of {file} is damaged", "Run verify on this store", file) from error
    if table.pack != pack or (len(table) and int(table.offsets()[-1]) > begin):
        raise DamageError(f"The table of {file} belongs to another pack", "Run verify on this store", file)
    return table


def open_body(keys: StoreKeys, pack: PackId, number: int, sealed: bytes, identity: ChunkId, plain_length: int, squeezed: bool) -> bytes:
    """The bytes of a chunk as they were sealed, compressed or not, for sealing them again in another pack.

    Raises:
        DamageError: it is not what was written.
    """
    open_chunk(keys, pack, number, sealed, identity, plain_length, squeezed)
    return keys.seal_for(FileKind.PACK.word, pack).open(number, sealed, _context(identity, plain_length, squeezed))


def open_chunk(keys: StoreKeys, pack: PackId, number: int, sealed: bytes, identity: ChunkId, plain_length: int, squeezed: bool) -> bytes:
    """The plain bytes of one chunk, authenticated by its seal and by its identity.

    Raises:
        DamageError: it is not what was written.
    """
    if plain_length > CHUNK_LIMIT or len(sealed) < TAG_BYTES:
        raise DamageError("A chunk has an impossible length", file=pack_file(pack))
    try:
        body = keys.seal_for(FileKind.PACK.word, pack).open(number, sealed, _context(identity, plain_length, squeezed))
        plain = expand(body, plain_length) if squeezed else body
    except DamageError as error:
        raise DamageError(f"A chunk in {pack_file(pack)} is damaged", "Run verify on this store", pack_file(pack)) from error
    if len(plain) != plain_length or keys.chunk_id(plain) != identity:
        raise DamageError(f"A chunk in {pack_file(pack)} is not what it was", "Run verify on this store", pack_file(pack))
    return plain
