"""Carrying snapshots from one store to another: twin disks, a new disk, a holding area.

Between stores that share the identities of their chunks nothing is hashed into new listings; otherwise
listings and digests are made anew for the target. Every byte is authenticated as it is read. A carry that is
cut off goes on where it was: what is written is kept, and snapshots that arrived are known by their names.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import msgspec

from good_tide.core.deep import Deep, walked
from good_tide.core.entries import Entry, Extent, ExtentLike, Kind, page_extents
from good_tide.core.errors import DamageError, PersonError
from good_tide.core.identifiers import ChunkId, ContentDigest, PageId, chunk_of, part_of
from good_tide.core.pages import Page, encode_page
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot
from good_tide.core.translation import tr
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.storage.chunk_keys import each_id
from good_tide.storage.content import SMALL_FILE_BYTES, ContentHasher, listed_digest, read_whole, small_digest
from good_tide.storage.envelope import FileKind, open_whole, seal_again
from good_tide.storage.holding import HoldingArea
from good_tide.storage.keyslots import share_identities
from good_tide.storage.runs import RunLock
from good_tide.storage.store import Store
from good_tide.storage.writer import Ticket, WriteSession

_CARRIER = "carry"


class CarryReport(msgspec.Struct, frozen=True):
    """What a carry did. Bytes are plain bytes that were new to the target, and bytes its files grew by."""

    carried: tuple[str, ...]
    already: int
    new_bytes: int
    stored_bytes: int
    damaged: tuple[tuple[str, str], ...] = ()


def carry(
    source: Store, target: Store, chosen: Sequence[Snapshot] | None, state: Path, control: Control
) -> CarryReport:
    """Carry snapshots over, in order of time; all of them if ``chosen`` is None. What the target has already
    is left.

    Raises:
        PersonError: both are the same store. PlaceError: the target cannot be written. StoppedError: the
            person stopped it; what arrived stays, and the next carry goes on.
    """
    if source.header.store == target.header.store:
        raise PersonError(tr("Both are the same store"), tr("Choose another store to carry to"))
    return _carry(source, target, chosen, state, control)


def carry_held(area: HoldingArea, store: Store, state: Path, control: Control) -> CarryReport:
    """Carry the snapshots of a holding area to its store, in order of time, and read back what was written.
    Listings that the newest snapshots on the disk have at the same place are not looked into: they were
    complete there.

    Raises:
        GoodTideError: as ``carry``; or what was written cannot be read back.
    """

    def before() -> Sequence[Entry]:
        present = set(store.snapshot_ids())
        return [
            entry
            for name, mark in area.marked().items()
            if name in present
            for entry in area.roots(mark.record)
        ]

    return _carry(area, store, area.held(), state, control, before, read_back=True)


def _carry(
    source: Store,
    target: Store,
    chosen: Sequence[Snapshot] | None,
    state: Path,
    control: Control,
    before: Callable[[], Sequence[Entry]] = tuple,
    read_back: bool = False,
) -> CarryReport:
    """:param before: the covered folders of a snapshot that is complete in the target; asked when no sweep
    can take it away any more."""
    unreadable = source.snapshots()[1] if chosen is None else []
    snapshots = (
        source.snapshots()[0] if chosen is None else sorted(chosen, key=lambda one: (one.time, one.id))
    )
    present = set(target.snapshot_ids())
    wanted = [one for one in snapshots if one.id not in present]
    carried: list[str] = []
    damaged = [(error.file.rpartition("/")[2], str(error)) for error in unreadable]
    StoreMemory(state, target.header.store).note_coming({one.machine.id: one.time for one in wanted})
    with (
        RunLock.for_work(state, target.header.store, _CARRIER) as owner,
        WriteSession(target, owner) as session,
    ):
        carrier = _Carrier(source, target, session, control)
        there = {entry.name: entry for entry in before()}
        for number, snapshot in enumerate(wanted):
            control.checkpoint()
            control.report(Progress(tr("Carrying"), number, len(wanted), carrier.bytes, 0, snapshot.id))
            try:
                roots = carrier.roots(snapshot, there)
            except DamageError as error:
                damaged.append((snapshot.id, str(error)))
                continue
            session.publish_as(snapshot.id, carrier.sealed(snapshot, roots))
            if read_back:
                carrier.read_back()
            carried.append(snapshot.id)
    return CarryReport(
        tuple(carried), len(snapshots) - len(wanted), session.new_bytes, session.stored_bytes, tuple(damaged)
    )


class _Carrier:
    """Carries chunks and listings, each once."""

    def __init__(self, source: Store, target: Store, session: WriteSession, control: Control) -> None:
        self._source, self._target, self._session, self._control = source, target, session, control
        self._alike = share_identities(source.keys, target.keys)
        self._chunks: dict[ChunkId, ChunkId] = {}
        self._pages: dict[PageId, PageId] = {}
        self._listings: set[ChunkId] = set()
        """Chunks of listings that were handed in."""
        self._digests: dict[ContentDigest, ContentDigest] = {}
        self._written: list[ChunkId] = []
        self.bytes = 0

    def _chunk(self, identity: ChunkId) -> ChunkId:
        known = self._chunks.get(identity)
        if known is not None:
            return known
        if self._alike and self._target.has(identity):
            new = identity
        else:
            self._control.checkpoint()
            plain = self._source.read_chunk(identity)
            ticket = Ticket()
            new = ticket.chunk = identity if self._alike else self._target.keys.chunk_id(plain)
            self._session.put(plain, ticket=ticket, near=self._near(identity))
            self.bytes += len(plain)
            self._written.append(new)
        self._chunks[identity] = new
        return new

    def _near(self, identity: ChunkId) -> list[ChunkId]:
        """What a chunk leans on in the source, as the target has it; it may lean on that there too."""
        place = self._source.place_of(identity)
        return [] if place is None else [self._chunks.get(base, base) for base in each_id(place.bases)]

    def sealed(self, snapshot: Snapshot, roots: bytes) -> bytes:
        """The file of a snapshot as it goes to the target. It is the same whenever it is made: the same name
        seals one text only."""
        data = self._source.snapshot_file(snapshot.id)
        if roots == snapshot.record.roots and self._source.keys.secret == self._target.keys.secret:
            return data
        plain = open_whole(
            self._source.keys, FileKind.SNAPSHOT, bytes.fromhex(snapshot.id), data, snapshot.id
        )
        if roots != snapshot.record.roots:
            plain = msgspec.msgpack.encode(msgspec.structs.replace(snapshot.record, roots=roots))
        return seal_again(self._target.keys, FileKind.SNAPSHOT, bytes.fromhex(snapshot.id), plain)

    def read_back(self) -> None:
        """Read what was written since the last time from the target.

        Raises:
            DamageError: something is not what it was.
        """
        for chunk in self._written:
            self._control.checkpoint()
            self._target.read_chunk(chunk)
        self._written.clear()

    def roots(self, snapshot: Snapshot, there: Mapping[bytes, Entry]) -> bytes:
        """The page of a snapshot's covered folders as the target has it, everything below carried over.

        :param there: covered folders of a snapshot that is complete in the target, by their names.

        Raises:
            DamageError: something of it cannot be read.
        """
        roots = self._source.roots(snapshot.record)
        carried = [walked(self._entry(entry, there.get(entry.name))) for entry in roots]
        return snapshot.record.roots if carried == roots else encode_page(carried)

    def _page(self, identity: PageId, before: Sequence[PageId]) -> Deep[PageId]:
        known = self._pages.get(identity)
        if known is None:
            plain = self._source.page_bytes(identity)
            there = {
                entry.name: entry
                for page in before
                for entry in self._source.page(page).entries()
                if entry.kind is Kind.FOLDER
            }
            entries, carried = Page(plain).entries(), []
            for entry in entries:
                carried.append((yield self._entry(entry, there.get(entry.name))))
            if self._alike and carried == entries and self._may_lie_there(identity):
                known = identity
                chunk = chunk_of(identity)
                if chunk not in self._listings:
                    self._listings.add(chunk)
                    self._session.put_page(self._source.read_chunk(chunk), self._near(chunk))
            else:
                known = PageId(self._session.put_page(encode_page(carried)))
            self._pages[identity] = known
        return known

    def _may_lie_there(self, page: PageId) -> bool:
        """Whether the target's format knows a listing that is a part of a chunk."""
        return not part_of(page)[1] or self._target.layout.version > 1

    def _entry(self, entry: Entry, before: Entry | None = None) -> Deep[Entry]:
        """The same entry for the target, everything it refers to carried over.

        :param before: what stands at the same place in a snapshot that is complete in the target.
        """
        if entry.kind is Kind.FOLDER:
            there = before.pages if before is not None and before.kind is Kind.FOLDER else ()
            if there == entry.pages:
                return entry
            pages = []
            for page in entry.pages:
                pages.append((yield self._page(page, there)))
            return (
                entry
                if tuple(pages) == entry.pages
                else msgspec.structs.replace(entry, extents=page_extents(pages))
            )
        if entry.kind is not Kind.FILE:
            return entry
        extents: tuple[ExtentLike, ...] = tuple(self._extent(extent) for extent in entry.extents)
        digest = entry.digest if self._alike or not entry.digest else self._digest(entry, extents)
        return msgspec.structs.replace(entry, extents=extents, digest=digest)

    def _digest(self, entry: Entry, extents: Sequence[ExtentLike]) -> ContentDigest:
        """The content digest of a file by the target's keys. The same content has the same one."""
        known = self._digests.get(entry.digest)
        if known is not None:
            return known
        read = self._source.read_chunk
        if entry.stat.size <= SMALL_FILE_BYTES:
            digest = small_digest(self._target.keys, read_whole(read, entry.extents, SMALL_FILE_BYTES))
        elif entry.digest == listed_digest(self._source.keys, entry.extents):
            digest = listed_digest(self._target.keys, extents)
        else:
            hasher = ContentHasher()
            for extent in entry.extents:
                if extent.chunk is None:
                    hasher.zeros(extent.length)
                else:
                    content = memoryview(read(extent.chunk))
                    hasher.update(content[extent.offset : extent.offset + extent.length])
            digest = hasher.digest(self._target.keys)
        self._digests[entry.digest] = digest
        return digest

    def _extent(self, extent: ExtentLike) -> Extent:
        chunk = None if extent.chunk is None else self._chunk(extent.chunk)
        return Extent(chunk, extent.offset, extent.length)
