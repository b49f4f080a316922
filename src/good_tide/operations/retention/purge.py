"""Taking a path or pattern out of all history: a film that slipped in, a private file. Snapshots that hold it
are written anew without it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec
import numpy as np

from good_tide.core.clock import Clock
from good_tide.core.coverage import FolderState
from good_tide.core.deep import Deep, walked
from good_tide.core.entries import Entry, Extent, ExtentLike, page_extents
from good_tide.core.entries import Kind as EntryKind
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import ChunkId, PageId, chunk_of
from good_tide.core.pages import encode_page
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot, SnapshotRecord
from good_tide.core.translation import tr
from good_tide.core.words import count_words, printable
from good_tide.operations.records.journal import Journal
from good_tide.operations.retention.caught import CaughtFinder
from good_tide.operations.retention.pattern_meaning import meanings
from good_tide.storage.catalog_copy import remove_copies
from good_tide.storage.chunk_keys import keys_of
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.leaning import leaning_on
from good_tide.storage.needs import all_snapshots, live_chunks, needed_keys
from good_tide.storage.pins import pin, read_pins, unpin
from good_tide.storage.runs import RunLock
from good_tide.storage.store import Store
from good_tide.storage.upright import set_upright
from good_tide.storage.writer import Ticket, WriteSession

_PATHS_SHOWN = 200


class PurgePlan(msgspec.Struct, frozen=True):
    """What taking a pattern out would touch: snapshots, and paths with how many versions of each.

    :param gives_back: stored bytes that only those versions need, and at most the blocks that they share.
    :param stands: a machine's newest snapshot holds it, so that its next one will again.
    :param meant: the pattern as it is understood. :param home: what ``~`` stands for in it.
    """

    pattern: str
    snapshots: tuple[Snapshot, ...]
    paths: tuple[tuple[bytes, int], ...]
    gives_back: int
    stands: bool = False
    meant: str = ""
    home: str = ""


class _Loss(msgspec.Struct, frozen=True):
    """What is taken out of a listing and those below it: files and folders, and bytes of the files."""

    files: int = 0
    folders: int = 0
    bytes: int = 0

    def __add__(self, other: _Loss) -> _Loss:
        return _Loss(self.files + other.files, self.folders + other.folders, self.bytes + other.bytes)


def plan_purge(store: Store, pattern: str, home: str, control: Control) -> PurgePlan:
    """What taking a pattern out of all history would touch; nothing is changed. A path as this program prints
    it is taken for what it was printed for, before it is taken for a pattern.

    Raises:
        DamageError: a snapshot or a listing cannot be read, and it is not known that it is lost for good:
            what it has could not be taken out. PersonError: it is no pattern, or would leave
            nothing of what a machine has now.
    """
    if not pattern.strip():
        raise PersonError(tr("Nothing is named"), tr("Write a path or a pattern, such as *.mkv"))
    found = all_snapshots(store)
    plan = None
    for meant, own in meanings(store, found, pattern, home):
        plan = _plan_as(store, found, pattern, meant, own, control)
        if plan.snapshots:
            break
    assert plan is not None
    return plan


def _plan_as(
    store: Store, found: Sequence[Snapshot], pattern: str, meant: str, home: str, control: Control
) -> PurgePlan:
    """The plan for one meaning of a pattern."""
    finder, hits = CaughtFinder(store, meant, home), set()
    for number, snapshot in enumerate(found):
        control.checkpoint()
        control.report(Progress(tr("Looking"), number, len(found)))
        if _touches(finder, store, snapshot):
            hits.add(snapshot.id)
    newest = [one for one in {snapshot.machine.id: snapshot for snapshot in found}.values() if one.id in hits]
    for one in newest:
        if not finder.leaves_a_file(one):
            raise PersonError(
                tr("The pattern would leave nothing of what {name} has now").format(name=one.machine.name),
                tr("Write a narrower pattern, or release the snapshots instead"),
            )
    touched = [snapshot for snapshot in found if snapshot.id in hits or finder.shares(snapshot)]
    paths = sorted((path, len(versions)) for path, versions in finder.versions.items())
    return PurgePlan(
        pattern,
        tuple(touched),
        tuple(paths),
        _alone(store, finder, found, control),
        bool(newest),
        meant,
        home,
    )


def _touches(finder: CaughtFinder, store: Store, snapshot: Snapshot) -> bool:
    hits = []
    for root in store.roots(snapshot.record):
        state = finder.root_state(root)
        if not state.open:
            raise PersonError(
                tr("The pattern would take a whole covered folder out"),
                tr("Release the snapshots instead, or write a narrower pattern"),
            )
        hits += [
            finder.touches(root.name, page, state) for page in root.pages if root.kind is EntryKind.FOLDER
        ]
    return any(hits)


def _alone(store: Store, finder: CaughtFinder, found: Sequence[Snapshot], control: Control) -> int:
    """Stored bytes of the caught chunks: an upper bound where small files share blocks with others."""
    if not finder.chunks:
        return 0
    keys = np.intersect1d(np.unique(keys_of(b"".join(finder.chunks))), needed_keys(store, found, control))
    return sum(int(table.room()[live].sum()) for table, live in live_chunks(store, keys))


def purge(
    store: Store, plan: PurgePlan, state: Path, clock: Clock, journal: Journal, control: Control
) -> int:
    """Write the touched snapshots anew without what the pattern catches, each under a new name, then remove
    the old one. Pins move along. A cut in between leaves both, and the next purge goes on. How many were
    written anew. The bytes are gone with the next sweep.

    Raises:
        GoodTideError: the store cannot be read or written. StoppedError: the person stopped it; what was done
            is done.
    """
    done = 0
    with RunLock.for_work(state, store.header.store, "purge") as owner, WriteSession(store, owner) as session:
        remove_copies(store)
        writer = _Rewriter(store, session, finder := CaughtFinder(store, plan.meant, plan.home))
        # First: once the snapshots are written anew, nobody finds what is caught any more.
        set_upright(store, leaning_on(store, finder.chunks | finder.listings), f"{owner}u", control)
        pins = {known.snapshot: known.label for known in read_pins(store).values()}
        for number, snapshot in enumerate(plan.snapshots):
            control.checkpoint()
            control.report(Progress(tr("Writing anew"), number, len(plan.snapshots)))
            record = writer.record(snapshot.record)
            fresh = session.publish(lambda new, stored, record=record: record)  # type: ignore[misc]
            if snapshot.id in pins:
                pin(store, fresh.id, pins[snapshot.id])
                unpin(store, snapshot.id)
            store.place.remove(f"{SNAPSHOT_FOLDER}/{snapshot.id}")
            done += 1
        remove_copies(store)  # one that another machine put there meanwhile
        store.kept.clear()
    if done:
        detail = tuple(
            f"{printable(path)}: {count_words(versions, 'version')}"
            for path, versions in plan.paths[:_PATHS_SHOWN]
        )
        what = tr("“{pattern}” was taken out of {done}").format(
            pattern=plan.pattern, done=count_words(done, "snapshot")
        )
        journal.add(
            "note",
            None,
            what,
            detail,
            tr("It cannot be brought back. Its room comes back with the next sweep."),
        )
    return done


class _Rewriter:
    """Writes listings anew without what is caught. Other small files that share a block with it get blocks of
    their own, so that its bytes are needed by nothing."""

    def __init__(self, store: Store, session: WriteSession, finder: CaughtFinder) -> None:
        self._store, self._session, self._finder = store, session, finder
        self._pages: dict[tuple[bytes, PageId], tuple[PageId | None, _Loss]] = {}
        self._moved: dict[tuple[ChunkId, int, int], ChunkId] = {}
        for snapshot in all_snapshots(store):
            _touches(finder, store, snapshot)

    def record(self, before: SnapshotRecord) -> SnapshotRecord:
        """A snapshot's record, everything below written anew, without names of what is taken out; and with
        what is left counted."""
        entries, lost = [], _Loss()
        for root in self._store.roots(before):
            if root.kind is EntryKind.FOLDER:
                root, loss = walked(self._folder(root.name, root, self._finder.root_state(root)))
                lost += loss
            entries.append(root)
        tally, caught = before.tally, self._finder.versions
        return msgspec.structs.replace(
            before,
            roots=encode_page(entries),
            tally=msgspec.structs.replace(
                tally,
                files=tally.files - lost.files,
                folders=tally.folders - lost.folders,
                bytes=tally.bytes - lost.bytes,
            ),
            left_out=tuple(item for item in before.left_out if item.path not in caught),
            unsteady=tuple(path for path in before.unsteady if path not in caught),
            heavy=tuple(item for item in before.heavy if item.path not in caught),
        )

    def _folder(self, path: bytes, entry: Entry, state: FolderState) -> Deep[tuple[Entry, _Loss]]:
        found = []
        for page in entry.pages:
            found.append((yield self._page(path, page, state)))
        kept = [page for page, _ in found if page is not None] or [
            PageId(self._session.put_page(encode_page([])))
        ]
        lost = sum((loss for _, loss in found), _Loss())
        return msgspec.structs.replace(entry, extents=page_extents(kept)), lost

    def _page(self, path: bytes, page: PageId, state: FolderState) -> Deep[tuple[PageId | None, _Loss]]:
        """A page without what is caught, None for one that is empty then; and what was caught."""
        if (path, page) in self._pages:
            return self._pages[path, page]
        if chunk_of(page) in self._finder.lost:
            return page, _Loss()
        entries, lost = self._finder.entries(page), _Loss()
        kept: list[Entry] = []
        for entry, hit in zip(entries, self._finder.caught(state, entries), strict=True):
            if hit:
                lost += self._weight(entry)
            elif entry.kind is EntryKind.FOLDER:
                inner, loss = yield self._folder(
                    path + b"/" + entry.name, entry, self._finder.child_state(state, entry)
                )
                kept.append(inner)
                lost += loss
            else:
                kept.append(self._file(entry))
        made = (
            page
            if kept == entries and chunk_of(page) not in self._finder.joined
            else PageId(self._session.put_page(encode_page(kept)))
            if kept or not entries
            else None
        )
        self._pages[path, page] = made, lost
        return made, lost

    def _weight(self, entry: Entry) -> _Loss:
        """What an entry that is taken out held."""
        files = folders = size = 0
        waiting = [entry]
        while waiting:
            one = waiting.pop()
            if one.kind is EntryKind.FOLDER:
                folders += 1
                waiting += [inner for page in one.pages for inner in self._finder.entries(page)]
            elif one.kind is EntryKind.FILE:
                files, size = files + 1, size + one.stat.size
        return _Loss(files, folders, size)

    def _file(self, entry: Entry) -> Entry:
        """A file; a small one that shares a block with something caught gets a block of its own."""
        shared = [extent for extent in entry.extents if self._finder.is_shared(extent)]
        if not shared or any(extent.chunk in self._finder.lost for extent in shared):
            return entry
        extents = tuple(
            self._own(extent) if self._finder.is_shared(extent) else extent for extent in entry.extents
        )
        return msgspec.structs.replace(entry, extents=extents)

    def _own(self, extent: ExtentLike) -> Extent:
        assert extent.chunk is not None
        key = extent.chunk, extent.offset, extent.length
        if key not in self._moved:
            content = self._store.read_chunk(extent.chunk)[extent.offset : extent.offset + extent.length]
            ticket = Ticket()
            self._moved[key] = ticket.chunk = self._store.keys.chunk_id(content)
            self._session.put(content, ticket=ticket)
        return Extent(self._moved[key], 0, extent.length)
