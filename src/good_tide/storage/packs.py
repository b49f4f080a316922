"""Packs: files of sealed chunks with a sealed table at the end. ``docs/format.md`` ("Pack") gives the
bytes."""

from __future__ import annotations

import enum
from collections.abc import Iterator

import msgspec
import numpy as np

from good_tide.core.errors import DamageError, PlaceFullError
from good_tide.core.identifiers import CHUNK_ID_BYTES, NAME_BYTES, ChunkId, PackId
from good_tide.crypto.seals import TAG_BYTES, FreshSeal, StoreKeys
from good_tide.storage.compression import expand, shrink, squeezed, unsqueezed
from good_tide.storage.decoding import unpacked
from good_tide.storage.envelope import HEAD_BYTES, FileKind, check_head, head
from good_tide.storage.place import Place

PACK_BYTES = 64 * 1024 * 1024
"""A pack is finished when it has grown to this many bytes."""

CHUNK_LIMIT = 64 * 1024 * 1024
"""Plain bytes of the largest chunk a reader takes memory for (a page of a very large listing)."""

_ROOM_STEP, _ROW_BYTES = 4096, 41
"""On a full disk: how many bytes fewer each try takes, and those of a row in the table."""
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

    ``stored`` and ``plain`` are little-endian 32-bit lengths in bytes, sealed and plain; ``squeezed`` has a 1
    for each chunk that is compressed. Offsets follow from the lengths.
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
        if (
            lengths != (NAME_BYTES, count * CHUNK_ID_BYTES, count * 4, count * 4)
            or set(self.squeezed) - {0, 1}
            or self.holds not in set(Holds)
        ):
            raise DamageError("A table of chunks contradicts itself")
        return self

    def offsets(self) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
        """Where each chunk begins in the pack, in bytes."""
        stored = np.frombuffer(self.stored, dtype="<u4").astype(np.int64)
        return np.cumsum(stored) - stored + HEAD_BYTES

    def stored_length(self, number: int) -> int:
        """Sealed bytes of a chunk."""
        return int.from_bytes(self.stored[4 * number : 4 * number + 4], "little")

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
    """Collects the chunks of one pack, and writes it when it is finished. Used by one thread.

    A name is drawn, and with it a key, only when all that will be sealed under it is known; each try has a
    name of its own. So no key and number ever seal two different texts: not when a try fails, nor when the
    machine is copied in the middle and both go on.
    """

    def __init__(self, place: Place, keys: StoreKeys, holds: Holds, owner: str) -> None:
        self._place, self._keys, self._holds, self._owner = place, keys, holds, owner
        self._chunks: list[Prepared] = []
        self._too_much = 0
        """Bytes that the last try had written, or was about to have written when there was no room."""
        self.size = HEAD_BYTES
        """Bytes of the pack; without its table until it is finished."""

    def add(self, chunk: Prepared) -> None:
        """Take in a chunk."""
        self._chunks.append(chunk)
        self.size += len(chunk.body) + TAG_BYTES

    def _table(self, pack: PackId) -> PackTable:
        chunks = self._chunks
        return PackTable(
            pack=pack,
            holds=self._holds,
            ids=b"".join(chunk.id for chunk in chunks),
            stored=np.array([len(chunk.body) + TAG_BYTES for chunk in chunks], dtype="<u4").tobytes(),
            plain=np.array([chunk.plain_length for chunk in chunks], dtype="<u4").tobytes(),
            squeezed=bytes(chunk.squeezed for chunk in chunks),
        )

    def finish(self) -> PackTable:
        """Seal and write the pack under a fresh name, and make it visible.

        Raises:
            PlaceFullError: no room; nothing of it is left, and ``salvage`` writes what fits.
        """
        seal = self._keys.fresh_seal(FileKind.PACK.word)
        pack = PackId(seal.name)
        table = self._table(pack)
        with self._place.create(pack_file(pack), self._owner) as file:
            for piece in self._pieces(seal, table):
                self._too_much = file.size + len(piece)
                file.write(piece)
            file.commit()
            self.size = file.size
        return table

    def _pieces(self, seal: FreshSeal, table: PackTable) -> Iterator[bytes]:
        """The bytes of the pack, in order."""
        yield head(FileKind.PACK, self._keys.encrypted)
        for number, chunk in enumerate(self._chunks):
            yield seal.seal(number, chunk.body, _context(chunk.id, chunk.plain_length, chunk.squeezed))
        sealed = seal.seal(
            _TABLE_NUMBER, squeezed(msgspec.msgpack.encode(table)), self.size.to_bytes(8, "little")
        )
        yield sealed + len(sealed).to_bytes(4, "little") + _FOOT

    def salvage(self) -> PackTable | None:
        """Finish on a full disk with as many of the first chunks as fit. None if none does."""
        while self._chunks:
            room = (self._too_much or self.size) - _ROOM_STEP
            while self._chunks and self.size + len(self._chunks) * _ROW_BYTES > room:
                self.size -= len(self._chunks.pop().body) + TAG_BYTES
            try:
                return self.finish() if self._chunks else None
            except PlaceFullError:
                continue
        return None


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
        raise DamageError(f"{file} does not end as a pack must", file=file)
    seal = keys.opener(FileKind.PACK.word, pack)
    try:
        body = seal.open(_TABLE_NUMBER, place.read(file, begin, length), begin.to_bytes(8, "little"))
        plain = unsqueezed(body, _TABLE_LIMIT)
        table = unpacked(plain, PackTable, file, "a table").checked()
    except DamageError as error:
        raise DamageError(f"The table of {file} is damaged", file=file) from error
    if table.pack != pack or (len(table) and int(table.offsets()[-1]) > begin):
        raise DamageError(f"The table of {file} belongs to another pack", file=file)
    return table


def open_body(
    keys: StoreKeys,
    pack: PackId,
    number: int,
    sealed: bytes,
    identity: ChunkId,
    plain_length: int,
    squeezed: bool,
) -> bytes:
    """The bytes of a chunk as they were sealed, compressed or not, for sealing them again in another pack.

    Raises:
        DamageError: it is not what was written.
    """
    open_chunk(keys, pack, number, sealed, identity, plain_length, squeezed)
    return keys.opener(FileKind.PACK.word, pack).open(
        number, sealed, _context(identity, plain_length, squeezed)
    )


def open_chunk(
    keys: StoreKeys,
    pack: PackId,
    number: int,
    sealed: bytes,
    identity: ChunkId,
    plain_length: int,
    squeezed: bool,
) -> bytes:
    """The plain bytes of one chunk, authenticated by its seal and by its identity.

    Raises:
        DamageError: it is not what was written.
    """
    if plain_length > CHUNK_LIMIT or len(sealed) < TAG_BYTES:
        raise DamageError("A chunk has an impossible length", file=pack_file(pack))
    try:
        body = keys.opener(FileKind.PACK.word, pack).open(
            number, sealed, _context(identity, plain_length, squeezed)
        )
        plain = expand(body, plain_length) if squeezed else body
    except DamageError as error:
        raise DamageError(f"A chunk in {pack_file(pack)} is damaged", file=pack_file(pack)) from error
    if len(plain) != plain_length or keys.chunk_id(plain) != identity:
        raise DamageError(f"A chunk in {pack_file(pack)} is not what it was", file=pack_file(pack))
    return plain
