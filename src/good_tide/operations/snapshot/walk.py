"""The way through the covered folders."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Iterable, Sequence
from pathlib import Path
from types import TracebackType
from typing import Self

from good_tide.core.coverage import FolderState
from good_tide.core.deep import Deep, walked
from good_tide.core.entries import DEEPEST, Entry, Kind, Reason
from good_tide.core.errors import DamageError
from good_tide.core.identifiers import Nanoseconds, PageId, chunk_of
from good_tide.core.pages import Page, encode_page
from good_tide.core.progress import Stage
from good_tide.core.records import Snapshot, SnapshotRecord, Tally
from good_tide.core.translation import tr
from good_tide.operations.coverage.selecting import Selector
from good_tide.operations.snapshot.file_taking import FileTaking
from good_tide.operations.snapshot.known_cuts import KnownCuts
from good_tide.operations.snapshot.listing_drafts import DraftQueue, FolderDraft, LateEntry, LateFolder
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.snapshot.resume_log import ResumeLog
from good_tide.operations.snapshot.run_notes import RunNotes
from good_tide.operations.snapshot.small_files import Before, Fresh, SmallFiles, StoredSmall, is_small
from good_tide.operations.snapshot.unchanged import Replaced, is_same, looks_unchanged, same_folder
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
from good_tide.storage.content import content_ids
from good_tide.storage.store import Store
from good_tide.storage.writer import WriteSession

_MOST_WAITING_ENTRIES = 20_000
_MOST_THERE = 1000


class Walk:
    """The way through the covered folders, which makes their listings."""

    def __init__(
        self,
        store: Store,
        session: WriteSession,
        notes: RunNotes,
        last: Snapshot | None,
        stored_small: StoredSmall | None,
        log: ResumeLog,
        cuts: KnownCuts,
    ) -> None:
        self._store, self._session, self._notes, self._last, self._log = store, session, notes, last, log
        self.selector: Selector | None = None
        """Decides what is in; everything is without one."""
        self._small = SmallFiles(store, session, stored_small, lambda *file: self._files.file_or_gap(*file))
        notes.small = self._small
        self._queue = DraftQueue(session, log.note_folder, joins=store.layout.version > 1)
        self._files = FileTaking(store, session, self._small, self._queue, log, cuts, notes)
        self._own_places: set[tuple[int, int]] = set()
        self._device = 0
        self._there: set[bytes] = set()
        """Identities of chunks, some together, that the store has."""
        self._started = time.monotonic()

    def __enter__(self) -> Self:
        self._small.__enter__()
        self._files.__enter__()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._files.__exit__(kind, error, trace)
        self._small.__exit__(kind, error, trace)

    def leave_out_own(self, folders: Sequence[Path]) -> None:
        """Leave out the store itself, and other folders of this program."""
        own = self._store.place.where.folder
        for folder in (*folders, *([own] if own is not None else [])):
            with contextlib.suppress(OSError):
                info = os.stat(folder)
                self._own_places.add((info.st_dev, info.st_ino))

    def take(self, folders: Sequence[Path], request: CaptureRequest, moment: Nanoseconds) -> Snapshot:
        """Walk, write, publish."""
        before = {entry.name: entry for entry in self._store.roots(self._last.record)} if self._last else {}
        drafts = []
        for folder in folders:
            draft = self._root(os.fsencode(folder), before.get(os.fsencode(folder)))
            if draft is not None:
                drafts.append(draft)
        self._files.finish()
        self._small.finish()
        self._session.settle()
        self._queue.finish()
        self._notes.report(tr("Writing"), Stage.LAST_PART)
        final = [draft.entry() if isinstance(draft, LateEntry) else draft for draft in drafts]
        roots = encode_page(sorted(final, key=lambda entry: entry.name))
        return self._session.publish(lambda new, stored: self._record(request, moment, roots, new, stored))

    def _record(
        self, request: CaptureRequest, moment: Nanoseconds, roots: bytes, new: int, stored: int
    ) -> SnapshotRecord:
        notes = self._notes
        tally = Tally(
            notes.files + self._small.files,
            notes.folders,
            notes.bytes + self._small.bytes,
            self._small.changed + self._queue.changed_files,
            new,
            stored,
            time.monotonic() - self._started,
        )
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

    def _root(self, path: bytes, before: Entry | None) -> LateEntry | Entry | None:
        try:
            handle = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
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
            return walked(self._folder_entry(path, path, handle, info, before, 0, state))
        finally:
            os.close(handle)

    def _folder_entry(
        self,
        name: bytes,
        path: bytes,
        handle: int,
        info: os.stat_result,
        before: Entry | None,
        depth: int,
        state: FolderState | None,
    ) -> Deep[LateEntry | Entry | None]:
        """A folder's entry. None: rules leave it out, and nothing inside is in."""
        if (info.st_dev, info.st_ino) in self._own_places:
            return self._notes.leave_out(name, path, Reason.STORE, tr("the store itself"))
        if depth > DEEPEST:
            return self._notes.leave_out(
                name, path, Reason.TOO_DEEP, tr("more than {DEEPEST} folders deep").format(DEEPEST=DEEPEST)
            )
        try:
            attributes = read_attributes(handle)
            pages = before.pages if before is not None and before.kind is Kind.FOLDER else ()
            draft = yield self._folder(path, handle, pages, depth, state)
        except OSError as error:
            return self._notes.leave_out(name, path, reason_of(error), os.strerror(error.errno or 0))
        if draft is None:
            return None
        self._notes.folders += 1
        self._notes.note_owner(info)
        return LateFolder(name, draft, stat_of(info), extra_of(info, attributes))

    def _folder(
        self, path: bytes, handle: int, before: tuple[PageId, ...], depth: int, state: FolderState | None
    ) -> Deep[FolderDraft | None]:
        """Take in an open folder; ``before`` are the pages of its listing in the last snapshot."""
        self._notes.checkpoint()
        found, missed = scan(handle)
        inside: dict[bytes, FolderState] = {}
        if self.selector is not None and state is not None:
            found, missed, inside = self.selector.keep(found, missed, handle, state, self._device)
            if state.out and not found and not missed:
                return None
        pages = self._pages(before)
        intact = len(pages) == len(before) and all(self._has_all(page.chunk_ids) for page in pages)
        if not missed and intact and looks_unchanged(found, pages):
            unchanged: FolderDraft | None = yield self._unchanged(
                path, handle, found, pages, before, depth, inside
            )
            if unchanged is not None:
                return unchanged
        known = {entry.name: entry for page in pages for entry in page.entries()}
        lost = set() if intact else self._lost(known.values())
        read_before = self._log.files_of(path)
        draft = FolderDraft(path=path, size=len(found))
        if len(pages) == len(before) == 1:
            draft.before = pages[0].data, before[0]
        for miss in missed:
            draft.add(self._notes.leave_out(miss.name, path + b"/" + miss.name, miss.reason, miss.detail))
        small: list[Fresh] = []
        replaced = Replaced(found, known)
        for item in found:
            before_item = known.get(item.name) if known else None
            earlier = read_before.get(item.name) if read_before else None
            same = is_same(item, before_item) and item.name not in lost
            if earlier is not None and not same and is_same(item, earlier):
                draft.add(self._files.read_before(item, earlier, before_item))
            elif is_small(item) and not same:
                self._notes.note_owner(item.info)
                small.append((item, replaced.before(item)))
            else:
                if item.kind is Kind.FOLDER:
                    entry = yield self._sub_folder(item, path, handle, replaced.folder(item), depth, inside)
                else:
                    entry = self._item(item, path, handle, replaced.before(item), same)
                if entry is not None:
                    draft.add(entry)
        if small:
            self._notes.current = path
            self._small.read(draft, path, handle, small)
            self._notes.report(tr("Reading"))
        if state is not None and state.out and not small and not draft.entries:
            return None
        self._finished(draft)
        return draft

    def _finished(self, draft: FolderDraft) -> None:
        """Let a folder's listing be written when it can; what is new and not yet handed in is, before too
        much waits for it."""
        self._queue.finished(draft)
        if self._queue.waiting_entries > _MOST_WAITING_ENTRIES:
            self._files.finish()
            self._small.flush()

    def _pages(self, before: Sequence[PageId]) -> list[Page]:
        """The pages of a listing in the last snapshot, without any that the store has lost: what they name is
        read again. One that is still in memory is stored again."""
        found = []
        for identity in before:
            with contextlib.suppress(DamageError):
                found.append(self._store.page(identity))
                if not self._has_all(chunk_of(identity)):
                    self._session.put_page(self._store.read_chunk(chunk_of(identity)))
        return found

    def _has_all(self, identities: bytes) -> bool:
        """As the store's ``has_all``. Folders side by side refer to the same few chunks; while nothing is
        damaged, those that were there a moment ago are not asked after again."""
        if self._store.damage.packs:
            return self._store.has_all(identities)
        if identities not in self._there:
            if not self._store.has_all(identities):
                return False
            if len(self._there) >= _MOST_THERE:
                self._there.clear()
            self._there.add(identities)
        return True

    def _lost(self, known: Iterable[Entry]) -> set[bytes]:
        """The names of files whose content, or a part of it, the store has lost: they are read again."""
        lost = {
            entry.name
            for entry in known
            if entry.kind is Kind.FILE and not self._store.has_all(content_ids(entry))
        }
        self._notes.lost_files += len(lost)
        return lost

    def _unchanged(
        self,
        path: bytes,
        handle: int,
        found: Sequence[Found],
        pages: Sequence[Page],
        before: tuple[PageId, ...],
        depth: int,
        inside: dict[bytes, FolderState],
    ) -> Deep[FolderDraft | None]:
        """A folder whose own files are unchanged: its sub-folders decide. None: it must be listed anew after
        all."""
        folders = [item for item in found if item.kind is Kind.FOLDER]
        if "x" in pages[0].kinds or any("x" in page.kinds for page in pages):
            return None
        if not folders:
            self._count_unchanged(found)
            return FolderDraft(before)
        known = {entry.name: entry for page in pages for entry in page.entries()}
        draft = FolderDraft(path=path, size=len(found))
        if len(pages) == 1:
            draft.before = pages[0].data, before[0]
        same = True
        for item in folders:
            entry = yield self._sub_folder(item, path, handle, known[item.name], depth, inside)
            if entry is None:
                same = False
                continue
            draft.add(entry)
            old = known[item.name]
            same = same and isinstance(entry, LateFolder) and same_folder(entry, old)
        files = [item for item in found if item.kind is not Kind.FOLDER]
        self._count_unchanged(files)
        if same:
            return FolderDraft(before)
        draft.entries += [known[item.name] for item in files]
        self._finished(draft)
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
            return self._files.file_or_gap(item, path, handle, before)
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
        before: Entry | None,
        depth: int,
        states: dict[bytes, FolderState],
    ) -> Deep[LateEntry | Entry | None]:
        inside = path + b"/" + item.name
        try:
            child = open_folder(item.text, handle)
        except OSError as error:
            return self._notes.leave_out(item.name, inside, reason_of(error), os.strerror(error.errno or 0))
        try:
            entry: LateEntry | Entry | None = yield self._folder_entry(
                item.name, inside, child, item.info, before, depth + 1, states.get(item.name)
            )
            return entry
        finally:
            os.close(child)
