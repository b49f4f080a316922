"""The holding area: the near end of a store whose disk is away. ``docs/format.md`` ("Holding area") gives the
files.

It holds copies of the store's header and key slots, so that it opens with the store's own passphrase and
keys; the listings of the newest snapshot on the disk; a table of the chunks that lie on the disk; and,
complete but for those chunks, the snapshots taken since. Chunks have the same identities here and there.
"""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Iterable
from pathlib import Path

from good_tide.core.deep import Deep, walked
from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import DamageError, NotInPlaceError
from good_tide.core.identifiers import CHUNK_ID_BYTES, ChunkId, PageId, SnapshotId, chunk_of
from good_tide.core.records import Snapshot
from good_tide.core.translation import tr
from good_tide.crypto.seals import StoreKeys
from good_tide.storage.doomed import read_doomed
from good_tide.storage.envelope import FileKind
from good_tide.storage.folder_place import FolderPlace
from good_tide.storage.folders import INDEX_FOLDER, PACK_FOLDER, SNAPSHOT_FOLDER
from good_tide.storage.header import HEADER_FILE, SLOT_FOLDER, Header, unlock
from good_tide.storage.index import ChunkIndex, decode_tables, encode_tables
from good_tide.storage.marks import HOLDING_OWNER, WRITER_FOLDER, leave_mark, remove_mark, seen_marks
from good_tide.storage.missing_packs import notice_missing
from good_tide.storage.packed import pack_file
from good_tide.storage.packs import Layout, PackTable
from good_tide.storage.place import Place, disk_errors
from good_tide.storage.store import Store
from good_tide.storage.summaries import known_snapshots
from good_tide.storage.writer import WriteSession

DISK_FOLDER = "disk"
"""Copies of the store's header and slots."""
_THERE_FOLDER = "there"
"""Tables of the chunks that lie on the disk, each file named as an index file."""
_MARK_FOLDER = "mark"
"""The newest snapshot on the disk, of each machine: jobs of one machine that share a store have histories of
their own."""
_MARK_NAME_FILE = "mark-name"
_OWNER = "holding-"
_TIDY_PACKS = 48
"""With nothing held and so many packs of listings, they are written anew."""


class HoldingArea(Store):
    """A holding area that is open; a store for capturing into and reading from.

    :param base: the store itself while its disk is here.
    :param known: names of snapshots on the disk while it is away, as the local catalog has them.
    :param limit: bytes that the area's files may take; None: no limit.
    """

    shared = False

    def __init__(
        self, root: Path, header: Header, keys: StoreKeys, known: Iterable[str] = (), limit: int | None = None
    ) -> None:
        super().__init__(FolderPlace(root).own_files(limit), header, keys)
        self.root, self.limit = root, limit
        self.base: Store | None = None
        self._known = tuple(known)
        self._there: ChunkIndex | None = None
        self._heeded: tuple[str, ...] = ()
        self._priming = False
        """Whether listings are being taken over: what lies on the disk is then written here all the same."""

    @property
    def layout(self) -> Layout:
        """Without parity: it lies on the person's own disk for a while, and its room is limited."""
        return Layout(self.header.format)

    @property
    def there(self) -> ChunkIndex:
        """The chunks that lie on the disk; the tables are read at first use, and this object adds those that
        it writes."""
        with self._lock:
            if self._there is None:
                self._there = ChunkIndex()
                for name in self.place.names(_THERE_FOLDER):
                    file = f"{_THERE_FOLDER}/{name}"
                    self._there.add(decode_tables(self.read_sealed(FileKind.INDEX, file), file))
            return self._there

    def has(self, identity: ChunkId) -> bool:
        return identity in self.index or (not self._priming and identity in self.there)

    @property
    def leans(self) -> bool:
        return False  # what it would lean on is on the disk that is away

    def indexes(self) -> list[ChunkIndex]:
        return [self.index, self.there]

    @property
    def index_files(self) -> frozenset[str]:
        return super().index_files | set(self.place.names(_THERE_FOLDER))

    def held_names(self) -> list[SnapshotId]:
        """Names of the snapshots that wait for the disk."""
        return [SnapshotId(name) for name in self.place.names(SNAPSHOT_FOLDER)]

    def held(self) -> list[Snapshot]:
        """The snapshots that wait for the disk, oldest first."""
        found = [self.read_snapshot(name) for name in self.held_names()]
        return sorted(found, key=lambda one: (one.time, one.id))

    @property
    def marks(self) -> list[SnapshotId]:
        """The names of the newest snapshots on the disk, one of each machine, when they were last taken
        there."""
        return [SnapshotId(name) for name in self.place.names(_MARK_FOLDER)]

    def marked(self) -> dict[SnapshotId, Snapshot]:
        """Those snapshots, by their names, without any that cannot be read here: the disk has them whole, and
        they are taken over anew."""
        found = {}
        for name in self.marks:
            with contextlib.suppress(DamageError):
                found[name] = self.read_snapshot(name)
        return found

    def snapshot_ids(self) -> list[SnapshotId]:
        there = self.base.snapshot_ids() if self.base is not None else [*self._known, *self.marks]
        return sorted({*there, *self.held_names()})

    def read_snapshot(self, name: SnapshotId) -> Snapshot:
        if name in self.marks:
            return self._read_snapshot(name, _MARK_FOLDER)
        if self.base is not None and name not in self.held_names():
            return self.base.read_snapshot(name)
        if name in self._known and name not in self.held_names():
            raise NotInPlaceError(
                tr("This snapshot lies on the disk that is away"), tr("Connect it to look into the snapshot")
            )
        return super().read_snapshot(name)

    def read_chunk(self, identity: ChunkId) -> bytes:
        if identity in self.index:
            return super().read_chunk(identity)
        if self.base is not None:
            return self.base.read_chunk(identity)
        if identity in self.there:
            raise NotInPlaceError(
                tr("This content lies on the disk that is away"), tr("Connect it to read the content")
            )
        return super().read_chunk(identity)

    def prime(self, store: Store, newest: Snapshot) -> None:
        """Take over from the store, while its disk is here, what snapshots without it need.

        Raises:
            GoodTideError: the store cannot be read, or the area not be written.
        """
        if not self.held_names() and len(self.place.names(PACK_FOLDER)) > _TIDY_PACKS:
            self.begin_anew(store)
        copy_slots(store.place, self.root)
        self.note_chunks(store)
        self._priming = True
        try:
            with WriteSession(self, _OWNER) as session:
                there = [one for one in self.marked().values() if one.machine.id == newest.machine.id]
                roots = {entry.name: entry for one in there for entry in self.roots(one.record)}
                taken: set[PageId] = set()
                for entry in store.roots(newest.record):
                    walked(self._take_listing(store, session, entry, roots.get(entry.name), taken))
                session.keep()
        finally:
            self._priming = False
        sealed = store.snapshot_file(newest.id)
        readable = self.marked()
        before = [
            name
            for name in self.marks
            if name not in readable or readable[name].machine.id == newest.machine.id
        ]
        if newest.id not in before:
            with self.place.create(f"{_MARK_FOLDER}/{newest.id}", _OWNER) as file:
                file.write(sealed)
                file.commit()
        for name in before:
            if name != newest.id:
                self.place.remove(f"{_MARK_FOLDER}/{name}")

    def note_chunks(self, store: Store) -> None:
        """Note which chunks lie on the disk, but for those that a sweep is about to delete; and leave a mark
        there that this area builds on them, so that later sweeps wait for it."""
        store.refresh()
        lists = read_doomed(store)
        avoided = frozenset().union(*lists.values())
        notice_missing(store)
        tables = [whole_part(store, table) for table in store.index.packs() if table.pack not in avoided]
        standing = {table.pack: len(table) for table in tables}
        known, old = self.there.tables, self.place.names(_THERE_FOLDER)
        stale = any(standing.get(pack) != len(table) for pack, table in known.items())
        fresh = tables if stale else [table for table in tables if table.pack not in known]
        if fresh:
            self.write_sealed(FileKind.INDEX, _THERE_FOLDER, encode_tables(fresh), _OWNER)
        if stale:
            for name in old:
                self.place.remove(f"{_THERE_FOLDER}/{name}")
            with self._lock:
                self._there = None
        else:
            self.there.add(fresh)
        if fresh or stale or sorted(lists) != sorted(self._heeded) or not self._is_marked(store):
            leave_mark(store.place, WRITER_FOLDER, self._mark_owner(), lists)
            self._heeded = tuple(lists)

    def give_way(self, store: Store) -> None:
        """Let a sweep delete what it is about to: build on it no longer. Only with nothing held.

        Raises:
            PlaceError: the area or the store cannot be written.
        """
        if self.marks:
            self.note_chunks(store)
        else:  # nothing was taken over yet, and it builds on nothing
            remove_mark(store.place, WRITER_FOLDER, self._mark_owner())

    def _is_marked(self, store: Store) -> bool:
        """Whether this area's mark is in the store: a sweep takes away one that stood still for too long."""
        return any(mark.owner == self._mark_owner() for mark in seen_marks(store.place, WRITER_FOLDER))

    def _mark_owner(self) -> str:
        """The name of this area's mark in the store: made once, at random."""
        file = self.root / _MARK_NAME_FILE
        with disk_errors(tr("Writing to {root}").format(root=self.root)):
            if not file.is_file():
                file.write_text(secrets.token_hex(8))
            return HOLDING_OWNER + file.read_text()

    def _take_listing(
        self, store: Store, session: WriteSession, entry: Entry, before: Entry | None, taken: set[PageId]
    ) -> Deep[None]:
        """Copy a folder's listing and those below it.

        :param before: what stands at the same place in the snapshot that was taken over last; of its pages
            everything below is here.
        :param taken: pages of which that was done in this run, and the chunks that they lie in.
        """
        if entry.kind is not Kind.FOLDER:
            return
        there = before.pages if before is not None and before.kind is Kind.FOLDER else ()
        fresh = [page for page in entry.pages if page not in there and page not in taken]
        if not fresh:
            return
        inside: dict[bytes, Entry] = {}
        with contextlib.suppress(DamageError, NotInPlaceError):  # lost here: all below is taken again
            inside = {one.name: one for page in there for one in self.page(page).entries()}
        for page in fresh:
            chunk = chunk_of(page)
            if PageId(chunk) not in taken and not self.has(chunk):
                session.put_page(store.read_chunk(chunk))
            taken.update((page, PageId(chunk)))
            for below in store.page(page).entries():
                yield self._take_listing(store, session, below, inside.get(below.name), taken)

    def begin_anew(self, store: Store) -> None:
        """Forget everything and take over anew what each machine that took something over needs. Only with
        nothing held.

        Raises:
            GoodTideError: the store cannot be read, or the area not be written; the machines' next snapshots
                take it over.
        """
        machines = {snapshot.machine.id for snapshot in self.marked().values()}
        newest = {one.machine.id: one for one in known_snapshots(store)[0] if one.machine.id in machines}
        self.clear()
        for snapshot in newest.values():
            self.prime(store, snapshot)

    def clear(self) -> None:
        """Forget everything. Only with nothing held.

        Raises:
            PlaceError: it cannot be written.
        """
        assert not self.held_names()
        for folder in (_MARK_FOLDER, INDEX_FOLDER, PACK_FOLDER, _THERE_FOLDER):
            for name in self.place.names(folder):
                self.place.remove(f"{folder}/{name}")
        with self._lock:
            self._index, self._there = None, None
            self._index_files = set()

    def release(self, snapshot: Snapshot) -> int:
        """Let a held snapshot go, and the packs that no other snapshot here needs. Returns the bytes given
        back."""
        before = self.place.total_bytes()
        self.place.remove(f"{SNAPSHOT_FOLDER}/{snapshot.id}")
        needed = self._needed()
        kept: list[PackTable] = []
        gone: list[PackTable] = []
        for table in self.index.packs():
            (kept if any(chunk in needed for chunk in table.chunk_ids()) else gone).append(table)
        if gone:
            old = self.place.names(INDEX_FOLDER)
            self.write_sealed(FileKind.INDEX, INDEX_FOLDER, encode_tables(kept), _OWNER)
            for name in old:
                self.place.remove(f"{INDEX_FOLDER}/{name}")
            for table in gone:
                self.place.remove(pack_file(table.pack))
            with self._lock:
                self._index, self._index_files = None, set()
        return before - self.place.total_bytes()

    def _needed(self) -> set[ChunkId]:
        """Chunks that the snapshots here refer to."""
        needed: set[ChunkId] = set()
        seen: set[PageId] = set()
        snapshots = (*self.held(), *self.marked().values())
        waiting = [
            page for snapshot in snapshots for entry in self.roots(snapshot.record) for page in entry.pages
        ]
        while waiting:
            page = waiting.pop()
            if page in seen or chunk_of(page) not in self.index:
                continue
            seen.add(page)
            needed.add(chunk_of(page))
            for entry in self.page(page).entries():
                if entry.kind is Kind.FOLDER:
                    waiting += entry.pages
                else:
                    needed.update(extent.chunk for extent in entry.extents if extent.chunk is not None)
        return needed


def whole_part(store: Store, table: PackTable) -> PackTable:
    """A table without the chunks that are known to be damaged; it is good for their identities only."""
    if table.pack not in store.damage.packs:
        return table
    whole = [number for number in range(len(table)) if not store.damage.is_bad(table.pack, number)]

    def rows(column: bytes, width: int) -> bytes:
        return b"".join(column[number * width : (number + 1) * width] for number in whole)

    bases = [ids for number in whole if (ids := table.bases_of(number))]
    return PackTable(
        table.pack,
        table.holds,
        rows(table.ids, CHUNK_ID_BYTES),
        rows(table.stored, 4),
        rows(table.plain, 4),
        rows(table.squeezed, 1),
        leaning=bytes(len(ids) // CHUNK_ID_BYTES for ids in bases),
        bases=b"".join(bases),
    )


def copy_slots(place: Place, root: Path) -> None:
    """Copy a store's header and key slots into a holding area, and forget slots that the store no longer
    has."""
    target = FolderPlace(root).files()
    root.mkdir(parents=True, exist_ok=True, mode=0o700)
    slots = place.names(SLOT_FOLDER)
    for name in (*(f"{SLOT_FOLDER}/{slot}" for slot in slots), HEADER_FILE):
        data, copy = place.read(name), f"{DISK_FOLDER}/{name}"
        if not (root / copy).exists() or target.read(copy) != data:
            with target.create(copy, _OWNER) as file:
                file.write(data)
                file.commit()
    for slot in target.names(f"{DISK_FOLDER}/{SLOT_FOLDER}"):
        if slot not in slots:
            target.remove(f"{DISK_FOLDER}/{SLOT_FOLDER}/{slot}")


def open_holding(root: Path, passphrase: str | None, known: Iterable[str], limit: int | None) -> HoldingArea:
    """Open a holding area while the store's disk is away.

    Raises:
        PlaceError: there is none. WrongPassphraseError: the passphrase is wrong, or needed.
    """
    place = FolderPlace(root / DISK_FOLDER).files()
    header, keys = unlock(place, passphrase)
    return HoldingArea(root, header, keys, known, limit)
