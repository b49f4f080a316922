"""Reading a store back and checking it."""

from __future__ import annotations

import contextlib

import msgspec

from good_tide.core.damage import Damage
from good_tide.core.errors import DamageError, Harm, NotInPlaceError, PlaceError
from good_tide.core.identifiers import ChunkId, ContentDigest, PackId
from good_tide.core.progress import Control, Progress
from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words
from good_tide.operations.integrity.affected import Affected
from good_tide.operations.integrity.pack_check import check_pack
from good_tide.storage.copies_check import put_copies_right
from good_tide.storage.damage import pack_of
from good_tide.storage.doomed import read_doomed
from good_tide.storage.envelope import FileKind
from good_tide.storage.folders import INDEX_FOLDER, PACK_FOLDER, SNAPSHOT_FOLDER
from good_tide.storage.index import decode_tables
from good_tide.storage.needs import lost_chunks
from good_tide.storage.packed import pack_file
from good_tide.storage.packs import PackTable
from good_tide.storage.pins import PIN_FOLDER, read_pin
from good_tide.storage.recovery_script import SCRIPT_FILE, script_state
from good_tide.storage.store import Store


class VerifyReport(msgspec.Struct):
    """What a verification read and found. ``bytes_read`` counts bytes of store files; ``notes`` say what is
    no damage, in sentences; ``not_read`` says what was not looked at, empty if all was; ``mended`` are the
    files that were found damaged and put right by parity or their second copies; ``lost_versions`` are those
    that have lost content, with the chunks of it."""

    packs: int = 0
    chunks: int = 0
    bytes_read: int = 0
    damage: list[Damage] = []
    notes: list[str] = []
    not_read: str = ""
    mended: list[str] = []
    lost_versions: frozenset[tuple[ContentDigest, ChunkId]] = frozenset()

    @property
    def ok(self) -> bool:
        """Whether nothing is wrong."""
        return not self.damage


def verify(store: Store, read_all: bool, control: Control) -> VerifyReport:
    """Check that everything snapshots need is there and whole. What is found is remembered in the store.

    Always read: index, snapshots, pins, tables of packs, all listings. With ``read_all``, every chunk too.

    Raises:
        PlaceError: the disk cannot be read.
        StoppedError: the person stopped it.
    """
    with store.read_back():
        return _Verifier(store, read_all, control).run()


class _Verifier:
    def __init__(self, store: Store, read_all: bool, control: Control) -> None:
        self._store, self._read_all, self._control = store, read_all, control
        self._report = VerifyReport(damage=[], notes=[])
        self._lost: dict[ChunkId, str] = {}
        self._affected = Affected(store, self._lost, control)
        self._doomed: frozenset[PackId] = frozenset()
        self._unread = 0

    def run(self) -> VerifyReport:
        """Check index, packs, snapshots, in this order."""
        store = self._store
        for folder in (INDEX_FOLDER, SNAPSHOT_FOLDER):
            for name in set(store.place.names(folder)) - set(store.own_names(folder)):
                self._report.notes.append(
                    tr("{folder}/{name} does not belong to this store, and is passed over").format(
                        folder=folder, name=name
                    )
                )
        put_copies_right(store)
        for name in store.own_names(INDEX_FOLDER):
            self._index_file(name)
        store.forget_index()
        total = store.place.total_bytes()
        tables = list(store.index.packs())
        self._doomed = frozenset().union(*read_doomed(store).values())
        for table in tables:
            self._control.checkpoint()
            self._control.report(
                Progress(
                    tr("Verifying packs"), self._report.packs, len(tables), self._report.bytes_read, total
                )
            )
            self._pack(table)
        self._unnamed_packs()
        self._pins()
        for pack in store.damage.packs:
            if pack in store.index.tables:
                self._lost.update(dict.fromkeys(lost_chunks(store, [pack]), pack_file(pack)))
        found, damaged = store.snapshots()
        for error in damaged:
            self._affected.note(error)
        self._affected.look(found)
        self._script()
        with contextlib.suppress(PlaceError):
            store.damage.keep()
        self._report.mended = list(store.mending.files)
        self._report.lost_versions = frozenset(self._affected.versions)
        self._report.damage = [one for one in self._affected.found.values() if not self._costs_nothing(one)]
        if not self._read_all:
            self._report.not_read = tr(
                "the contents of files, {unread} in {packs}; --read-all reads them"
            ).format(unread=size_words(self._unread), packs=count_words(self._report.packs, "pack"))
        return self._report

    def _costs_nothing(self, damage: Damage) -> bool:
        """Whether a pack's damage is of no account, because all that is needed of it lies elsewhere too."""
        free = not damage.affects and not damage.snapshots and damage.file in self._store.damage.files
        if free and pack_of(damage.file) is not None:
            self._report.notes.append(
                tr("{file} is damaged, and nothing needs it any more; the next sweep takes it away").format(
                    file=damage.file
                )
            )
            return True
        return False

    def _script(self) -> None:
        """The recovery script, which nothing on the disk protects."""
        state = script_state(self._store.place)
        if state == "unknown":
            what = tr(
                "It is not the script that Good Tide puts there: somebody may have changed it. Do not run it"
            )
            self._affected.note(DamageError(what, file=SCRIPT_FILE))
        elif state != "ours":
            what = tr("is missing") if state == "missing" else tr("is that of an earlier version")
            self._report.notes.append(
                tr(
                    "{SCRIPT_FILE} {what}; “good-tide store recovery-script” puts this version's there"
                ).format(SCRIPT_FILE=SCRIPT_FILE, what=what)
            )

    def _index_file(self, name: str) -> None:
        file = f"{INDEX_FOLDER}/{name}"
        try:
            self._report.bytes_read += self._store.place.size(file)
            decode_tables(self._store.read_sealed(FileKind.INDEX, file), file)
        except DamageError as error:
            self._affected.note(error)
        except NotInPlaceError:
            return  # a sweep has replaced it

    def _pins(self) -> None:
        for name in self._store.own_names(PIN_FOLDER):
            try:
                read_pin(self._store, name)
            except DamageError as error:
                self._affected.note(error)
            except NotInPlaceError:
                continue

    def _pack(self, table: PackTable) -> None:
        file = pack_file(table.pack)
        try:
            size = self._store.place.size(file)
        except NotInPlaceError:
            if table.pack not in self._doomed:  # else a sweep was cut off, and the next one names it no more
                self._bad(
                    DamageError(tr("{file} is missing").format(file=file), file=file, harm=Harm.MISSING)
                )
            return
        self._report.packs += 1
        self._report.chunks += len(table)
        self._unread += size
        whole = True
        try:
            own = self._store.table_of(table.pack)
            self._report.bytes_read += len(own.ids)
            if (own.ids, own.stored, own.bases) != (table.ids, table.stored, table.bases):
                raise DamageError(tr("{file} and the index disagree").format(file=file), file=file)
        except DamageError as error:
            self._affected.note(error)
            whole = False
        if self._read_all:
            whole = self._chunks(table) and whole
        before = self._store.damage.files.get(file)
        if whole and before is not None and (self._read_all or before.harm is Harm.MISSING):
            self._store.damage.forget([file])  # it is back, or was mended

    def _bad(self, error: DamageError, chunk: int | None = None) -> None:
        self._affected.note(error)
        self._store.damage.note(error, chunk)

    def _chunks(self, table: PackTable) -> bool:
        """Read all of a pack; whether it is whole."""
        found = check_pack(self._store, table, self._control)
        self._report.bytes_read += found.read
        for number, error in found.damage:
            self._bad(error, number)
        return not found.damage

    def _unnamed_packs(self) -> None:
        """Packs that no index names belong to a run that was cut off; they are whole or they are noted."""
        for name in self._store.place.names(PACK_FOLDER):
            pack = pack_of(f"{PACK_FOLDER}/{name}")
            if pack is None:
                self._report.notes.append(
                    tr("{PACK_FOLDER}/{name} does not belong to this store, and is passed over").format(
                        PACK_FOLDER=PACK_FOLDER, name=name
                    )
                )
            elif pack not in self._store.index.tables:
                try:
                    self._store.table_of(pack)
                except DamageError as error:
                    self._affected.note(error)
                except NotInPlaceError:
                    continue
