"""Reading a store back and checking it."""

from __future__ import annotations

import contextlib
import os

import msgspec

from good_tide.core.deep import Deep, walked
from good_tide.core.entries import Kind
from good_tide.core.errors import DamageError, PlaceError
from good_tide.core.identifiers import NAME_BYTES, ChunkId, PackId
from good_tide.core.pages import Page
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot
from good_tide.operations.history.browse import check_depth
from good_tide.storage.doomed import read_doomed
from good_tide.storage.envelope import FileKind
from good_tide.storage.index import decode_tables
from good_tide.storage.packs import PackTable, open_chunk, pack_file, read_table
from good_tide.storage.recovery_script import SCRIPT_FILE, script_state
from good_tide.storage.store import INDEX_FOLDER, PACK_FOLDER, Store, file_name_bytes

_MOST_AFFECTED = 200
"""Paths named per damaged file; the rest are counted."""


class Damage(msgspec.Struct):
    """One damaged store file: what is wrong with it, and the paths whose content it holds."""

    file: str
    what: str
    affects: list[bytes] = []
    more: int = 0


class VerifyReport(msgspec.Struct):
    """What a verification read and found. ``bytes_read`` counts bytes of store files; ``notes`` say what is
    no damage, in sentences."""

    packs: int = 0
    chunks: int = 0
    bytes_read: int = 0
    damage: list[Damage] = []
    notes: list[str] = []

    @property
    def ok(self) -> bool:
        """Whether nothing is wrong."""
        return not self.damage


def verify(store: Store, read_all: bool, control: Control) -> VerifyReport:
    """Check that everything snapshots need is there and whole.

    Always read: index, snapshots, tables of packs, all listings. With ``read_all``, every chunk too.

    Raises:
        PlaceError: the disk cannot be read.
        StoppedError: the person stopped it.
    """
    return _Verifier(store, read_all, control).run()


class _Verifier:
    def __init__(self, store: Store, read_all: bool, control: Control) -> None:
        self._store, self._read_all, self._control = store, read_all, control
        self._report = VerifyReport(damage=[], notes=[])
        self._damage: dict[str, Damage] = {}
        self._bad: dict[ChunkId, str] = {}
        self._seen: set[ChunkId] = set()
        self._doomed: frozenset[PackId] = frozenset()

    def run(self) -> VerifyReport:
        """Check index, packs, snapshots, in this order."""
        for name in self._store.place.names(INDEX_FOLDER):
            self._index_file(name)
        with contextlib.suppress(DamageError):
            self._store.refresh()
        total = self._store.place.total_bytes()
        tables = list(self._store.index.packs())
        try:
            self._doomed = frozenset().union(*read_doomed(self._store).values())
        except DamageError as unreadable:
            self._note(unreadable.file, unreadable.what)
        for table in tables:
            self._control.checkpoint()
            self._control.report(
                Progress("Verifying packs", self._report.packs, len(tables), self._report.bytes_read, total)
            )
            self._pack(table)
        self._unnamed_packs()
        found, damaged = self._store.snapshots()
        for error in damaged:
            self._note(error.file, error.what)
        for number, snapshot in enumerate(found):
            self._control.checkpoint()
            self._control.report(
                Progress("Verifying snapshots", number, len(found), self._report.bytes_read, total)
            )
            self._snapshot(snapshot)
        self._script()
        self._report.damage = list(self._damage.values())
        return self._report

    def _script(self) -> None:
        """The recovery script, which nothing on the disk protects."""
        state = script_state(self._store.place)
        if state == "unknown":
            self._note(
                SCRIPT_FILE,
                "It is not the script that Good Tide puts there: somebody may have changed it. Do not run it",
            )
        elif state != "ours":
            what = "is missing" if state == "missing" else "is that of an earlier version"
            self._report.notes.append(
                f"{SCRIPT_FILE} {what}; “good-tide store recovery-script” puts this version's there"
            )

    def _note(self, file: str, what: str) -> Damage:
        return self._damage.setdefault(file, Damage(file, what, []))

    def _index_file(self, name: str) -> None:
        file = f"{INDEX_FOLDER}/{name}"
        try:
            self._report.bytes_read += self._store.place.size(file)
            decode_tables(self._store.read_sealed(FileKind.INDEX, file), file)
        except DamageError as error:
            self._note(file, error.what)

    def _pack(self, table: PackTable) -> None:
        file = pack_file(table.pack)
        if table.pack in self._doomed and not self._exists(file):
            return  # a sweep was cut off, and the next one writes the index without it
        self._report.packs += 1
        self._report.chunks += len(table)
        try:
            own = read_table(self._store.place, self._store.keys, table.pack)
            self._report.bytes_read += len(own.ids)
            if (own.ids, own.stored) != (table.ids, table.stored):
                raise DamageError(f"{file} and the index disagree")
        except (DamageError, PlaceError) as error:
            self._note(file, error.what)
            if not self._exists(file):
                self._bad.update(dict.fromkeys(table.chunk_ids(), file))
                return
        if self._read_all:
            self._chunks(table, file)

    def _exists(self, file: str) -> bool:
        try:
            return self._store.place.size(file) > 0
        except PlaceError:
            return False

    def _chunks(self, table: PackTable, file: str) -> None:
        offsets = table.offsets().tolist()
        for number, identity in enumerate(table.chunk_ids()):
            self._control.checkpoint()
            stored = int.from_bytes(table.stored[4 * number : 4 * number + 4], "little")
            plain = int.from_bytes(table.plain[4 * number : 4 * number + 4], "little")
            try:
                sealed = self._store.place.read(file, offsets[number], stored)
                self._report.bytes_read += len(sealed)
                open_chunk(
                    self._store.keys,
                    table.pack,
                    number,
                    sealed,
                    identity,
                    plain,
                    bool(table.squeezed[number]),
                )
            except (DamageError, PlaceError) as error:
                self._note(file, error.what)
                self._bad[identity] = file

    def _unnamed_packs(self) -> None:
        """Packs that no index names belong to a run that was cut off; they are whole or they are noted."""
        known = {pack.hex() for pack in self._store.index.tables}
        for name in self._store.place.names(PACK_FOLDER):
            pack = name.rpartition("/")[2]
            if pack in known:
                continue
            try:
                identity = file_name_bytes(pack, f"{PACK_FOLDER}/{name}")
                assert len(identity) == NAME_BYTES
                read_table(self._store.place, self._store.keys, PackId(identity))
            except DamageError as error:
                self._note(f"{PACK_FOLDER}/{name}", error.what)

    def _snapshot(self, snapshot: Snapshot) -> None:
        try:
            roots = self._store.roots(snapshot.record)
        except DamageError as error:
            self._note(f"snapshots/{snapshot.id}", error.what)
            return
        for root in roots:
            if root.kind is Kind.FOLDER:
                for page in root.pages:
                    walked(self._page(page, root.name, 0))

    def _page(self, identity: ChunkId, path: bytes, depth: int) -> Deep[None]:
        """Check a page and all below it, once."""
        if identity in self._seen:
            return
        self._seen.add(identity)
        file = self._bad.get(identity)
        try:
            check_depth(depth)
            entries = Page(self._store.read_chunk(identity)).entries()
        except DamageError as error:
            self._affect(self._note(file or error.file or INDEX_FOLDER, error.what), path)
            return
        for entry in entries:
            where = path.rstrip(b"/") + b"/" + entry.name
            if entry.kind is Kind.FOLDER:
                for page in entry.pages:
                    yield self._page(page, where, depth + 1)
                continue
            for extent in entry.extents:
                if extent.chunk is not None and extent.chunk in self._bad:
                    self._affect(self._damage[self._bad[extent.chunk]], where)
                elif extent.chunk is not None and extent.chunk not in self._store.index:
                    self._affect(
                        self._note(INDEX_FOLDER, "A chunk that a snapshot needs is in no index"), where
                    )

    @staticmethod
    def _affect(damage: Damage, path: bytes) -> None:
        if len(damage.affects) >= _MOST_AFFECTED:
            damage.more += 1
        elif path not in damage.affects:
            damage.affects.append(path)


def affected_words(damage: Damage) -> list[str]:
    """The affected paths as text, with the number of those not named."""
    words = [os.fsdecode(path) for path in damage.affects]
    return [*words, f"and {damage.more} more"] if damage.more else words
