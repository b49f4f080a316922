"""An open store: its snapshots, its chunks, its listings."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from functools import partial
from typing import NamedTuple, cast

import numpy as np

from good_tide.core.entries import Entry
from good_tide.core.errors import DamageError, Harm, NotInPlaceError
from good_tide.core.identifiers import ChunkId, PackId, PageId, SnapshotId, chunk_of, part_of
from good_tide.core.pages import Page
from good_tide.core.records import Snapshot, SnapshotRecord
from good_tide.core.translation import tr
from good_tide.crypto.seals import StoreKeys
from good_tide.storage.chunk_keys import each_id, keys_of
from good_tide.storage.copies import Doubled, is_doubled, read_copy, single
from good_tide.storage.damage import KnownDamage, pack_of
from good_tide.storage.decoding import unpacked
from good_tide.storage.envelope import FileKind, file_name_bytes, open_whole, seal_new
from good_tide.storage.failing_disk import damage_of
from good_tide.storage.features import LEANING
from good_tide.storage.folders import INDEX_FOLDER, PACK_FOLDER, SNAPSHOT_FOLDER, own_names
from good_tide.storage.header import Header, unlock
from good_tide.storage.index import DEEPEST, ChunkIndex, Location, decode_tables
from good_tide.storage.kept_here import NOTHING_KEPT, NothingKept
from good_tide.storage.look import Look
from good_tide.storage.mending import Mending
from good_tide.storage.pack_reader import PackReader
from good_tide.storage.packed import BASES_LIMIT, pack_file
from good_tide.storage.packs import Layout, PackTable
from good_tide.storage.place import Place, StorePlace
from good_tide.storage.recent_chunks import RecentChunks
from good_tide.storage.summary_rows import SummaryRows

_MENDER = "mend-"


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
        self._unnamed: dict[PackId, PackTable] = {}
        """Packs that only a damaged index file names, until a session names them anew."""
        self._snapshots: dict[str, Snapshot] = {}
        self.summaries: dict[str, SummaryRows] = {}
        """What is in the summaries that were read, by their names."""
        self.unsummarised = 0
        """How many snapshots were in none of them when they were last asked for."""
        self.avoided: frozenset[PackId] = frozenset()
        """Packs that a sweep has doomed: whoever writes does not build on them."""
        self.damage = KnownDamage(place, keys)
        """What is known to be damaged here."""
        self.mending = Mending(single(place), self.damage)
        self.packs = PackReader(place, keys, self.mending)
        self.kept: NothingKept = NOTHING_KEPT
        self.look = Look()
        """What a thread saw of the snapshots, while it works on what it saw; ``summaries.one_look``."""
        self._lock = threading.RLock()
        self._recent = RecentChunks()

    @property
    def index(self) -> ChunkIndex:
        """Where the chunks lie; read from the store at first use and when ``refresh`` was called."""
        with self._lock:
            if self._index is None:
                self._index = ChunkIndex()
                self.refresh()
            return self._index

    def refresh(self) -> None:
        """Take notice of index files and records of damage that were added since. When index files are gone,
        a sweep has deleted packs, and all is read anew: nothing may be built on what the old ones named. What
        a damaged one named is taken from the packs themselves.

        Raises:
            PlaceError: the disk gives nothing any more.
        """
        with self._lock:
            self.damage.refresh()
            present = self.own_names(INDEX_FOLDER)
            if self._index_files - set(present):
                self._index, self._index_files = None, set()
            index = self._index = self._index if self._index is not None else ChunkIndex()
            read = [self._read_index(name, index) for name in present if name not in self._index_files]
            if not all(read):
                self._unnamed.update({table.pack: table for table in self.unnamed_packs()})
                index.add(self._unnamed.values())

    def _read_index(self, name: str, index: ChunkIndex) -> bool:
        """Whether an index file could be read, or has gone meanwhile."""
        file = f"{INDEX_FOLDER}/{name}"
        try:
            index.add(decode_tables(self.read_known(FileKind.INDEX, file), file))
        except NotInPlaceError:
            return True
        except DamageError as error:
            self.damage.note(error)
            return False
        self._index_files.add(name)
        return True

    def unnamed_packs(self, files: Collection[str] | None = None) -> list[PackTable]:
        """The tables of whole packs that no index file names: a run was cut off after it wrote them, or an
        index file is damaged.

        :param files: those in the folder of packs, if they were listed a moment ago.

        Raises:
            PlaceError: the disk gives nothing any more.
        """
        found = dict(self._unnamed)
        named = self._index.pack_files if self._index is not None else set()
        present = self.place.names(PACK_FOLDER) if files is None else files
        if named.issuperset(present):
            return list(found.values())
        for file in sorted(set(present) - named):
            pack = pack_of(f"{PACK_FOLDER}/{file}")
            if pack is None or pack in found or pack in self.avoided:
                continue
            with contextlib.suppress(DamageError, NotInPlaceError):
                found[pack] = self.table_of(pack)
        return list(found.values())

    def own_names(self, folder: str) -> list[str]:
        """The names in a folder that a store gives to its files; nothing else in it counts."""
        return own_names(self.place.names(folder))

    def read_sealed(self, kind: FileKind, file: str) -> bytes:
        """The content of a sealed file, authenticated.

        Raises:
            DamageError: it is not intact, or the disk does not give it. NotInPlaceError: it is not there.
            PlaceError: the disk gives nothing any more.
        """
        return self._sealed(kind, file)[1]

    def read_known(self, kind: FileKind, file: str) -> bytes:
        """As ``read_sealed``; of a store far away from what this machine keeps of it."""
        if self.kept is NOTHING_KEPT:
            return self.read_sealed(kind, file)
        use = partial(open_whole, self.keys, kind, file_name_bytes(file.rpartition("/")[2], file), file=file)
        return self.kept.held(file, use, partial(self.whole_file, kind, file))

    def keep_with(self, kept: NothingKept) -> None:
        """Keep what is read of it on this machine, and read it from there."""
        self.kept = self.packs.kept = kept

    def whole_file(self, kind: FileKind, file: str) -> bytes:
        """The bytes of a sealed file as they lie, once they are authenticated.

        Raises:
            As ``read_sealed``.
        """
        return self._sealed(kind, file)[0]

    def _sealed(self, kind: FileKind, file: str) -> tuple[bytes, bytes]:
        """A sealed file as it lies, and its content; from its second copy where it is damaged itself."""
        name = file_name_bytes(file.rpartition("/")[2], file)
        try:
            with damage_of(self.place, file, missing=False):
                data = self.place.read(file)
                return data, open_whole(self.keys, kind, name, data, file)
        except DamageError as error:
            damage = error
        copy = read_copy(self.place, file) if self.layout.version > 1 and is_doubled(file) else None
        if copy is None:
            raise damage
        try:
            plain = open_whole(self.keys, kind, name, copy, file)
        except DamageError:
            raise damage from None
        self.mending.put_right(file, copy)
        return copy, plain

    @property
    def layout(self) -> Layout:
        """How its packs are made."""
        return Layout(self.header.format, self.header.parity)

    def write_sealed(self, kind: FileKind, folder: str, plain: bytes, owner: str) -> Written:
        """Write a sealed file into a folder of the store, under a fresh name.

        Raises:
            PlaceError: the disk does not take it.
        """
        version = self.layout.version if kind is FileKind.INDEX else 1
        name, data = seal_new(self.keys, kind, plain, version)
        with self.place.create(f"{folder}/{name.hex()}", owner) as file:
            file.write(data)
            file.commit()
        if kind in (FileKind.INDEX, FileKind.SUMMARY):
            self.kept.put([(f"{folder}/{name.hex()}", data)])
        return Written(name.hex(), len(data))

    def know_index(self, name: str, tables: Sequence[PackTable]) -> None:
        """Take notice of an index file that was just written through this object; should it vanish, a sweep
        has replaced it."""
        with self._lock:
            self.index.add(tables)
            self._index_files.add(name)
            for table in tables:
                self._unnamed.pop(table.pack, None)

    @property
    def index_files(self) -> frozenset[str]:
        """Names of the index files that the index was read from: while they are there, so is what they
        name."""
        return frozenset(self._index_files)

    def forget_index(self) -> None:
        """Read the index anew when it is next needed: index files were replaced."""
        with self._lock:
            self._index, self._index_files = None, set()
            self._snapshots.clear()

    def snapshot_ids(self) -> list[SnapshotId]:
        """All snapshots, readable or not."""
        return cast(list[SnapshotId], self.own_names(SNAPSHOT_FOLDER))

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
            plain = self.read_known(FileKind.SNAPSHOT, file)
            record = unpacked(plain, SnapshotRecord, file, "a snapshot")
            known = Snapshot.of(name, record)
            with self._lock:
                self._snapshots[name] = known
        return known

    def snapshot_file(self, name: SnapshotId) -> bytes:
        """The sealed file of a snapshot, authenticated.

        Raises:
            DamageError: it is not intact. NotInPlaceError: it is not there.
        """
        return self.whole_file(FileKind.SNAPSHOT, f"{SNAPSHOT_FOLDER}/{name}")

    def snapshots(self) -> tuple[list[Snapshot], list[DamageError]]:
        """All readable snapshots in order of time, and what is wrong with the others."""
        found, damage = [], []
        for name in self.snapshot_ids():
            try:
                found.append(self.read_snapshot(name))
            except NotInPlaceError:
                continue
            except DamageError as error:
                self.damage.note(error)
                damage.append(error)
        found.sort(key=lambda snapshot: (snapshot.time, snapshot.id))
        return found, damage

    def has(self, identity: ChunkId) -> bool:
        """Whether a chunk need not be written again: it lies in a pack that stays, and is not known to be
        damaged there."""
        return self.place_of(identity) is not None

    def place_of(self, identity: ChunkId) -> Location | None:
        """Where a chunk lies that may be built on."""
        return self.index.find(identity, self.avoided, self._is_bad)

    @property
    def leans(self) -> bool:
        """Whether new chunks may lean on others."""
        return LEANING in self.header.features

    @property
    def _is_bad(self) -> Callable[[PackId, int], bool] | None:
        return self.damage.is_bad if self.damage.packs else None

    def indexes(self) -> list[ChunkIndex]:
        """Where chunks that snapshots may be built on are looked for."""
        return [self.index]

    def has_all(self, identities: bytes) -> bool:
        """Whether of chunks, whose identities lie one after the other, each one is there and not known to be
        damaged. For what an earlier snapshot refers to: packs that are doomed count."""
        if not identities:
            return True
        keys = keys_of(identities)
        if not np.logical_or.reduce([index.known(keys) for index in self.indexes()]).all():
            return False
        return not self.damage.packs or all(
            any(index.find(one, is_bad=self._is_bad) is not None for index in self.indexes())
            for one in each_id(identities)
        )

    def read_chunk(self, identity: ChunkId) -> bytes:
        """The plain bytes of a chunk, authenticated; from any place where it lies whole.

        Raises:
            DamageError: it is missing or not intact.
            PlaceError: the disk does not give it.
        """
        return self._read_chunk(identity, DEEPEST)

    def _read_chunk(self, identity: ChunkId, depth: int) -> bytes:
        plain = self._recent.get(identity)
        if plain is None:
            plain = self._read_anywhere(identity, depth)
            self._recent.keep(identity, plain)
        return plain

    def leans_on(self, location: Location, depth: int = DEEPEST) -> bytes:
        """The plain bytes of the chunks that a chunk leans on where it lies, one after the other.

        Raises:
            DamageError, PlaceError: as ``read_chunk``.
        """
        found: list[bytes] = []
        for base in each_id(location.bases):
            if not depth or sum(map(len, found)) > BASES_LIMIT:
                raise DamageError(tr("A chunk leans on more than it may"), file=pack_file(location.pack))
            found.append(self._read_chunk(base, depth - 1))
        return b"".join(found)

    def _read_anywhere(self, identity: ChunkId, depth: int) -> bytes:
        """From the first place where a chunk is whole, those known to be damaged last. When it is nowhere, or
        a pack is gone, the index is read anew once: a sweep may have put it elsewhere."""
        failed: dict[PackId, DamageError] = {}
        without: list[DamageError] = []
        for again in (False, True):
            for location in self._locations(identity):
                if location.pack in failed:
                    continue
                try:
                    leans_on = self.leans_on(location, depth)
                except DamageError as error:  # noted where that lies
                    without.append(error)
                    continue
                try:
                    return self.packs.chunk(identity, location, leans_on)
                except DamageError as error:
                    failed[location.pack] = error
                    if error.harm is not Harm.MISSING:
                        self.damage.note(error, location.number)
            missing = [pack for pack, error in failed.items() if error.harm is Harm.MISSING]
            if (
                again
                or not all(pack not in self.damage.packs for pack in missing)
                or (failed and not missing)
            ):
                break
            self.forget_index()
        for pack in missing:
            if pack in self.index.tables:
                self.damage.note(failed[pack])
        raise next(
            iter([*failed.values(), *without]),
            DamageError(
                tr("A chunk that a snapshot needs is in no pack of this store"),
                file=INDEX_FOLDER,
                harm=Harm.MISSING,
            ),
        )

    def _locations(self, identity: ChunkId) -> list[Location]:
        with self._lock:
            found = list(self.index.locations(identity))
            if not found:
                self.refresh()
                found = list(self.index.locations(identity))
        return sorted(found, key=lambda one: (self.damage.is_bad(one.pack, one.number), bool(one.bases)))

    def table_of(self, pack: PackId) -> PackTable:
        """The table at the end of a pack.

        Raises:
            DamageError: it is not there whole. PlaceError: the disk gives nothing any more.
        """
        known = self._index.tables.get(pack) if self._index is not None else None
        size = known.size if known is not None else None if self.layout.parity else 0
        return self.packs.table(pack, size)

    def forget_recent(self) -> None:
        """Read from the disk again what was kept in memory."""
        self._recent.clear()

    @contextlib.contextmanager
    def read_back(self) -> Iterator[None]:
        """Read everything from where the store lies, and nothing from what this machine keeps of it; look at
        every seal."""
        kept, self.packs.proves = self.kept, True
        self.keep_with(NOTHING_KEPT)
        try:
            yield
        finally:
            self.packs.proves = False
            self.keep_with(kept)

    def page_bytes(self, page: PageId) -> bytes:
        """The plain bytes of a page of a folder's listing; ``Page`` refuses what is none."""
        chunk, (offset, length) = self.read_chunk(chunk_of(page)), part_of(page)
        return chunk[offset : offset + length] if length else chunk

    def page(self, page: PageId) -> Page:
        """A page of a folder's listing."""
        return Page(self.page_bytes(page))

    def listing(self, pages: Iterable[PageId]) -> list[Entry]:
        """All entries of a folder, in the order of their names' bytes."""
        return [entry for page in pages for entry in self.page(page).entries()]

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
    header, keys = unlock(place, passphrase)
    return Store(Doubled(place) if header.format > 1 else place, header, keys)
