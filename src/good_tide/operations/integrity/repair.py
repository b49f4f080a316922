"""Mending a store: what it has lost is brought back from wherever it still is, and what is nowhere is named,
so that everything else goes on without it.
"""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from pathlib import Path

import msgspec

from good_tide.core.damage import Damage
from good_tide.core.errors import DamageError, GoodTideError
from good_tide.core.identifiers import ChunkId, ContentDigest, SnapshotId
from good_tide.core.progress import Control, Progress
from good_tide.core.translation import tr
from good_tide.operations.integrity.affected import Affected
from good_tide.operations.integrity.from_live import LiveFiles
from good_tide.operations.integrity.verify import verify
from good_tide.storage.damage import Damaged, pack_of
from good_tide.storage.folders import INDEX_FOLDER, SNAPSHOT_FOLDER
from good_tide.storage.keyslots import share_identities
from good_tide.storage.needs import lost_chunks
from good_tide.storage.packed import pack_file
from good_tide.storage.runs import RunLock
from good_tide.storage.store import Store
from good_tide.storage.writer import WriteSession

_LIVE = tr("the files as they are now")
_ITSELF = tr("what is left of the damaged files")


class Source(msgspec.Struct, frozen=True):
    """A store that may still have what another has lost, and what it is called."""

    called: str
    store: Store


class RepairReport(msgspec.Struct):
    """What a repair did.

    :param chunks: how many lost chunks were brought back from where. :param files: store files that were
        mended otherwise, and how. :param lost: what could not be mended: the damage with all that it costs.
    :param notes: what else is worth saying, in sentences. :param lost_versions: as in ``VerifyReport``.
    """

    chunks: dict[str, int] = {}
    files: dict[str, str] = {}
    lost: list[Damage] = []
    notes: list[str] = []
    lost_versions: frozenset[tuple[ContentDigest, ChunkId]] = frozenset()

    @property
    def whole(self) -> bool:
        """Whether nothing is lost any more."""
        return not self.lost

    @property
    def mended(self) -> int:
        """How many chunks and files were mended."""
        return sum(self.chunks.values()) + len(self.files)


def repair(
    store: Store, sources: Sequence[Source], state: Path, control: Control, read_all: bool = True
) -> RepairReport:
    """Mend a store.

    :param sources: twins and holding areas that may have what it has lost; others among them are passed over.
    :param state: a local folder, for the lock.
    :param read_all: look for damage that is not known yet by reading every byte.

    Raises:
        PlaceError: the disk cannot be read or written. StoppedError: the person stopped it; what was brought
            back stays.
    """
    with RunLock.for_work(state, store.header.store, "repair") as owner:
        return _Repair(store, sources, control).run(owner, read_all)


class _Repair:
    def __init__(self, store: Store, sources: Sequence[Source], control: Control) -> None:
        self._store, self._control = store, control
        self._sources = [one for one in sources if share_identities(one.store.keys, store.keys)]
        self._report = RepairReport(chunks={}, files={}, lost=[], notes=[])

    def run(self, owner: str, read_all: bool) -> RepairReport:
        """Look, mend, and look at what is left."""
        store, report = self._store, self._report
        before = verify(store, read_all, self._control)
        store.damage.add(
            Damaged(one.file, one.harm)
            for one in before.damage
            if pack_of(one.file) is not None and one.file not in store.damage.files
        )
        with WriteSession(store, owner) as session:
            self._index_files()
            self._snapshots(session)
            self._chunks(session)
            session.keep()
        left = verify(store, False, self._control)
        report.lost, report.notes = left.damage, [*report.notes, *left.notes]
        report.lost_versions = left.lost_versions
        report.files |= dict.fromkeys(store.mending.files, tr("put right from parity or its second copy"))
        known = store.damage.files
        store.damage.add(
            msgspec.structs.replace(known[one.file], lost=True) for one in report.lost if one.file in known
        )
        store.damage.keep()
        return report

    def _index_files(self) -> None:
        """Index files that cannot be read: what they named is named anew when a session begins."""
        for name in self._store.own_names(INDEX_FOLDER):
            file = f"{INDEX_FOLDER}/{name}"
            if name not in self._store.index_files and file in self._store.damage.files:
                self._store.place.remove(file)
                self._store.damage.forget([file])
                self._report.files[file] = tr("made anew from the packs")

    def _snapshots(self, session: WriteSession) -> None:
        """Snapshots that cannot be read, from where they are readable: a holding area has the very file, a
        twin the same content, which then gets a name of its own here."""
        for error in self._store.snapshots()[1]:
            name = SnapshotId(error.file.rpartition("/")[2])
            for source in self._sources:
                with contextlib.suppress(GoodTideError):
                    if self._take_snapshot(source, name, session):
                        self._report.files[error.file] = tr("from {called}").format(called=source.called)
                        self._store.damage.forget([error.file])
                        break

    def _take_snapshot(self, source: Source, name: SnapshotId, session: WriteSession) -> bool:
        """Whether a source had a snapshot. Under one key and name only one text is ever sealed: a twin's is
        sealed otherwise."""
        record = source.store.read_snapshot(name).record
        file = f"{SNAPSHOT_FOLDER}/{name}"
        if source.store.keys.secret == self._store.keys.secret:
            data = source.store.snapshot_file(name)
            with self._store.place.create(file, "repair-") as new:
                new.write(data)
                new.commit()
        else:
            fresh = session.publish(lambda new, stored: record)
            self._report.notes.append(
                tr("The snapshot {name} was damaged; it is here again as {id}").format(
                    name=name[:12], id=fresh.id[:12]
                )
            )
            self._store.place.remove(file)
        return True

    def _chunks(self, session: WriteSession) -> None:
        """Lost chunks, from sources and from the files as they are now; again as long as a listing came back,
        which may name what is lost as well."""
        tried: set[ChunkId] = set()
        while True:
            lost = self._lost()
            live = LiveFiles(self._store.keys, lost)
            needed = Affected(self._store, lost, self._control, live.take)
            needed.look(self._store.snapshots()[0])
            pages = self._bring_back([one for one in needed.pages if one not in tried], None, session)
            self._bring_back([one for one in needed.contents if one not in tried], live, session)
            tried.update(needed.pages, needed.contents)
            session.keep()
            if not pages:
                return

    def _lost(self) -> dict[ChunkId, str]:
        store = self._store
        return {chunk: pack_file(pack) for pack in store.damage.packs for chunk in lost_chunks(store, [pack])}

    def _bring_back(self, chunks: Sequence[ChunkId], live: LiveFiles | None, session: WriteSession) -> int:
        """Bring lost chunks back, as far as that can be done; how many came.

        :param live: where contents of files come from besides the sources; None for pages of listings.
        """
        came = 0
        for number, chunk in enumerate(chunks):
            self._control.checkpoint()
            self._control.report(Progress(tr("Mending"), number, len(chunks)))
            plain, called = self._content(chunk, live)
            if plain is None:
                continue
            if live is None:
                session.put_page(plain)
            else:
                session.put(plain)
            self._report.chunks[called] = self._report.chunks.get(called, 0) + 1
            came += 1
        return came

    def _content(self, chunk: ChunkId, live: LiveFiles | None) -> tuple[bytes | None, str]:
        """The bytes of a lost chunk, and where they were found."""
        with contextlib.suppress(DamageError):
            return self._store.read_chunk(chunk), _ITSELF
        for source in self._sources:
            with contextlib.suppress(GoodTideError):
                if chunk in source.store.index:
                    return source.store.read_chunk(chunk), source.called
        if live is not None:
            for location in self._store.index.locations(chunk):
                plain = live.content(chunk, location.plain)
                if plain is not None:
                    return plain, _LIVE
        return None, ""
