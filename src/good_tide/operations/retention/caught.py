"""What a pattern catches in all of history, for taking it out."""

from __future__ import annotations

import os
from collections.abc import Sequence

from good_tide.core.coverage import Coverage, FolderState
from good_tide.core.deep import Deep, walked
from good_tide.core.entries import Entry, ExtentLike
from good_tide.core.entries import Kind as EntryKind
from good_tide.core.identifiers import CHUNK_ID_BYTES, ChunkId, PageId, chunk_of, part_of
from good_tide.core.records import Snapshot
from good_tide.core.rules import Rule, checked
from good_tide.storage.needs import known_lost
from good_tide.storage.store import Store


class CaughtFinder:
    """Finds entries that a pattern catches, in snapshots of any machine. Each listing is looked through once
    for each place it stands in."""

    def __init__(self, store: Store, pattern: str, home: str) -> None:
        self._store = store
        self.lost = known_lost(store)
        """Chunks that are lost for good: listings among them are taken for empty ones."""
        self._coverage = Coverage([checked(Rule(False, path=pattern))], home)
        self.versions: dict[bytes, set[bytes]] = {}
        """By path, the identities of the versions that are caught."""
        self.chunks: set[ChunkId] = set()
        """Chunks of contents that are caught, and pages of folders that are."""
        self.blocks: set[ChunkId] = set()
        """Those of them that hold other small files too: whoever refers to them is written anew, so that
        nothing needs them."""
        self.listings: set[ChunkId] = set()
        """Chunks of listings that name something caught."""
        self.joined: set[ChunkId] = set()
        """Those of them that hold listings of other folders too."""
        self._touched: dict[tuple[bytes, PageId], bool] = {}
        self._sharing: dict[PageId, bool] = {}

    def entries(self, page: PageId) -> list[Entry]:
        """What a listing has."""
        return [] if chunk_of(page) in self.lost else self._store.page(page).entries()

    def root_state(self, root: Entry) -> FolderState:
        """The state in a covered folder."""
        return self._coverage.enter_covered(os.fsdecode(root.name))

    def child_state(self, state: FolderState, entry: Entry) -> FolderState:
        """The state in a folder inside."""
        return self._coverage.enter(state, os.fsdecode(entry.name))

    def caught(self, state: FolderState, entries: Sequence[Entry]) -> list[bool]:
        """For each entry of a listing whether it is caught itself."""
        names, sizes = [os.fsdecode(entry.name) for entry in entries], [entry.stat.size for entry in entries]
        rules = self._coverage.files(state, names, sizes, [entry.stat.modified for entry in entries])
        return [
            not self.child_state(state, entry).open
            if entry.kind is EntryKind.FOLDER
            else self._coverage.is_out(rule)
            for entry, rule in zip(entries, rules, strict=True)
        ]

    def touches(self, path: bytes, page: PageId, state: FolderState) -> bool:
        """Whether anything in a listing, or below it, is caught; notes what."""
        return walked(self._touches(path, page, state))

    def _touches(self, path: bytes, page: PageId, state: FolderState) -> Deep[bool]:
        known = self._touched.get((path, page))
        if known is not None:
            return known
        found = False
        entries = self.entries(page)
        for entry, hit in zip(entries, self.caught(state, entries), strict=True):
            below = path + b"/" + entry.name
            if hit:
                found = True
                self._note(below, entry)
            elif entry.kind is EntryKind.FOLDER:
                inner = self.child_state(state, entry)
                for one in entry.pages:
                    inside = yield self._touches(below, one, inner)
                    found = inside or found
        if found:
            self._note_page(page)
        self._touched[path, page] = found
        return found

    def _note(self, path: bytes, entry: Entry) -> None:
        waiting = [(path, entry)]
        while waiting:
            path, entry = waiting.pop()
            if entry.kind is EntryKind.FOLDER:
                self.chunks.update(map(chunk_of, entry.pages))
                for page in entry.pages:
                    self._note_page(page)
                inside = [inner for page in entry.pages for inner in self.entries(page)]
                waiting += [(path + b"/" + inner.name, inner) for inner in inside]
            else:
                self._note_file(path, entry)

    def _note_page(self, page: PageId) -> None:
        self.listings.add(chunk_of(page))
        if part_of(page)[1]:
            self.joined.add(chunk_of(page))

    def _note_file(self, path: bytes, entry: Entry) -> None:
        chunks = [extent.chunk for extent in entry.extents if extent.chunk is not None]
        self.chunks.update(chunks)
        self.blocks.update(
            extent.chunk for extent in entry.extents if extent.chunk is not None and self._is_part(extent)
        )
        self.versions.setdefault(path, set()).add(entry.digest or b"".join(chunks))

    def _is_part(self, extent: ExtentLike) -> bool:
        """Whether an extent is less than its whole chunk."""
        found = None if extent.chunk is None else self._store.index.find(extent.chunk)
        return found is not None and (extent.offset, extent.length) != (0, found.plain)

    def is_shared(self, extent: ExtentLike) -> bool:
        """Whether a file is caught that has other content in the chunk of this extent: by it, that content
        would stay."""
        return extent.chunk in self.blocks or (extent.chunk in self.chunks and self._is_part(extent))

    def shares(self, snapshot: Snapshot) -> bool:
        """Whether a snapshot refers to a block with something caught, under whatever name."""
        return bool(self.chunks) and any(
            walked(self._page_shares(page))
            for root in self._store.roots(snapshot.record)
            for page in root.pages
        )

    def _page_shares(self, identity: PageId) -> Deep[bool]:
        lost = chunk_of(identity) in self.lost
        known = self._sharing.get(identity, False if lost else None)
        if known is None and chunk_of(identity) in self.joined:
            known = self._sharing[identity] = True
        if known is None:
            page = self._store.page(identity)
            ids = page.chunk_ids
            maybe = any(
                ChunkId(ids[at : at + CHUNK_ID_BYTES]) in self.chunks
                for at in range(0, len(ids), CHUNK_ID_BYTES)
            )
            known = maybe and any(
                self.is_shared(extent)
                for entry in page.entries()
                if entry.kind is EntryKind.FILE
                for extent in entry.extents
            )
            for below in () if known else page.folder_pages():
                known = known or (yield self._page_shares(below))
            self._sharing[identity] = known
        return known

    def leaves_a_file(self, snapshot: Snapshot) -> bool:
        """Whether anything but folders would be left in a snapshot."""
        return any(
            walked(self._page_leaves(page, self.root_state(root)))
            for root in self._store.roots(snapshot.record)
            for page in root.pages
        )

    def _page_leaves(self, page: PageId, state: FolderState) -> Deep[bool]:
        entries = self.entries(page)
        stays = [entry for entry, hit in zip(entries, self.caught(state, entries), strict=True) if not hit]
        found = any(entry.kind is not EntryKind.FOLDER for entry in stays)
        for entry in () if found else stays:
            for one in entry.pages:
                found = found or (yield self._page_leaves(one, self.child_state(state, entry)))
        return found
