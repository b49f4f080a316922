"""What damage costs: the files, versions and snapshots whose content, or a part of it, is nowhere whole."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from good_tide.core.damage import Damage
from good_tide.core.deep import Deep, walked
from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import DamageError, Harm
from good_tide.core.identifiers import ChunkId, ContentDigest, PageId, chunk_of
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot
from good_tide.core.translation import tr
from good_tide.operations.history.browse import check_depth
from good_tide.storage.folders import INDEX_FOLDER
from good_tide.storage.store import Store

_MOST_NAMED = 200
"""Paths named per damaged file; the rest are counted."""


class Affected:
    """Finds what damage costs. Each page is read once.

    :param lost: chunks that are nowhere whole, with the store files that had them.
    :param see: told of each file, and its path, that has lost content.
    """

    def __init__(
        self,
        store: Store,
        lost: dict[ChunkId, str],
        control: Control,
        see: Callable[[Entry, bytes], None] = lambda entry, path: None,
    ) -> None:
        self._store, self._lost, self._control, self._see = store, lost, control, see
        self.found: dict[str, Damage] = {}
        self.pages: dict[ChunkId, None] = {}
        """Lost chunks that are pages of listings, in the order in which they were met."""
        self.contents: dict[ChunkId, None] = {}
        """The same for contents of files."""
        self.versions: set[tuple[ContentDigest, ChunkId]] = set()
        """Versions of files that have lost content, and which; wherever and under whatever name they are."""
        self._below: dict[PageId, frozenset[str]] = {}
        """For each page the damaged store files that it, or what is below it, needs."""
        self._versions: dict[str, set[tuple[bytes, ContentDigest]]] = {}
        self._paths: dict[str, set[bytes]] = {}

    def note(self, error: DamageError) -> Damage:
        """Take in a damaged store file."""
        return self.found.setdefault(error.file, Damage(error.file, error.what, error.harm, [], snapshots=[]))

    def look(self, snapshots: Sequence[Snapshot]) -> None:
        """Look through the listings of snapshots, given in order of time.

        Raises:
            PlaceError: the disk gives nothing any more. StoppedError: the person stopped it.
        """
        for number, snapshot in enumerate(snapshots):
            self._control.checkpoint()
            self._control.report(Progress(tr("Looking through snapshots"), number, len(snapshots)))
            try:
                roots = self._store.roots(snapshot.record)
            except DamageError as error:
                self.note(DamageError(error.what, file=f"snapshots/{snapshot.id}"))
                continue
            files: frozenset[str] = frozenset()
            for root in roots:
                if root.kind is Kind.FOLDER:
                    for page in root.pages:
                        files |= walked(self._page(page, root.name, 0))
            for file in files:
                self.found[file].snapshots.append(snapshot.id)

    def _page(self, identity: PageId, path: bytes, depth: int) -> Deep[frozenset[str]]:
        """The damaged store files that a page, and all below it, needs."""
        known = self._below.get(identity)
        if known is not None:
            return known
        self._below[identity] = frozenset()
        files: set[str] = set()
        try:
            check_depth(depth)
            entries = self._store.page(identity).entries()
        except DamageError as error:
            file = self._lost.get(chunk_of(identity)) or error.file or INDEX_FOLDER
            self.pages[chunk_of(identity)] = None
            self._affect(self.note(DamageError(error.what, file=file, harm=error.harm)), path, None)
            files.add(file)
            entries = []
        else:
            file = self._lost.get(chunk_of(identity), "")
            if file:  # the store has it in memory still
                self.pages[chunk_of(identity)] = None
                self._affect(self._damage_of(file), path, None)
                files.add(file)
        for entry in entries:
            where = path.rstrip(b"/") + b"/" + entry.name
            if entry.kind is Kind.FOLDER:
                for page in entry.pages:
                    files |= yield self._page(page, where, depth + 1)
            else:
                files |= self._file(entry, where)
        self._below[identity] = frozenset(files)
        return self._below[identity]

    def _file(self, entry: Entry, path: bytes) -> set[str]:
        files = set()
        for extent in entry.extents:
            if extent.chunk is None:
                continue
            file = self._lost.get(extent.chunk)
            if file is None and not self._store.has_all(extent.chunk):
                file = INDEX_FOLDER
            if file is not None:
                self.contents[extent.chunk] = None
                self.versions.add((entry.digest, extent.chunk))
                self._affect(self._damage_of(file), path, entry.digest)
                files.add(file)
        if files:
            self._see(entry, path)
        return files

    def _damage_of(self, file: str) -> Damage:
        """The damage of a file that was found before, or that only the store's records tell of."""
        known = self._store.damage.files.get(file)
        what = (
            tr("Content that a snapshot needs is in no pack")
            if known is None
            else tr("{file} is {value}").format(file=file, value=known.harm.value)
        )
        harm = Harm.MISSING if known is None else known.harm
        return self.found.get(file) or self.note(DamageError(what, file=file, harm=harm))

    def _affect(self, damage: Damage, path: bytes, version: ContentDigest | None) -> None:
        versions = self._versions.setdefault(damage.file, set())
        paths = self._paths.setdefault(damage.file, set())
        if version is not None:
            versions.add((path, version))
            damage.versions = len(versions)
        if path in paths:
            return
        paths.add(path)
        if len(damage.affects) < _MOST_NAMED:
            damage.affects.append(path)
        else:
            damage.more += 1
