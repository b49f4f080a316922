"""Packs: files of sealed chunks with a sealed table at the end, since version 2 of the format with parity.
``docs/format.md`` ("Pack", "Parity") gives the bytes."""

from __future__ import annotations

import enum
from collections.abc import Iterator
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from good_tide.core.errors import DamageError, PlaceFullError
from good_tide.core.identifiers import CHUNK_ID_BYTES, NAME_BYTES, ChunkId, PackId
from good_tide.core.translation import tr
from good_tide.crypto.seals import TAG_BYTES, FreshSeal, StoreKeys
from good_tide.storage.compression import squeezed, unsqueezed
from good_tide.storage.decoding import unpacked
from good_tide.storage.envelope import HEAD_BYTES, FileKind, check_head, head
from good_tide.storage.kept_here import NOTHING_KEPT, NothingKept
from good_tide.storage.packed import MOST_BASES, Form, Packed, Prepared, pack_file
from good_tide.storage.place import Place, Readable
from good_tide.storage.stripes import Striped, read_striped, shape_for, shape_of_file

PACK_BYTES = 32 * 1024 * 1024
"""A pack is finished when it has grown to this many bytes."""

_ROOM_STEP, _ROW_BYTES = 4096, 41
"""On a full disk: how many bytes fewer each try takes, and those of a row in the table."""
_TABLE_NUMBER = (1 << 64) - 1
_PADDING_NUMBER = (1 << 64) - 2
_TABLE_STEP = 1024
"""The table of a pack of version 2 takes a multiple of so many bytes."""
_FULL_STEP = 64 * 1024
"""The same for a whole pack that is full."""
_TABLE_LIMIT = 1 << 28
_FOOT = b"DTDG"
_FOOT_BYTES = 8


class Holds(enum.IntEnum):
    """What a pack's chunks are: contents of files, or pages of listings."""

    DATA = 0
    TREE = 1


_HOLDS = frozenset(Holds)
_FORMS = bytes(Form)


class Layout(msgspec.Struct, frozen=True):
    """How the packs of a store are made: version of the format, and whether they get parity."""

    version: int = 1
    parity: bool = False


class PackTable(msgspec.Struct, frozen=True, omit_defaults=True):
    """The chunks of one pack, in order, by columns.

    ``stored`` and ``plain`` are little-endian 32-bit lengths in bytes, sealed and plain; ``squeezed`` has the
    form of each chunk. Offsets follow from the lengths. ``size``: bytes of the whole file of a pack with
    parity; 0 for others. ``leaning``: for each leaning chunk, in order, on how many others it leans, and
    ``bases`` their identities.
    """

    pack: PackId
    holds: int
    ids: bytes
    stored: bytes
    plain: bytes
    squeezed: bytes
    size: int = 0
    leaning: bytes = b""
    bases: bytes = b""

    def __len__(self) -> int:
        return len(self.squeezed)

    def offsets(self) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
        """Where each chunk begins in the pack, in bytes."""
        stored = np.frombuffer(self.stored, dtype="<u4").astype(np.int64)
        return np.cumsum(stored) - stored + HEAD_BYTES

    def room(self) -> NDArray[np.int64]:
        """Bytes of the pack's file that each chunk takes, with its share of padding and parity."""
        stored = np.frombuffer(self.stored, dtype="<u4").astype(np.int64)
        total = int(stored.sum())
        return stored * self.size // total if self.size > total > 0 else stored

    def stored_length(self, number: int) -> int:
        """Sealed bytes of a chunk."""
        return int.from_bytes(self.stored[4 * number : 4 * number + 4], "little")

    def chunk_id(self, number: int) -> ChunkId:
        """The identity of a chunk."""
        return ChunkId(self.ids[number * CHUNK_ID_BYTES : (number + 1) * CHUNK_ID_BYTES])

    def packed(self, number: int) -> Packed:
        """What a chunk is."""
        plain = int.from_bytes(self.plain[4 * number : 4 * number + 4], "little")
        form = Form(self.squeezed[number])
        return Packed(self.chunk_id(number), plain, form, self.bases_of(number))

    def bases_of(self, number: int) -> bytes:
        """The identities of the chunks that one leans on, one after the other."""
        if self.squeezed[number] != Form.LEANING:
            return b""
        before = self.squeezed.count(Form.LEANING, 0, number)
        begin = sum(self.leaning[:before])
        return self.bases[CHUNK_ID_BYTES * begin : CHUNK_ID_BYTES * (begin + self.leaning[before])]

    def leaning_numbers(self) -> list[int]:
        """The chunks that lean on others, by their numbers."""
        if not self.leaning:
            return []
        found: list[int] = np.flatnonzero(
            np.frombuffer(self.squeezed, dtype=np.uint8) == Form.LEANING
        ).tolist()
        return found

    def chunk_ids(self) -> Iterator[ChunkId]:
        """The chunks' identities in order."""
        for at in range(0, len(self.ids), CHUNK_ID_BYTES):
            yield ChunkId(self.ids[at : at + CHUNK_ID_BYTES])


def _leans_right(table: PackTable) -> bool:
    """Whether the columns of what leans on others agree."""
    return (
        len(table.leaning) == table.squeezed.count(Form.LEANING)
        and all(1 <= one <= MOST_BASES for one in table.leaning)
        and len(table.bases) == CHUNK_ID_BYTES * sum(table.leaning)
    )


def checked(tables: list[PackTable]) -> list[PackTable]:
    """The same tables.

    Raises:
        DamageError: the columns of one contradict each other.
    """
    squeezed = [table.squeezed for table in tables]
    counts = np.array([len(column) for column in squeezed], dtype=np.int64)
    agree = all(len(table.pack) == NAME_BYTES and table.holds in _HOLDS for table in tables)
    for columns, each in (
        ([table.ids for table in tables], CHUNK_ID_BYTES),
        ([table.stored for table in tables], 4),
        ([table.plain for table in tables], 4),
    ):
        lengths = np.array([len(column) for column in columns], dtype=np.int64)
        agree = agree and np.array_equal(lengths, counts * each)
    forms = b"".join(squeezed)
    leaning = [table for table in tables if table.leaning or table.bases]
    agree = agree and forms.count(Form.LEANING) == sum(len(table.leaning) for table in leaning)
    if not agree or forms.translate(None, _FORMS) or not all(map(_leans_right, leaning)):
        raise DamageError(tr("A table of chunks contradicts itself"))
    return tables


def piece_name(pack: bytes, number: int) -> str:
    """How a chunk of a pack is called where it is kept apart from it."""
    return f"{pack_file(pack)}/{number}"


class _Ending(NamedTuple):
    """What follows the chunks in a pack: the plain bytes of its table, how many bytes of padding before it,
    and how many bytes the whole pack has by that."""

    table: bytes
    padding: int
    size: int


class PackWriter:
    """Collects the chunks of one pack, and writes it when it is finished. Used by one thread.

    A name is drawn, and with it a key, only when all that will be sealed under it is known; each try has a
    name of its own. So no key and number ever seal two different texts: not when a try fails, nor when the
    machine is copied in the middle and both go on.
    """

    def __init__(
        self, place: Place, keys: StoreKeys, holds: Holds, owner: str, layout: Layout | None = None
    ) -> None:
        self._place, self._keys, self._holds, self._owner = place, keys, holds, owner
        self._layout = layout or Layout()
        self.kept: NothingKept = NOTHING_KEPT
        """Keeps listings on this machine as well."""
        self._chunks: list[Prepared] = []
        self._sealed: list[bytes] = []
        """Chunks as they were written, to be kept here."""
        self._too_much = 0
        """Bytes that the last try had written, or was about to have written when there was no room."""
        self.size = HEAD_BYTES
        """Bytes of the pack; of its head and chunks until it is finished."""

    def add(self, chunk: Prepared) -> None:
        """Take in a chunk."""
        self._chunks.append(chunk)
        self.size += len(chunk.body) + TAG_BYTES

    def _table(self, pack: PackId) -> PackTable:
        chunks = [one.chunk for one in self._chunks]
        bases = [chunk.bases for chunk in chunks if chunk.bases]
        return PackTable(
            pack=pack,
            holds=self._holds,
            ids=b"".join(chunk.id for chunk in chunks),
            stored=np.array([len(one.body) + TAG_BYTES for one in self._chunks], dtype="<u4").tobytes(),
            plain=np.array([chunk.plain_length for chunk in chunks], dtype="<u4").tobytes(),
            squeezed=bytes(chunk.form for chunk in chunks),
            leaning=bytes(len(one) // CHUNK_ID_BYTES for one in bases),
            bases=b"".join(bases),
        )

    def finish(self) -> PackTable:
        """Seal and write the pack under a fresh name, and make it visible.

        Raises:
            PlaceFullError: no room; nothing of it is left, and ``salvage`` writes what fits.
        """
        seal = self._keys.fresh_seal(FileKind.PACK.word)
        self._sealed = []
        table, layout = self._table(PackId(seal.name)), self._layout
        if layout.version == 1:
            parts: Iterator[bytes | memoryview] = self._parts(seal, table)
        else:
            ending = self._ending(table)
            parts = self._padded_parts(seal, ending)
            if layout.parity:
                parts = self._striped(parts, ending.size)
        with self._place.create(pack_file(table.pack), self._owner) as file:
            for part in parts:
                self._too_much = file.size + len(part)
                file.write(part)
            file.commit()
            self.size = file.size
        self._keep(table.pack)
        return msgspec.structs.replace(table, size=self.size) if layout.parity else table

    def _sealed_chunks(self, seal: FreshSeal) -> Iterator[bytes]:
        for number, one in enumerate(self._chunks):
            sealed = seal.seal(number, one.body, one.chunk.context)
            if self._keeps:
                self._sealed.append(sealed)
            yield sealed

    @property
    def _keeps(self) -> bool:
        return self._holds is Holds.TREE and self.kept is not NOTHING_KEPT

    def _keep(self, pack: PackId) -> None:
        sealed, self._sealed = self._sealed, []
        self.kept.put((piece_name(pack, number), one) for number, one in enumerate(sealed))

    def _parts(self, seal: FreshSeal, table: PackTable) -> Iterator[bytes]:
        """The bytes of a pack of version 1, in order."""
        yield head(FileKind.PACK, self._keys.encrypted)
        yield from self._sealed_chunks(seal)
        sealed = seal.seal(
            _TABLE_NUMBER, squeezed(msgspec.msgpack.encode(table)), self.size.to_bytes(8, "little")
        )
        yield sealed + len(sealed).to_bytes(4, "little") + _FOOT

    def _ending(self, table: PackTable) -> _Ending:
        """What follows the chunks in a pack of version 2: so long that the pack's length tells little of what
        is in it."""
        record = squeezed(msgspec.msgpack.encode(table))
        plain = len(record).to_bytes(4, "little") + record
        plain = plain.ljust(_rounded(len(plain), _TABLE_STEP), b"\0")
        least = self.size + len(plain) + TAG_BYTES + _FOOT_BYTES
        size = least + TAG_BYTES
        if self._keys.encrypted:
            size = padded_size(size)
        if self._layout.parity:
            size = HEAD_BYTES + shape_for(size - HEAD_BYTES).length
        return _Ending(plain, size - least, size)

    def _padded_parts(self, seal: FreshSeal, ending: _Ending) -> Iterator[bytes]:
        """The bytes of a pack of version 2 without parity, in order."""
        yield head(FileKind.PACK, self._keys.encrypted, 2)
        yield from self._sealed_chunks(seal)
        yield seal.seal(_PADDING_NUMBER, bytes(ending.padding - TAG_BYTES), self.size.to_bytes(8, "little"))
        at = self.size + ending.padding
        sealed = seal.seal(_TABLE_NUMBER, ending.table, at.to_bytes(8, "little"))
        yield sealed + len(sealed).to_bytes(4, "little") + _FOOT

    @staticmethod
    def _striped(parts: Iterator[bytes], size: int) -> Iterator[bytes | memoryview]:
        """The bytes of a pack with parity, from those of one without, ``size`` together."""
        begin = next(parts)
        made, at = Striped(size - len(begin)), 0
        for part in parts:
            made.buffer[at : at + len(part)] = part
            at += len(part)
        yield made.file(begin[:-1] + b"\1")

    @property
    def whole_size(self) -> int:
        """About how many bytes the pack would take, when it is finished."""
        size = self.size + sum(_ROW_BYTES + len(one.chunk.bases) for one in self._chunks)
        if self._layout.version > 1:
            size = padded_size(size + 2 * _TABLE_STEP)
        return shape_for(size).size if self._layout.parity else size

    def salvage(self, most: int) -> PackTable | None:
        """Finish on a full disk with as many of the first chunks as fit. None if none does.

        :param most: bytes that it may take.
        """
        while self._chunks:
            room = min(most, (self._too_much or self.size) - _ROOM_STEP)
            while self._chunks and self.whole_size > room:
                self.size -= len(self._chunks.pop().body) + TAG_BYTES
            before = self.size
            try:
                return self.finish() if self._chunks else None
            except PlaceFullError:
                self.size = before
        return None


def _rounded(size: int, step: int) -> int:
    return -(-size // step) * step


def padded_size(least: int) -> int:
    """Bytes that a pack of an encrypted store takes which needs ``least``: only the upper bits of its size
    show, as many as its size's size has (PADMÉ: Nikitin and others, “Reducing Metadata Leakage from Encrypted
    Files and Communication with PURBs”, 2019). Full packs, which hold many chunks, are rounded less."""
    if least >= PACK_BYTES:
        return _rounded(least, _FULL_STEP)
    exponent = least.bit_length() - 1
    return _rounded(least, 1 << max(0, exponent - exponent.bit_length()))


def read_from_pack(place: Readable, file: str, size: int, offset: int, length: int) -> bytes:
    """Bytes of a pack, by their offset in it as tables count it.

    :param size: bytes of the whole file of a pack with parity; 0 for others.

    Raises:
        PlaceError: the disk does not give them.
    """
    if not size:
        return place.read(file, offset, length)

    def read(begin: int, count: int) -> bytes:
        return place.read(file, begin, count)

    return read_striped(read, size, offset - HEAD_BYTES, length)


def stored_in(pack: bytes, offset: int, length: int) -> bytes:
    """Bytes of a pack with parity that is in memory, by their offset in it as tables count it."""
    return read_striped(
        lambda begin, count: pack[begin : begin + count], len(pack), offset - HEAD_BYTES, length
    )


def read_table(place: Readable, keys: StoreKeys, pack: PackId) -> PackTable:
    """The table at the end of a pack.

    Raises:
        DamageError: it is not intact.
    """
    file = pack_file(pack)
    parity = check_head(begin := place.read(file, 0, HEAD_BYTES), FileKind.PACK, keys.encrypted, file)
    size = place.size(file)
    whole = size if parity else 0
    end = _end_of(size, parity)
    foot = read_from_pack(place, file, whole, max(0, end - _FOOT_BYTES), _FOOT_BYTES)
    length = int.from_bytes(foot[:4], "little")
    begins = end - _FOOT_BYTES - length
    if foot[4:] != _FOOT or begins < HEAD_BYTES or length > _TABLE_LIMIT:
        raise DamageError(tr("{file} does not end as a pack must").format(file=file), file=file)
    seal = keys.opener(FileKind.PACK.word, pack)
    try:
        sealed = read_from_pack(place, file, whole, begins, length)
        body = seal.open(_TABLE_NUMBER, sealed, begins.to_bytes(8, "little"))
        if begin[4] > 1:
            body = body[4 : 4 + int.from_bytes(body[:4], "little")]
        plain = unsqueezed(body, _TABLE_LIMIT)
        (table,) = checked([unpacked(plain, PackTable, file, "a table")])
    except DamageError as error:
        raise DamageError(tr("The table of {file} is damaged").format(file=file), file=file) from error
    table = msgspec.structs.replace(table, size=whole)
    if table.pack != pack or (len(table) and int(table.offsets()[-1]) > begins):
        raise DamageError(tr("The table of {file} belongs to another pack").format(file=file), file=file)
    return table


def _end_of(size: int, parity: bool) -> int:
    """Where a pack ends, as tables count it, whose file takes so many bytes."""
    if not parity:
        return size
    shape = shape_of_file(size)
    return HEAD_BYTES + shape.length if shape is not None else 0
