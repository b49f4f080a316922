"""The way through the covered folders."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Sequence
from pathlib import Path
from types import TracebackType
from typing import Self

from good_tide.core.coverage import FolderState
from good_tide.core.deep import Deep, walked
from good_tide.core.entries import DEEPEST, Entry, Kind, Reason
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.pages import Page, encode_page
from good_tide.core.progress import Stage
from good_tide.core.records import Snapshot, SnapshotRecord
from good_tide.core.translation import tr
from good_tide.lines.mounts import own_mounts
from good_tide.operations.coverage.selecting import Selector
from good_tide.operations.snapshot.file_taking import FileTaking
from good_tide.operations.snapshot.folders_ahead import FoldersAhead
from good_tide.operations.snapshot.last_listings import LastListings
from good_tide.operations.snapshot.listing_drafts import (
    DraftQueue,
    FolderDraft,
    LateEntry,
    LateFolder,
    draft_after,
)
from good_tide.operations.snapshot.looking import NOTHING_CLEAN
from good_tide.operations.snapshot.new_folders import Terms
from good_tide.operations.snapshot.new_trees import NewTrees
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.snapshot.run_memory import RunMemory
from good_tide.operations.snapshot.run_notes import RunNotes
from good_tide.operations.snapshot.sightings import NO_STAMPS, key_of, look_of, packed_look, packed_stamps
from good_tide.operations.snapshot.small_files import Before, Fresh, SmallFiles, StoredSmall, is_small
from good_tide.operations.snapshot.unchanged import (
    Replaced,
    Was,
    is_same,
    looks_unchanged,
    same_folder,
    was_at,
)
from good_tide.source.databases import with_log
from good_tide.source.folders import (
    Found,
    extra_of,
    open_folder,
    read_attributes,
    read_link,
    reason_of,
    scan,
    stat_of,
)
from good_tide.source.sight import seen_of
from good_tide.storage.store import Store
from good_tide.storage.writer import WriteSession

_MOST_WAITING_ENTRIES = 20_000


class Walk:
    """The way through the covered folders, which makes their listings."""

    def __init__(
        self,
        store: Store,
        session: WriteSession,
        notes: RunNotes,
        last: Snapshot | None,
        stored_small: StoredSmall | None,
        memory: RunMemory,
    ) -> None:
        self._store, self._session, self._notes, self._last = store, session, notes, last
        self._log, self._sightings = memory.log, memory.sightings
        self.selector: Selector | None = None
        """Decides what is in; everything is without one."""
        self.small = SmallFiles(store, session, stored_small, lambda *file: self.files.file_or_gap(*file))
        notes.small = self.small
        self.queue = DraftQueue(session, self._log.note_folder, self._listed, joins=store.layout.version > 1)
        self.files = FileTaking(store, session, self.small, self.queue, memory, notes)
        self.clean = NOTHING_CLEAN
        """Folders that were looked at before."""
        self._new: NewTrees
        """Takes in what is new."""
        self._own_places: set[tuple[int, int]] = set()
        self._own_mounts = {os.fsencode(point): device for point, device in own_mounts().items()}
        self._device = 0
        self.listings = LastListings(store, session, memory.sightings)

    def __enter__(self) -> Self:
        self.small.__enter__()
        self.files.__enter__()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.files.__exit__(kind, error, trace)
        self.small.__exit__(kind, error, trace)

    def leave_out_own(self, folders: Sequence[Path]) -> None:
        """Leave out folders of this program."""
        for folder in folders:
            with contextlib.suppress(OSError):
                info = os.stat(folder)
                self._own_places.add((info.st_dev, info.st_ino))

    def take(self, folders: Sequence[Path], request: CaptureRequest, moment: Nanoseconds) -> Snapshot:
        """Walk, write, publish."""
        before = {entry.name: entry for entry in self._store.roots(self._last.record)} if self._last else {}
        with self.begun(request, moment):
            found = [
                self.root(path, path, was_at(path, before.get(path))) for path in map(os.fsencode, folders)
            ]
            return self.publish([one for one in found if one is not None], request, moment)

    @contextlib.contextmanager
    def begun(self, request: CaptureRequest, moment: Nanoseconds) -> Iterator[None]:
        """With what walks ahead, until the snapshot is published."""
        goes_on = not self._log.is_empty
        terms, tick, first = self._terms(request, moment), self._notes.checkpoint, self._last is None
        with FoldersAhead(terms, tick, goes_on, first) as ahead:
            self._new = NewTrees(ahead, self.small, self._notes, self.finished, self._folder_entry)
            yield

    def _terms(self, request: CaptureRequest, moment: Nanoseconds) -> Terms:
        """What helpers have to know."""
        key, own, mounts = self._store.keys.digest_key, sorted(self._own_places), self._own_mounts.values()
        covered = request.rules, request.kinds, request.home, sorted(request.network), moment
        return Terms(key, own, sorted(mounts), *covered)

    def publish(
        self, roots: Sequence[LateEntry | Entry], request: CaptureRequest, moment: Nanoseconds
    ) -> Snapshot:
        """Write what is not written yet, and make the snapshot with these covered folders visible."""
        self.files.finish()
        self.small.finish()
        self._session.settle()
        self.queue.finish()
        self._notes.report(tr("Writing"), Stage.LAST_PART)
        final = [draft.entry() if isinstance(draft, LateEntry) else draft for draft in roots]
        listed = encode_page(sorted(final, key=lambda entry: entry.name), stamped=False)
        return self._session.publish(lambda new, stored: self._record(request, moment, listed, new, stored))

    def _record(
        self, request: CaptureRequest, moment: Nanoseconds, roots: bytes, new: int, stored: int
    ) -> SnapshotRecord:
        notes, tally = self._notes, self._notes.tally(self.queue.changed_files, new, stored)
        return SnapshotRecord(
            time=moment,
            machine=request.machine,
            roots=roots,
            tally=tally,
            label=request.label,
            left_out=tuple(notes.left_out),
            unsteady=tuple(notes.unsteady),
            heavy=tuple(notes.heavy),
            owners=notes.owners,
            rules=tuple(rule.text for rule in request.rules),
            job=request.job,
        )

    def root(self, path: bytes, read: bytes, was: Was) -> LateEntry | Entry | None:
        """A covered folder, with all that is in it. None: rules leave it out.

        :param read: where it is read; elsewhere than at its path when it is a copy of it.
        """
        try:
            handle = os.open(read, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        except OSError as error:
            return self._notes.leave_out(path, path, reason_of(error), os.strerror(error.errno or 0))
        try:
            info = os.fstat(handle)
            self._device = info.st_dev
            state = (
                self.selector.enter_covered(os.fsdecode(path), info.st_dev)
                if self.selector is not None
                else None
            )
            return walked(self._folder_entry(path, path, handle, info, was, 0, state))
        finally:
            os.close(handle)

    def _folder_entry(
        self,
        name: bytes,
        path: bytes,
        handle: int,
        info: os.stat_result,
        was: Was,
        depth: int,
        state: FolderState | None,
    ) -> Deep[LateEntry | Entry | None]:
        """A folder's entry. None: rules leave it out, and nothing inside is in."""
        if (info.st_dev, info.st_ino) in self._own_places:
            return self._notes.leave_out(name, path, Reason.STORE, tr("the store itself"))
        if info.st_dev in self._own_mounts.values():
            return self._notes.leave_out(name, path, Reason.STORE, tr("earlier versions, shown as folders"))
        if depth > DEEPEST:
            return self._notes.leave_out(
                name, path, Reason.TOO_DEEP, tr("more than {DEEPEST} folders deep").format(DEEPEST=DEEPEST)
            )
        try:
            attributes = read_attributes(handle)
            draft = yield self._folder(path, handle, was, depth, state)
        except OSError as error:
            return self._notes.leave_out(name, path, reason_of(error), os.strerror(error.errno or 0))
        if draft is None:
            return None
        self._notes.folders += 1
        self._notes.note_owner(info)
        return LateFolder(name, draft, stat_of(info), extra_of(info, attributes))

    def _folder(
        self, path: bytes, handle: int, was: Was, depth: int, state: FolderState | None
    ) -> Deep[FolderDraft | None]:
        """Take in an open folder."""
        self._notes.checkpoint()
        before = was.pages
        found, missed = scan(handle)
        seen = seen_of(found) if not missed else b""
        turn = self.selector.coverage.turn(item.info.st_mtime_ns for item in found) if self.selector else 0
        inside: dict[bytes, FolderState] = {}
        if self.selector is not None and state is not None:
            found, missed, inside = self.selector.keep(found, missed, handle, state, self._device)
            if state.out and not found and not missed:
                return None
        look = packed_look(look_of(seen, found, turn)) if seen else b""
        pages = self.listings.pages(was)
        intact = len(pages) == len(before) and all(self.listings.has_all(page.chunk_ids) for page in pages)
        if not missed and intact and looks_unchanged(found, pages):
            unchanged: FolderDraft | None = yield self._unchanged(
                path, handle, found, pages, was, depth, inside, look
            )
            if unchanged is not None:
                return unchanged
        known = {entry.name: entry for page in pages for entry in page.entries()}
        lost = set() if intact else self.listings.lost(known.values())
        self._notes.lost_files += len(lost)
        read_before = self._log.files_of(path)
        draft = draft_after(path, len(found), pages, before, look)
        for miss in missed:
            inside_path = path + b"/" + miss.name
            reason = Reason.STORE if inside_path in self._own_mounts else miss.reason
            draft.add(self._notes.leave_out(miss.name, inside_path, reason, miss.detail))
        small: list[Fresh] = []
        replaced = Replaced(found, known)
        logs = with_log(found)
        emptied: set[bytes] = set()
        for at, item in enumerate(found):
            if item.name in logs or item.name in emptied:
                taken = self._one_state(item, path, handle, replaced.before(item), item.name in emptied)
                if taken is not None:
                    draft.add(taken)
                    emptied |= {logs[item.name]} if item.name in logs else set()
                    continue
            before_item = known.get(item.name) if known else None
            earlier = read_before.get(item.name) if read_before else None
            same = is_same(item, before_item) and item.name not in lost
            if earlier is not None and not same and is_same(item, earlier):
                draft.add(self.files.read_before(item, earlier, before_item))
            elif is_small(item) and not same:
                self._notes.note_owner(item.info)
                small.append((item, replaced.before(item)))
            else:
                if item.kind is Kind.FOLDER:
                    own = was_at(was.path, replaced.folder(item), inside=True)
                    if own.entry is None:
                        new = [item] if known else found[at:]
                        self._new.ask(new, path, handle, depth, self._device, inside)
                    entry = yield self._sub_folder(item, path, handle, own, depth, inside)
                else:
                    entry = self._item(item, path, handle, replaced.before(item), same)
                if entry is not None:
                    draft.add(entry)
        if not known:
            self._new.walked(len(found))
        if small:
            self._notes.current = path
            self.small.read(draft, path, handle, small)
            self._notes.report(tr("Reading"))
        if state is not None and state.out and not small and not draft.entries:
            return None
        self.finished(draft)
        return draft

    def _one_state(
        self, item: Found, path: bytes, handle: int, before: Before, emptied: bool
    ) -> LateEntry | Entry | None:
        """A database that is open now, or its log once that is taken in. None: it is taken as any file."""
        if emptied:
            return self.files.emptied_log(item, before)
        self._notes.note_owner(item.info)
        return self.files.database(item, path, handle, before)

    def finished(self, draft: FolderDraft) -> None:
        """Let a folder's listing be written when it can; what is new and not yet handed in is, before too
        much waits for it."""
        self.queue.finished(draft)
        if self.queue.waiting_entries > _MOST_WAITING_ENTRIES:
            self.files.finish()
            self.small.flush()

    def _listed(self, draft: FolderDraft) -> None:
        """A folder's listing was handed in."""
        assert draft.pages is not None
        self._sightings.note(draft.path, draft.look, draft.pages, draft.stamps)
        self.clean.changed.discard(key_of(draft.path))
        draft.stamps = NO_STAMPS

    def _unchanged(
        self,
        path: bytes,
        handle: int,
        found: Sequence[Found],
        pages: Sequence[Page],
        was: Was,
        depth: int,
        inside: dict[bytes, FolderState],
        look: bytes,
    ) -> Deep[FolderDraft | None]:
        """A folder whose own files are unchanged: its sub-folders decide. None: it must be listed anew after
        all."""
        folders = [item for item in found if item.kind is Kind.FOLDER]
        if "x" in pages[0].kinds or any("x" in page.kinds for page in pages):
            return None
        if not folders:
            self._count_unchanged(found)
            return self._as_before(path, found, was, look)
        known = {entry.name: entry for page in pages for entry in page.entries()}
        draft = draft_after(path, len(found), pages, was.pages, look)
        same = True
        for item in folders:
            own = was_at(was.path, known[item.name], inside=True)
            entry = yield self._sub_folder(item, path, handle, own, depth, inside)
            if entry is None:
                same = False
                continue
            draft.add(entry)
            old = known[item.name]
            same = same and isinstance(entry, LateFolder) and same_folder(entry, old)
        files = [item for item in found if item.kind is not Kind.FOLDER]
        self._count_unchanged(files)
        if same:
            return self._as_before(path, found, was, look)
        draft.entries += [known[item.name] for item in files]
        self.finished(draft)
        return draft

    def _as_before(self, path: bytes, found: Sequence[Found], was: Was, look: bytes) -> FolderDraft:
        """A folder that is as the last snapshot has it."""
        draft = FolderDraft(was.pages, path)
        draft.look = look
        draft.stamps = packed_stamps(
            [number for item in found for number in (item.info.st_ctime_ns, item.info.st_ino)]
        )
        self._listed(draft)
        return draft

    def _count_unchanged(self, files: Sequence[Found]) -> None:
        sizes = [info.st_size for _, _, kind, info in files if kind is Kind.FILE]
        self._notes.files += len(sizes)
        self._notes.bytes += sum(sizes)
        self._notes.report(tr("Reading"))

    def _item(self, item: Found, path: bytes, handle: int, before: Before, same: bool) -> LateEntry | Entry:
        if item.kind is None:
            return self._notes.leave_out(
                item.name, path + b"/" + item.name, Reason.SPECIAL, tr("socket, pipe or device")
            )
        if before.own is not None and same:
            if item.kind is Kind.FILE:
                self._notes.count_file(item.info.st_size)
            return before.own
        self._notes.note_owner(item.info)
        if item.kind is Kind.FILE:
            return self.files.file_or_gap(item, path, handle, before)
        try:
            target = read_link(item.text, handle)
        except OSError as error:
            return self._notes.leave_out(
                item.name, path + b"/" + item.name, reason_of(error), os.strerror(error.errno or 0)
            )
        return Entry(item.name, Kind.LINK, stat_of(item.info), extra=extra_of(item.info, target=target))

    def _sub_folder(
        self,
        item: Found,
        path: bytes,
        handle: int,
        was: Was,
        depth: int,
        states: dict[bytes, FolderState],
    ) -> Deep[LateEntry | Entry | None]:
        inside = path + b"/" + item.name
        if self._new.knows(inside):
            taken, known = yield self._new.entry(item, inside, handle)
            if taken:
                new: LateEntry | Entry | None = known
                return new
        clean = self._clean_folder(item, inside, was)
        if clean is not None:
            return clean
        try:
            child = open_folder(item.text, handle)
        except OSError as error:
            return self._notes.leave_out(item.name, inside, reason_of(error), os.strerror(error.errno or 0))
        try:
            entry: LateEntry | Entry | None = yield self._folder_entry(
                item.name, inside, child, item.info, was, depth + 1, states.get(item.name)
            )
            return entry
        finally:
            os.close(child)

    def _clean_folder(self, item: Found, path: bytes, was: Was) -> LateFolder | None:
        """A folder that was looked at and is as it was, with all inside. None: it has to be walked."""
        within = self.clean.whole.get(key_of(path))
        before = was.entry
        if (
            within is None
            or before is None
            or before.stat != stat_of(item.info)
            or not self._sightings.holds(path, was.pages)
        ):
            return None
        self._notes.files += within.files
        self._notes.bytes += within.size
        self._notes.folders += within.folders
        self._notes.report(tr("Reading"))
        return LateFolder(item.name, FolderDraft(was.pages), before.stat, before.extra)
