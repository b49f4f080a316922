"""Taking a snapshot."""

from __future__ import annotations

import contextlib
import gc
import grp
import os
import pwd
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from types import TracebackType
from typing import Self

import msgspec
import numpy as np

from good_tide.core.clock import Clock
from good_tide.core.coverage import Coverage, FolderState
from good_tide.core.deep import Deep, walked
from good_tide.core.entries import DEEPEST, Entry, Extra, Kind, Reason, Stat
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import ChunkId, MachineId, Nanoseconds, local_name
from good_tide.core.kinds import extended
from good_tide.core.pages import Page, encode_page
from good_tide.core.progress import Control, Progress, Stage
from good_tide.core.records import LeftOut, Machine, Snapshot, SnapshotRecord, Tally
from good_tide.core.rules import Rule
from good_tide.operations.coverage.selecting import Selector, outermost
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.snapshot.listing_drafts import DraftQueue, FolderDraft, LateEntry
from good_tide.operations.snapshot.resume_log import PiecesNote, ResumeLog
from good_tide.operations.snapshot.small_files import UNTRUSTED_NS, Fresh, SmallFiles, StoredSmall, is_small
from good_tide.source.folders import (
    Found,
    data_segments,
    extra_of,
    open_file,
    open_folder,
    read_attributes,
    read_link,
    reason_of,
    same_state,
    scan,
    stat_of,
)
from good_tide.storage.chunker import Chunker
from good_tide.storage.content import SMALL_FILE_BYTES, FileStreamer, Part, small_digest
from good_tide.storage.runs import RunLock
from good_tide.storage.store import Store
from good_tide.storage.writer import WriteSession

_MOST_NAMED = 100_000
"""So many things that are left out are named in the snapshot; its listings hold them all."""

_TRIES = 3
"""How often a file that changes while it is read is read."""

_REPORT_SECONDS = 0.1
_LONG_FILE_BYTES = 32 * 1024 * 1024
"""Of larger files the pieces are noted as they are read, so that a run that is cut off goes on in the middle
of one."""


class CaptureRequest(msgspec.Struct, frozen=True):
    """What to take a snapshot of.

    :param folders: absolute paths.
    :param rules: the rules of coverage; ``kinds`` adds endings to kinds, ``home`` is what ``~/`` stands for,
        and ``network`` holds the device numbers of network mounts.
    :param at: the snapshot's time if it is not now, nanoseconds since 1970 UTC.
    :param own: folders of this program, such as the holding area, which are never taken in.
    :param missing_is_gap: a folder that is not there is named in the snapshot instead of refusing the run.
    :param expected: files and bytes that a first snapshot is expected to have, for its progress.
    """

    folders: tuple[Path, ...]
    machine: Machine
    rules: tuple[Rule, ...] = ()
    kinds: dict[str, tuple[str, ...]] = {}
    home: str = ""
    network: frozenset[int] = frozenset()
    label: str = ""
    at: Nanoseconds | None = None
    missing_is_gap: bool = False
    own: tuple[Path, ...] = ()
    expected: Tally | None = None


def capture(
    store: Store,
    request: CaptureRequest,
    clock: Clock,
    control: Control,
    state: Path,
    stored_small: StoredSmall | None = None,
) -> Snapshot:
    """Take a snapshot.

    :param state: a local folder for the lock that keeps two runs of one machine apart.
    :param stored_small: tells where a small file of some content lies already, from the local catalog.

    Raises:
        PersonError: a folder is missing, or ``at`` is not after the last snapshot.
        PlaceError: the store cannot be written, or another run is at work.
        StoppedError: the person stopped it; what was written is kept for the next run.
    """
    folders = outermost(request.folders)
    if not request.missing_is_gap or not any(os.path.isdir(folder) for folder in folders):
        for folder in folders:
            if not os.path.isdir(folder):
                raise PersonError(f"There is no folder {folder}", "Check the path")
    with RunLock(state, store.header.store, request.machine.id) as owner:
        last = last_snapshot(store, request.machine.id)
        moment = _moment(request, clock, last)
        memory = StoreMemory(state, store.header.store) if store.shared else None
        if memory is not None:
            memory.note_coming({request.machine.id: moment})
        log = ResumeLog(
            state / "resume" / f"{local_name(store.header.store)}-{request.machine.id}.log", store.has
        )
        with (
            _few_collections(),
            WriteSession(store, owner) as session,
            log,
            _Run(store, session, control, last, stored_small, log) as run,
        ):
            run.expected = last.record.tally if last is not None else request.expected or Tally()
            run.leave_out_own(request.own)
            if request.rules:
                run.selector = Selector(
                    Coverage(request.rules, request.home, moment, extended(request.kinds)), request.network
                )
            taken = run.take(folders, request, moment)
            log.finished()
            if memory is not None:
                memory.note_taken(taken)
            return taken


@contextlib.contextmanager
def _few_collections() -> Iterator[None]:
    """Look for cyclic garbage seldom: a run makes hundreds of thousands of entries and no cycles. A tenth of
    its time."""
    before = gc.get_threshold()
    gc.set_threshold(200_000, before[1], before[2])
    try:
        yield
    finally:
        gc.set_threshold(*before)


def last_snapshot(store: Store, machine: MachineId) -> Snapshot | None:
    """The newest readable snapshot of a machine."""
    own = [snapshot for snapshot in store.snapshots()[0] if snapshot.record.machine.id == machine]
    return own[-1] if own else None


def _moment(request: CaptureRequest, clock: Clock, last: Snapshot | None) -> Nanoseconds:
    """The new snapshot's time. A clock that was set back does not put it before the last one."""
    if request.at is not None:
        if last is not None and request.at <= last.record.time:
            raise PersonError(
                "The time given is not after the last snapshot of this machine",
                "Bring dated copies in from the oldest to the newest",
            )
        return request.at
    now = clock.now()
    return now if last is None else Nanoseconds(max(now, last.record.time + 1))


class _Run:
    """One snapshot being taken."""

    def __init__(
        self,
        store: Store,
        session: WriteSession,
        control: Control,
        last: Snapshot | None,
        stored_small: StoredSmall | None,
        log: ResumeLog,
    ) -> None:
        self._store, self._session, self._control, self._last, self._log = store, session, control, last, log
        self.expected = Tally()
        """What the run will come to, for its progress."""
        self.selector: Selector | None = None
        """Decides what is in; everything is without one."""
        self._small = SmallFiles(store, session, stored_small, self._file_or_gap)
        self._queue = DraftQueue(session, store.keys, log.note_folder)
        self._streamer = FileStreamer(Chunker(store.keys.border_secret), session.put)
        self._own_places: set[tuple[int, int]] = set()
        self._left_out: list[LeftOut] = []
        self._unsteady: list[bytes] = []
        self._owners: dict[str, str] = dict(last.record.owners) if last else {}
        self._links: dict[tuple[int, int], LateEntry | Entry] = {}
        self._files = self._folders = self._bytes = 0
        self._bytes_read_ahead = 0
        self._current = b""
        self._device = 0
        self._seen_owners: set[tuple[int, int]] = set()
        self._trust_before = time.time_ns() - UNTRUSTED_NS
        self._started = time.monotonic()
        self._reported = 0.0

    def __enter__(self) -> Self:
        self._small.__enter__()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
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
        self._small.finish()
        self._session.settle()
        self._queue.drain()
        self._report("Writing", Stage.LAST_PART)
        final = [draft.entry(self._store.keys) if isinstance(draft, LateEntry) else draft for draft in drafts]
        roots = encode_page(sorted(final, key=lambda entry: entry.name))
        return self._session.publish(lambda new, stored: self._record(request, moment, roots, new, stored))

    def _record(
        self, request: CaptureRequest, moment: Nanoseconds, roots: bytes, new: int, stored: int
    ) -> SnapshotRecord:
        tally = Tally(
            self._files + self._small.files,
            self._folders,
            self._bytes + self._small.bytes,
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
            left_out=tuple(self._left_out),
            unsteady=tuple(self._unsteady),
            owners=self._owners,
            rules=tuple(rule.text for rule in request.rules),
        )

    def _root(self, path: bytes, before: Entry | None) -> LateEntry | Entry | None:
        try:
            handle = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        except OSError as error:
            return self._leave_out(path, path, reason_of(error), os.strerror(error.errno or 0))
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
            return self._leave_out(name, path, Reason.STORE, "the store itself")
        if depth > DEEPEST:
            return self._leave_out(name, path, Reason.TOO_DEEP, f"more than {DEEPEST} folders deep")
        try:
            attributes = read_attributes(handle)
            pages = before.pages if before is not None and before.kind is Kind.FOLDER else ()
            draft = yield self._folder(path, handle, pages, depth, state)
        except OSError as error:
            return self._leave_out(name, path, reason_of(error), os.strerror(error.errno or 0))
        if draft is None:
            return None
        self._folders += 1
        self._note_owner(info)
        return LateEntry(name, Kind.FOLDER, child=draft, stat=stat_of(info), extra=extra_of(info, attributes))

    def _folder(
        self, path: bytes, handle: int, before: tuple[ChunkId, ...], depth: int, state: FolderState | None
    ) -> Deep[FolderDraft | None]:
        """Take in an open folder; ``before`` are the pages of its listing in the last snapshot."""
        self._control.checkpoint()
        found, missed = scan(handle)
        inside: dict[bytes, FolderState] = {}
        if self.selector is not None and state is not None:
            found, missed, inside = self.selector.keep(found, missed, handle, state, self._device)
            if state.out and not found and not missed:
                return None
        pages = [self._store.page(page) for page in before]
        if not missed and self._looks_unchanged(found, pages):
            unchanged: FolderDraft | None = yield self._unchanged(
                path, handle, found, pages, before, depth, inside
            )
            if unchanged is not None:
                return unchanged
        known = {entry.name: entry for page in pages for entry in page.entries()}
        read_before = self._log.files_of(path)
        draft = FolderDraft(path=path)
        for miss in missed:
            draft.add(self._leave_out(miss.name, path + b"/" + miss.name, miss.reason, miss.detail))
        small: list[Fresh] = []
        for item in found:
            before_item = known.get(item.name) if known else None
            earlier = read_before.get(item.name) if read_before else None
            if earlier is not None and not _is_same(item, before_item) and _is_same(item, earlier):
                draft.add(self._read_before(item, earlier, before_item))
            elif is_small(item) and not _is_same(item, before_item):
                self._note_owner(item.info)
                small.append((item, before_item))
            else:
                if item.kind is Kind.FOLDER:
                    entry = yield self._sub_folder(item, path, handle, before_item, depth, inside)
                else:
                    entry = self._item(item, path, handle, before_item)
                if entry is not None:
                    draft.add(entry)
        if small:
            self._current = path
            self._small.read(draft, path, handle, small)
            self._report("Reading")
        if state is not None and state.out and not small and not draft.entries:
            return None
        self._queue.finished(draft)
        return draft

    @staticmethod
    def _looks_unchanged(found: Sequence[Found], pages: Sequence[Page]) -> bool:
        """Whether names, kinds and metadata are those of the last snapshot, compared as a whole."""
        if not pages or sum(len(page.names) for page in pages) != len(found):
            return False
        if [name for page in pages for name in page.names] != [item.name for item in found]:
            return False
        if "".join(page.kinds for page in pages) != "".join([item.kind or "x" for item in found]):
            return False
        numbers: list[int] = []
        for _, _, _, info in found:
            numbers += (
                info.st_mode & 0o7777,
                info.st_uid,
                info.st_gid,
                info.st_size,
                info.st_mtime_ns,
                info.st_ctime_ns,
                info.st_ino,
            )
        seen = np.array(numbers, dtype=np.uint64).view(np.int64).reshape(-1, 7)
        if len(pages) == 1 and pages[0].has_stats(seen):
            return True
        known = pages[0].stats if len(pages) == 1 else np.concatenate([page.stats for page in pages])
        same = seen == known
        if same.all():
            return True
        folders = np.array([item.kind is Kind.FOLDER for item in found])
        return bool(same[~folders].all())

    def _unchanged(
        self,
        path: bytes,
        handle: int,
        found: Sequence[Found],
        pages: Sequence[Page],
        before: tuple[ChunkId, ...],
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
        draft = FolderDraft(path=path)
        same = True
        for item in folders:
            entry = yield self._sub_folder(item, path, handle, known[item.name], depth, inside)
            if entry is None:
                same = False
                continue
            draft.add(entry)
            old = known[item.name]
            same = same and isinstance(entry, LateEntry) and self._same_folder(entry, old)
        files = [item for item in found if item.kind is not Kind.FOLDER]
        self._count_unchanged(files)
        if same:
            return FolderDraft(before)
        draft.entries += [known[item.name] for item in files]
        self._queue.finished(draft)
        return draft

    @staticmethod
    def _same_folder(entry: LateEntry, old: Entry) -> bool:
        return (
            entry.child is not None
            and entry.child.pages == old.pages
            and entry.stat == old.stat
            and entry.extra == old.extra
        )

    def _count_unchanged(self, files: Sequence[Found]) -> None:
        sizes = [info.st_size for _, _, kind, info in files if kind is Kind.FILE]
        self._files += len(sizes)
        self._bytes += sum(sizes)
        self._report("Reading")

    def _item(self, item: Found, path: bytes, handle: int, before: Entry | None) -> LateEntry | Entry:
        if item.kind is None:
            return self._leave_out(
                item.name, path + b"/" + item.name, Reason.SPECIAL, "socket, pipe or device"
            )
        if before is not None and _is_same(item, before):
            if item.kind is Kind.FILE:
                self._files += 1
                self._bytes += item.info.st_size
            return before
        self._note_owner(item.info)
        if item.kind is Kind.FILE:
            return self._file_or_gap(item, path, handle, before)
        try:
            target = read_link(item.text, handle)
        except OSError as error:
            return self._leave_out(
                item.name, path + b"/" + item.name, reason_of(error), os.strerror(error.errno or 0)
            )
        return Entry(item.name, Kind.LINK, stat_of(item.info), extra=extra_of(item.info, target=target))

    def _file_or_gap(self, item: Found, path: bytes, handle: int, before: Entry | None) -> LateEntry | Entry:
        """A file, or its place in the listing when it cannot be read."""
        try:
            return self._file(item, path, handle, before)
        except OSError as error:
            return self._leave_out(
                item.name, path + b"/" + item.name, reason_of(error), os.strerror(error.errno or 0)
            )

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
            return self._leave_out(item.name, inside, reason_of(error), os.strerror(error.errno or 0))
        try:
            entry: LateEntry | Entry | None = yield self._folder_entry(
                item.name, inside, child, item.info, before, depth + 1, states.get(item.name)
            )
            return entry
        finally:
            os.close(child)

    def _read_before(self, item: Found, earlier: Entry, before: Entry | None) -> Entry:
        """A file that a run read which was cut off: its content is in the store."""
        self._note_owner(item.info)
        self._files += 1
        self._bytes += item.info.st_size
        self._queue.changed_files += before is None or earlier.digest != before.digest
        if item.info.st_nlink > 1:
            self._links.setdefault((item.info.st_dev, item.info.st_ino), earlier)
        return earlier

    def _file(self, item: Found, path: bytes, folder: int, before: Entry | None) -> LateEntry | Entry:
        """Read a file, again if it changed meanwhile."""
        info = item.info
        linked = (info.st_dev, info.st_ino)
        if info.st_nlink > 1 and linked in self._links:
            return self._further_link(item.name, self._links[linked])
        self._current = path
        handle = open_file(item.text, folder)
        try:
            for _ in range(_TRIES):
                content, parts = self._content(handle, info, path + b"/" + item.name)
                after = os.fstat(handle)
                steady = same_state(info, after)
                if steady:
                    break
                info = after
                os.lseek(handle, 0, os.SEEK_SET)
            else:
                if len(self._unsteady) < _MOST_NAMED:
                    self._unsteady.append(path + b"/" + item.name)
            extra = extra_of(info, read_attributes(handle), unsteady=not steady)
        finally:
            os.close(handle)
        entry: LateEntry | Entry
        if content is None:
            stat = self._stat_as_read(info, sum(part.length for part in parts))
            entry = LateEntry(
                item.name,
                Kind.FILE,
                parts,
                stat=stat,
                extra=extra,
                before=None if before is None else before.digest,
            )
        else:
            stat = self._stat_as_read(info, len(content))
            entry = self._small.entry(
                item.name, content, small_digest(self._store.keys, content), stat, extra, before
            )
        self._files += 1
        self._bytes += entry.stat.size
        if info.st_nlink > 1:
            self._links[linked] = entry
        self._report("Reading")
        return entry

    def _further_link(self, name: bytes, first: LateEntry | Entry) -> LateEntry | Entry:
        self._files += 1
        self._bytes += first.stat.size
        if isinstance(first, LateEntry):
            return LateEntry(
                name, first.kind, first.parts, stat=first.stat, extra=first.extra, before=first.before
            )
        return msgspec.structs.replace(first, name=name)

    def _stat_as_read(self, info: os.stat_result, length: int) -> Stat:
        """Metadata with the size of what was read, and no change time where that could deceive."""
        trusted = (
            self._trust_before - info.st_ctime_ns > 0 or time.time_ns() - info.st_ctime_ns > UNTRUSTED_NS
        )
        stat = stat_of(info, trusted)
        return stat if stat.size == length else msgspec.structs.replace(stat, size=length)

    def _content(self, handle: int, info: os.stat_result, path: bytes) -> tuple[bytes | None, list[Part]]:
        """Read an open file once: the bytes of a small file, or None and the parts of a larger one.

        ``info.st_size`` bytes are expected; it may have become longer or shorter.
        """
        if info.st_size <= SMALL_FILE_BYTES:
            content = os.read(handle, info.st_size + 1)
            if len(content) == info.st_size or (len(content) <= SMALL_FILE_BYTES and not os.read(handle, 1)):
                return content, []
            info = os.fstat(handle)
        segments = data_segments(handle, info.st_size, info.st_blocks)
        parts: list[Part] = []
        if info.st_size < _LONG_FILE_BYTES:
            self._streamer.stream(handle, segments, info.st_size, self._tick, parts)
        else:
            ahead, noted = (
                self._log.pieces_of(path, stat_of(info)),
                PiecesNote(self._log, path, stat_of(info), parts),
            )
            self._streamer.stream(handle, segments, info.st_size, self._ticking(noted), parts, ahead)
        if sum(part.length for part in parts) <= SMALL_FILE_BYTES:
            return os.pread(handle, SMALL_FILE_BYTES, 0), []
        return None, parts

    def _tick(self, read: int) -> None:
        self._bytes_read_ahead += read
        self._report("Reading")
        self._control.checkpoint()
        self._queue.drain()

    def _ticking(self, noted: PiecesNote) -> Callable[[int], None]:
        def tick(read: int) -> None:
            self._tick(read)
            noted.tick()

        return tick

    def _leave_out(self, name: bytes, path: bytes, reason: Reason, detail: str) -> Entry:
        if len(self._left_out) < _MOST_NAMED:
            self._left_out.append(LeftOut(path, reason.value, detail))
        return Entry(name, Kind.LEFT_OUT, extra=Extra(reason=reason.value, detail=detail))

    def _note_owner(self, info: os.stat_result) -> None:
        """Keep the names behind user and group numbers, for restores on a machine that numbers them
        otherwise."""
        pair = (info.st_uid, info.st_gid)
        if pair in self._seen_owners:
            return
        self._seen_owners.add(pair)
        with contextlib.suppress(KeyError):
            self._owners[f"u{info.st_uid}"] = pwd.getpwuid(info.st_uid).pw_name
        with contextlib.suppress(KeyError):
            self._owners[f"g{info.st_gid}"] = grp.getgrgid(info.st_gid).gr_name

    def _report(self, phase: str, stage: Stage = Stage.UNDER_WAY) -> None:
        now = time.monotonic()
        if stage is Stage.UNDER_WAY and now - self._reported < _REPORT_SECONDS:
            return
        self._reported = now
        self._control.checkpoint()
        total = self.expected
        files, size = (
            self._files + self._small.files,
            max(self._bytes, self._bytes_read_ahead) + self._small.bytes,
        )
        self._control.report(
            Progress(phase, files, total.files, size, total.bytes, os.fsdecode(self._current), stage)
        )


def _is_same(item: Found, before: Entry | None) -> bool:
    """Whether a file or link is as the last snapshot has it, and was kept well there."""
    return (
        before is not None
        and before.kind is item.kind
        and before.stat == stat_of(item.info)
        and not before.extra.unsteady
    )
