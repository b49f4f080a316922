"""An open store: its snapshots, its chunks, its listings."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterable
from typing import NamedTuple

from good_tide.core.entries import Entry
from good_tide.core.errors import DamageError, NotInPlaceError
from good_tide.core.identifiers import NAME_BYTES, ChunkId, PackId, SnapshotId
from good_tide.core.pages import Page
from good_tide.core.records import Snapshot, SnapshotRecord
from good_tide.crypto.seals import StoreKeys
from good_tide.storage.decoding import unpacked
from good_tide.storage.envelope import FileKind, open_whole, seal_new
from good_tide.storage.header import Header, unlock
from good_tide.storage.index import ChunkIndex, Location, decode_tables
from good_tide.storage.packs import PackTable, open_chunk, pack_file
from good_tide.storage.place import Place, StorePlace

INDEX_FOLDER = "index"
SNAPSHOT_FOLDER = "snapshots"
PACK_FOLDER = "packs"
_RECENT_BYTES = 32 * 1024 * 1024
_RECENT_LARGEST = 2 * 1024 * 1024


class Written(NamedTuple):
    """A sealed file that was written: its name, and its bytes."""

    name: str
    size: int


class Store:
    """A store that has been unlocked. Reading may go on in several threads at once."""

    shared = True
    """Whether other machines may sweep it, so that whoever writes has to leave a mark."""

    def __init__(self, place: Place, header: Header, keys: StoreKeys) -> None:
        self.place = place
        self.header = header
        self.keys = keys
        self._index: ChunkIndex | None = None
        self._index_files: set[str] = set()
        self._snapshots: dict[str, Snapshot] = {}
        self.avoided: frozenset[PackId] = frozenset()
        """Packs that a sweep has doomed: whoever writes does not build on them."""
        self._lock = threading.RLock()
        self._recent: OrderedDict[ChunkId, bytes] = OrderedDict()
        self._recent_bytes = 0

    @property
    def index(self) -> ChunkIndex:
        """Where the chunks lie; read from the store at first use and when ``refresh`` was called."""
        with self._lock:
            if self._index is None:
                self._index = ChunkIndex()
                self.refresh()
            return self._index

    def refresh(self) -> None:
        """Take notice of index files that were added since. A damaged one does not hide the others. When some
        are gone, a sweep has deleted packs, and all is read anew: nothing may be built on what the old ones
        named.

        Raises:
            DamageError: none but damaged index files are there.
        """
        with self._lock:
            present = self.place.names(INDEX_FOLDER)
            if self._index_files - set(present):
                self._index, self._index_files = None, set()
            index = self._index = self._index if self._index is not None else ChunkIndex()
            damaged: DamageError | None = None
            for name in present:
                if name in self._index_files:
                    continue
                try:
                    file = f"{INDEX_FOLDER}/{name}"
                    index.add(decode_tables(self.read_sealed(FileKind.INDEX, file), file))
                    self._index_files.add(name)
                except DamageError as error:
                    damaged = error
            if damaged is not None and not len(index):
                raise damaged

    def read_sealed(self, kind: FileKind, file: str) -> bytes:
        """The content of a sealed file, authenticated.

        Raises:
            DamageError: it is not intact. PlaceError: the disk does not give it.
        """
        name = file_name_bytes(file.rpartition("/")[2], file)
        return open_whole(self.keys, kind, name, self.place.read(file), file)

    def write_sealed(self, kind: FileKind, folder: str, plain: bytes, owner: str) -> Written:
        """Write a sealed file into a folder of the store, under a fresh name.

        Raises:
            PlaceError: the disk does not take it.
        """
        name, data = seal_new(self.keys, kind, plain)
        with self.place.create(f"{folder}/{name.hex()}", owner) as file:
            file.write(data)
            file.commit()
        return Written(name.hex(), len(data))

    def know_index(self, name: str, tables: Iterable[PackTable]) -> None:
        """Take notice of an index file that was just written through this object; should it vanish, a sweep
        has replaced it."""
        with self._lock:
            self.index.add(tables)
            self._index_files.add(name)

    @property
    def index_files(self) -> frozenset[str]:
        """Names of the index files that the index was read from."""
        return frozenset(self._index_files)

    def forget_index(self) -> None:
        """Read the index anew when it is next needed: index files were replaced."""
        with self._lock:
            self._index, self._index_files = None, set()
            self._snapshots.clear()

    def snapshot_ids(self) -> list[SnapshotId]:
        """All snapshots, readable or not."""
        return [SnapshotId(name) for name in self.place.names(SNAPSHOT_FOLDER)]

    def read_snapshot(self, name: SnapshotId) -> Snapshot:
        """One snapshot.

        Raises:
            DamageError: it is not intact.
        """
        return self._read_snapshot(name, SNAPSHOT_FOLDER)

    def _read_snapshot(self, name: SnapshotId, folder: str) -> Snapshot:
        with self._lock:
            known = self._snapshots.get(name)
        if known is None:
            file = f"{folder}/{name}"
            plain = self.read_sealed(FileKind.SNAPSHOT, file)
            record = unpacked(plain, SnapshotRecord, file, "a snapshot")
            known = Snapshot(name, record)
            with self._lock:
                self._snapshots[name] = known
        return known

    def snapshots(self) -> tuple[list[Snapshot], list[DamageError]]:
        """All readable snapshots in order of time, and what is wrong with the others."""
        found, damage = [], []
        for name in self.snapshot_ids():
            try:
                found.append(self.read_snapshot(name))
            except NotInPlaceError:
                continue
            except DamageError as error:
                damage.append(error)
        found.sort(key=lambda snapshot: (snapshot.record.time, snapshot.id))
        return found, damage

    def has(self, identity: ChunkId) -> bool:
        """Whether a chunk need not be written again."""
        return self.index.find(identity, self.avoided) is not None

    def read_chunk(self, identity: ChunkId) -> bytes:
        """The plain bytes of a chunk, authenticated.

        Raises:
            DamageError: it is missing or not intact.
            PlaceError: the disk does not give it.
        """
        with self._lock:
            recent = self._recent.get(identity)
            if recent is not None:
                self._recent.move_to_end(identity)
                return recent
            location = self.index.find(identity)
            if location is None:
                self.refresh()
                location = self.index.find(identity)
        if location is None:
            raise DamageError(
                "A chunk that a snapshot needs is in no pack of this store",
                "Run verify on this store",
                INDEX_FOLDER,
            )
        file = pack_file(location.pack)
        try:
            sealed = self.place.read(file, location.offset, location.stored)
        except NotInPlaceError as error:
            moved = self._moved(identity, location)
            if moved is None:
                raise DamageError(f"{file} is missing", "Run verify on this store", file) from error
            location, file = moved, pack_file(moved.pack)
            sealed = self.place.read(file, location.offset, location.stored)
        plain = open_chunk(
            self.keys, location.pack, location.number, sealed, identity, location.plain, location.squeezed
        )
        if len(plain) <= _RECENT_LARGEST:
            self._remember(identity, plain)
        return plain

    def _moved(self, identity: ChunkId, before: Location) -> Location | None:
        """Where a sweep has put a chunk since the index was read; None if it is nowhere else."""
        with self._lock:
            self._index, self._index_files = None, set()
            location = self.index.find(identity, frozenset((before.pack,)))
        return location

    def _remember(self, identity: ChunkId, plain: bytes) -> None:
        with self._lock:
            if identity not in self._recent:
                self._recent[identity] = plain
                self._recent_bytes += len(plain)
            while self._recent_bytes > _RECENT_BYTES:
                self._recent_bytes -= len(self._recent.popitem(last=False)[1])

    def page(self, identity: ChunkId) -> Page:
        """A page of a folder's listing."""
        return Page(self.read_chunk(identity))

    def listing(self, pages: Iterable[ChunkId]) -> list[Entry]:
        """All entries of a folder, in the order of their names' bytes."""
        return [entry for identity in pages for entry in self.page(identity).entries()]

    def roots(self, record: SnapshotRecord) -> list[Entry]:
        """The covered folders of a snapshot, under their absolute paths."""
        return Page(record.roots, rooted=True).entries()


def open_store(where: StorePlace, passphrase: str | None) -> Store:
    """Open the store in a place.

    Raises:
        PlaceError: no store there, or it cannot be used.
        WrongPassphraseError: the passphrase is wrong, or needed.
        DamageError: header or slots are damaged.
    """
    where.check_there()
    place = where.files()
    return Store(place, *unlock(place, passphrase))


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
        raise DamageError(f"{file} does not belong to this store", "Move it elsewhere", file)
    return value
