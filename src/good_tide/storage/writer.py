"""Adding to a store: a session that takes chunks and ends with a snapshot.

The caller's thread hands in plain bytes. Two threads hash, look up and compress; one collects packs, and one
seals and writes those that are full.
Nothing is visible before ``publish``: packs are made durable first, then the index that names them, then the
snapshot.
"""

from __future__ import annotations

import contextlib
import errno
import os
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from types import TracebackType
from typing import Self

import msgspec

from good_tide.core.errors import PlaceError, PlaceFullError
from good_tide.core.identifiers import ChunkId, SnapshotId
from good_tide.core.records import Snapshot, SnapshotRecord
from good_tide.core.translation import tr
from good_tide.storage.bases import bases_near
from good_tide.storage.compression import CAREFUL_LEVEL, DATA_LEVEL
from good_tide.storage.doomed import read_doomed
from good_tide.storage.envelope import FileKind, seal_new
from good_tide.storage.folders import INDEX_FOLDER, PACK_FOLDER, SNAPSHOT_FOLDER
from good_tide.storage.index import encode_tables
from good_tide.storage.kept_here import NOTHING_KEPT
from good_tide.storage.marks import WRITER_FOLDER, Mark
from good_tide.storage.missing_packs import notice_missing
from good_tide.storage.packed import Prepared, prepare
from good_tide.storage.packs import PACK_BYTES, Holds, PackTable, PackWriter
from good_tide.storage.place import disk_errors
from good_tide.storage.reserve import keep_reserve
from good_tide.storage.store import Store

_IN_FLIGHT_BYTES = 48 * 1024 * 1024
_WORKERS = 2
FEW_BYTES = 4 * 1024 * 1024
"""What a session has up to so many bytes of is compressed harder."""
LATER_FEW_BYTES = 4 * FEW_BYTES
"""The same where something was taken before: it happens each hour, and a first snapshot once."""
_MOST_RESERVE_BYTES = 4 * 1024 * 1024
_RESERVE_PART = 64
"""What large packs leave free of a disk: one part in so many, and at most so many bytes."""


class Ticket:
    """Stands for a chunk that was handed in; ``chunk`` is its identity as soon as that is known."""

    __slots__ = ("chunk",)

    def __init__(self) -> None:
        self.chunk: ChunkId | None = None


class _Room:
    """Bounds the plain bytes that are on their way through the threads."""

    def __init__(self, limit: int) -> None:
        self._free = limit
        self._changed = threading.Condition()

    def take(self, size: int) -> None:
        with self._changed:
            self._changed.wait_for(lambda: self._free > 0)
            self._free -= size

    def give(self, size: int) -> None:
        with self._changed:
            self._free += size
            self._changed.notify_all()


class WriteSession:
    """One run of adding to a store. Use as a context manager; leaving it without ``publish`` keeps finished
    packs.

    :param owner: begins the names of temporary files; two sessions at once must have different ones.
    :param pack_bytes: size at which a pack is finished; ``PACK_BYTES`` if not given.
    :param few: up to so many bytes are compressed harder.
    """

    def __init__(self, store: Store, owner: str, pack_bytes: int | None = None, few: int = FEW_BYTES) -> None:
        self._store, self._owner, self._few = store, owner, few
        self._pack_bytes = PACK_BYTES if pack_bytes is None else pack_bytes
        self._room = _Room(_IN_FLIGHT_BYTES)
        self._workers = ThreadPoolExecutor(_WORKERS, thread_name_prefix="prepare")
        self._appender = ThreadPoolExecutor(1, thread_name_prefix="append")
        self._finisher = ThreadPoolExecutor(1, thread_name_prefix="finish")
        self._finishing: Future[None] | None = None
        """The pack that is being written; one at a time, so that not more than two are in memory."""
        self._unfinished: list[PackWriter] = []
        """Packs that could not be written."""
        self._lock = threading.Lock()
        self._claimed: set[ChunkId] = set()
        self._open: dict[Holds, PackWriter] = {}
        self._tables: list[PackTable] = []
        self._failure: BaseException | None = None
        self._compressed = 0
        self.new_bytes = 0
        self.stored_bytes = 0
        store.place.clear_temporary(owner)
        self._mark: Mark | None = None
        store.place.expect(PACK_FOLDER)
        if store.shared:
            self._mark = Mark(store.place, WRITER_FOLDER, f"{owner}w").__enter__()
        try:
            self._heed()
            store.refresh()
            files = store.place.names(PACK_FOLDER)
            self._adopt(files)
            notice_missing(store, files)
            store.damage.keep()
            if store.kept is not NOTHING_KEPT:
                store.kept.drop_gone(PACK_FOLDER, files)
                for folder in (INDEX_FOLDER, SNAPSHOT_FOLDER):
                    store.kept.drop_gone(folder, store.place.names(folder))
        except BaseException:
            self._unmark()
            raise

    def _heed(self) -> None:
        """Not build on what a sweep is about to delete, and say so."""
        if self._mark is not None:
            lists = read_doomed(self._store)
            self._store.avoided = frozenset().union(*lists.values())
            if lists:
                self._mark.say(lists)

    def _unmark(self) -> None:
        if self._mark is not None:
            self._mark.__exit__(None, None, None)
            self._mark = None

    def _adopt(self, files: Sequence[str]) -> None:
        """Take over whole packs that no index names: an earlier run was cut off after writing them, or an
        index file is damaged. They are named at once: were they only known to this object, a later run of it
        would build on packs that it takes for named."""
        self._tables += self._store.unnamed_packs(files)
        self._write_index()

    def put(
        self,
        plain: bytes | memoryview,
        done: Callable[[], None] | None = None,
        ticket: Ticket | None = None,
        near: Sequence[ChunkId] = (),
    ) -> Ticket:
        """Hand in a chunk of file content. ``plain`` must not change before ``done`` was called (in another
        thread).

        :param ticket: one that was given out before the chunk was complete; a new one otherwise.
        :param near: chunks that hold something much like it, those with most of it first: earlier versions.

        Raises:
            GoodTideError: writing failed earlier in this session.
        """
        ticket = ticket or Ticket()
        self._submit(ticket, plain, Holds.DATA, done, near)
        return ticket

    def put_page(self, plain: bytes, near: Sequence[ChunkId] = ()) -> ChunkId:
        """Hand in a page of a listing; its identity is known at once. ``near``: as for ``put``."""
        ticket = Ticket()
        ticket.chunk = self._store.keys.chunk_id(plain)
        self._submit(ticket, plain, Holds.TREE, None, near)
        return ticket.chunk

    def _submit(
        self,
        ticket: Ticket,
        plain: bytes | memoryview,
        holds: Holds,
        done: Callable[[], None] | None,
        near: Sequence[ChunkId],
    ) -> None:
        self._raise_failure()
        size = len(plain)
        self._room.take(size)

        def work() -> None:
            try:
                if ticket.chunk is None:
                    ticket.chunk = self._store.keys.chunk_id(plain)
                prepared = (
                    prepare(
                        ticket.chunk, plain, partial(bases_near, self._store, size, near), self._level(size)
                    )
                    if self._failure is None and self._is_new(ticket.chunk)
                    else None
                )
                if prepared is not None:
                    self._appender.submit(append, prepared)
                    return
            except BaseException as error:
                self._failure = self._failure or error
            finally:
                if done is not None:
                    done()
            self._room.give(size)

        def append(prepared: Prepared) -> None:
            try:
                if self._failure is None:
                    self._append(prepared, holds)
            except BaseException as error:
                self._failure = self._failure or error
            finally:
                self._room.give(size)

        self._workers.submit(work)

    def _level(self, size: int) -> int:
        """How hard to compress a chunk of so many bytes: the first of a session harder, as most have few."""
        self._compressed += size
        return CAREFUL_LEVEL if self._compressed <= self._few else DATA_LEVEL

    def _is_new(self, identity: ChunkId) -> bool:
        with self._lock:
            if identity in self._claimed or self._store.has(identity):
                return False
            self._claimed.add(identity)
            return True

    def _append(self, prepared: Prepared, holds: Holds) -> None:
        writer = self._open.get(holds)
        if writer is None:
            store = self._store
            writer = self._open[holds] = PackWriter(store.place, store.keys, holds, self._owner, store.layout)
            writer.kept = store.kept
        writer.add(prepared)
        self.new_bytes += prepared.chunk.plain_length if holds is Holds.DATA else 0
        if writer.size >= self._pack_bytes:
            self._finish(holds)

    def _finish(self, holds: Holds) -> None:
        """Let a pack be written, as soon as the one before is."""
        self._wait_for_pack()
        self._finishing = self._finisher.submit(self._write_pack, self._open.pop(holds))

    def _wait_for_pack(self) -> None:
        """Wait until no pack is being written.

        Raises:
            GoodTideError: it could not be.
        """
        if self._finishing is not None:
            finishing, self._finishing = self._finishing, None
            finishing.result()

    def _write_pack(self, writer: PackWriter) -> None:
        try:
            if writer.whole_size > self._room_for(writer):
                with disk_errors(tr("Writing to {title}").format(title=self._store.place.title)):
                    raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
            table = writer.finish()
        except BaseException as error:
            self._unfinished.append(writer)
            self._failure = self._failure or error
            raise
        self.stored_bytes += writer.size
        self._tables.append(table)

    def _room_for(self, writer: PackWriter) -> int:
        """How many bytes a pack may take, so that a run which fills the disk leaves a reserve behind: the
        next one, whose cause may be gone, and the sweep need a little room to begin. Small packs may use the
        reserve."""
        try:
            free, total = self._store.place.room()
        except PlaceError:  # whoever writes will see
            return writer.whole_size
        reserve = min(_MOST_RESERVE_BYTES, total // _RESERVE_PART)
        return free if writer.whole_size <= reserve // 4 else free - reserve

    def _raise_failure(self) -> None:
        if self._failure is not None:
            raise self._failure

    def settle(self) -> None:
        """Wait until everything handed in is sealed and appended.

        Raises:
            GoodTideError: writing failed.
        """
        self._workers.shutdown(wait=True)
        self._appender.shutdown(wait=True)
        self._workers = ThreadPoolExecutor(_WORKERS, thread_name_prefix="prepare")
        self._appender = ThreadPoolExecutor(1, thread_name_prefix="append")
        self._raise_failure()

    def keep(self) -> None:
        """Make everything that was handed in durable and findable, without a snapshot."""
        self.settle()
        for holds in list(self._open):
            self._finish(holds)
        self._wait_for_pack()
        self._write_index()

    def publish(self, record: Callable[[int, int], SnapshotRecord]) -> Snapshot:
        """Make everything durable and the snapshot visible. A session may publish several, one after the
        other.

        :param record: given new plain bytes and stored bytes of this session, the record to store.
        """
        self.keep()
        final = record(self.new_bytes, self.stored_bytes)
        name, data = seal_new(self._store.keys, FileKind.SNAPSHOT, msgspec.msgpack.encode(final))
        self._make_visible(name.hex(), data)
        return Snapshot.of(SnapshotId(name.hex()), final)

    def publish_as(self, name: str, data: bytes) -> None:
        """The same for a snapshot that has its name already, in another store.

        :param data: its sealed file: as it lies there where both have the same keys, or as
            ``envelope.seal_again`` gives it.
        """
        self.keep()
        self._make_visible(name, data)

    def _make_visible(self, name: str, data: bytes) -> None:
        file = f"{SNAPSHOT_FOLDER}/{name}"
        self._still_alive()
        with self._store.place.create(file, self._owner) as new:
            new.write(data)
            new.commit()
        self._store.kept.put([(file, data)])
        self.stored_bytes += len(data)
        try:
            self._still_alive()
        except PlaceError:
            self._store.place.remove(file)
            raise
        self._store.look.note(SnapshotId(name))

    def _still_alive(self) -> None:
        """Whether nobody took this session for dead and gave back what it builds on.

        Raises:
            PlaceError: somebody did.
        """
        if self._mark is not None and not self._mark.stands:
            raise PlaceError(
                tr("The run stood still for so long that its room was given back"),
                tr("It begins again by itself"),
            )

    def _write_index(self) -> None:
        if self._tables:
            written = self._store.write_sealed(
                FileKind.INDEX, INDEX_FOLDER, encode_tables(self._tables), self._owner
            )
            self.stored_bytes += written.size
            self._store.know_index(written.name, self._tables)
            self._tables = []

    def _keep_what_is_whole(self) -> None:
        """After a failure or a stop: finish what was begun where possible. The next session adopts it."""
        for writer in [*self._unfinished, *self._open.values()]:
            if not isinstance(self._failure, PlaceFullError):
                with contextlib.suppress(PlaceFullError):
                    writer.finish()
                    continue
            writer.salvage(self._room_for(writer))
        self._open.clear()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._workers.shutdown(wait=True)
        self._appender.shutdown(wait=True)
        self._finisher.shutdown(wait=True)
        try:
            with contextlib.suppress(Exception) if error is not None else contextlib.nullcontext():
                self._keep_what_is_whole()
            with contextlib.suppress(PlaceError):
                self._store.damage.keep()
            if error is None and self._store.shared:
                keep_reserve(self._store.place, self._owner, self._store.index.packs())
        finally:
            self._unmark()
