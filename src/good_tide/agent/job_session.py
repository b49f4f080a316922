"""The job's store, kept open: answers about its history."""

from __future__ import annotations

import contextlib
import logging
import os
import threading
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

from good_tide.agent.passphrases import TypedPassphrases
from good_tide.core.clock import SECOND
from good_tide.core.coverage import Coverage
from good_tide.core.entries import Kind
from good_tide.core.errors import GoodTideError, PersonError, StoreReplacedError, WrongPassphraseError
from good_tide.core.history import KnownHistory, Lifeline, Span, still_holds
from good_tide.core.identifiers import HistoryId, SnapshotId, StoreId
from good_tide.core.job_facts import StoreState
from good_tide.core.name_query import NameQuery
from good_tide.core.records import Machine, Snapshot
from good_tide.core.selection import no_longer_kept
from good_tide.core.settings import Job, StoreRef
from good_tide.core.tide import Tide
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.coverage.selecting import PathStates
from good_tide.operations.history.missing import missing_in
from good_tide.operations.history.path_history import path_life, path_spans
from good_tide.operations.retention.thinning import pinned
from good_tide.operations.stores.holding_area import has_area
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.left_behind import left_count
from good_tide.operations.stores.opened import id_of, is_there, snapshot_of, unlike
from good_tide.operations.stores.opening import Catalog, Store, StorePlace, about, locked_hint, open_catalog
from good_tide.operations.stores.pinning import check_header
from good_tide.protocol.agent_calls import StoreView
from good_tide.protocol.history_calls import FolderView, FoundView

_log = logging.getLogger(__name__)

_WEEK = 7 * 86400 * SECOND
_FIRST_MONDAY = 4 * 86400 * SECOND
"""1970 began on a Thursday; weeks are counted from its first Monday."""
_LONG_HISTORY = 60
"""Unseen snapshots from which on they are read in a thread of its own; fewer take less than a second or
two."""


class _Open(NamedTuple):
    """A store that is open, with its catalog."""

    store: Store
    catalog: Catalog


class JobSession:
    """The stores of a job. Opened when first needed; opened again after their disks were away.

    :param caught_up: called when a long history was read.
    """

    def __init__(
        self,
        context: Context,
        job: Job,
        typed: TypedPassphrases,
        caught_up: Callable[[], None] = lambda: None,
        reading: bool = False,
    ) -> None:
        self._context = context
        self.stores = JobStores(context, job, typed)
        self._caught_up = caught_up
        self._reader: threading.Thread | None = None
        self.read = (0, 0)
        """While a long history is read: snapshots done, and in all."""
        self.shown: StoreRef = job.stores[0] if job.stores else StoreRef(path="")
        self.machine: Machine = context.machine_of(job)
        self._lock = threading.RLock()
        """Held for a moment only, never while a disk is touched."""
        self._opening = threading.Lock()
        """Held while the store is opened, which a disk may hold up."""
        self._open: _Open | None = None
        self._opened_in: StorePlace | None = None
        self._pinned: dict[SnapshotId, str] = {}
        self.damage: list[str] = []
        self._weeks: tuple[str, tuple[tuple[int, int], ...]] = ("", ())
        self.last_state = StoreState.UNKNOWN
        """What ``state`` was when it was last asked; unknown since the store was opened anew."""
        self.reading = reading
        """Whether a store of another machine is looked into, and nothing is ever written to it."""

    @property
    def job(self) -> Job:
        """The job, with what is known of its stores by now."""
        return self.stores.job

    def take_job(self, job: Job) -> None:
        """Go on with changed settings."""
        with self._lock:
            self.stores.job = job
            self.machine = self._context.machine_of(job)
            same = next((ref for ref in job.stores if ref.place == self.shown.place), None)
            if same is not None:
                self.shown = same
            elif job.stores:
                self.look_into(job.stores[0])

    def choose_present(self) -> None:
        """Look into another of the job's stores when the disk of the one looked into is away."""
        if self.stores.place_of(self.shown) is None:
            there = next((ref for ref in self.job.stores if self.stores.place_of(ref) is not None), None)
            if there is not None:
                self.look_into(there)

    def ref(self, store: StoreId) -> StoreRef:
        """How one of the job's stores is found.

        Raises:
            PersonError: the job does not have it.
        """
        found = next((one for one in self.job.stores if one.names(store)), None)
        if found is None:
            raise PersonError(tr("The job no longer has this store"), tr("Choose one of those there are"))
        return found

    def look_into(self, ref: StoreRef) -> None:
        """Show history from another store."""
        with self._lock:
            self.shown, self._open = ref, None

    def state(self) -> StoreState:
        """What can be said of the store that is looked into; opens it if that is possible, and begins to read
        a long unseen history."""
        self.last_state = self._state()
        return self.last_state

    def _state(self) -> StoreState:
        self.choose_present()
        where = self.stores.place_of(self.shown)
        if where != self._opened_in:
            self.look_again()
        if where is None and not has_area(self._context.here.holdings, self.shown):
            self.look_again()
            return StoreState.AWAY
        try:
            unseen, gone = (0, 0) if self._is_reading() else unlike(*self._opened())
            if self._catches_up(unseen):
                return StoreState.CATCHING_UP
            if unseen or gone or self.damage:
                self.sync()
        except WrongPassphraseError:
            return StoreState.LOCKED
        except StoreReplacedError as error:
            self.damage = [str(error)]
            return StoreState.REPLACED
        except GoodTideError as error:
            self.damage = [str(error)]
            return StoreState.DAMAGED
        return StoreState.READY if self.has_snapshots() else StoreState.EMPTY

    def _catches_up(self, unseen: int) -> bool:
        """Whether so much history is unseen that it is read in a thread of its own; begins that."""
        if self._is_reading():
            return True
        if unseen < _LONG_HISTORY:
            return False
        store, catalog = self._opened()

        def tell(done: int, total: int) -> None:
            self.read = (done, total)

        def read() -> None:
            try:
                catalog.sync(store, tell)
            except GoodTideError as error:
                self.damage = [str(error)]
            self._caught_up()

        with self._lock:
            if not self._is_reading():
                self._reader = threading.Thread(target=read, name="history", daemon=True)
                self._reader.start()
        return True

    def _is_reading(self) -> bool:
        with self._lock:
            return self._reader is not None and self._reader.is_alive()

    def unlock(self, passphrase: str) -> StoreId:
        """Open the store that is looked into with a passphrase. Returns its id.

        Raises:
            WrongPassphraseError: it does not open. PlaceError: too many wrong ones lately.
        """
        self.look_again()
        identity = self.stores.unlock(self.shown, passphrase)
        self.store()
        return identity

    def look_again(self) -> None:
        """Open what is looked into anew when it is next asked for: its disk came or went, or snapshots were
        carried over."""
        with self._lock:
            self._open = None
            self.last_state = StoreState.UNKNOWN

    def store(self) -> Store:
        """The store that is looked into; its holding area while the disk is away.

        Raises:
            GoodTideError: it cannot be opened.
        """
        return self._opened().store

    def _opened(self) -> _Open:
        with self._lock:
            if self._open is not None:
                return self._open
        with self._opening:
            with self._lock:
                if self._open is not None:
                    return self._open
                wanted = self.shown
            where = self.stores.place_of(wanted)
            store = self.stores.looked_into(wanted)
            opened = _Open(store, open_catalog(store, self._context.here.cache))
            _log.info("store %s is open for %s", id_of(store), self.job.id)
            with self._lock:
                if wanted == self.shown or wanted.place == self.shown.place:
                    self._open, self._opened_in = opened, where
            return opened

    def catalog(self) -> Catalog:
        """The catalog of the open store."""
        return self._opened().catalog

    def sync(self) -> None:
        """Take notice of snapshots that were added, by this agent or by others; cheap when there are none."""
        store, catalog = self._opened()
        self.damage = [str(error) for error in catalog.sync(store)]

    def pinned(self) -> dict[SnapshotId, str]:
        """Labels of the pinned snapshots; those known before where the store cannot be asked now."""
        with contextlib.suppress(GoodTideError):
            self._pinned = pinned(self.store())
        return self._pinned

    @property
    def known_pinned(self) -> dict[SnapshotId, str]:
        """Labels of the pinned snapshots when the store was last asked."""
        return self._pinned

    def has_snapshots(self) -> bool:
        """Whether there is a snapshot of this machine."""
        return self.catalog().has_snapshots(self.machine.id)

    def tide(self, after: int = 0) -> Tide:
        """The snapshots of this machine, without so many of the first of them."""
        return self.catalog().tide(self.machine.id, after)

    def history(self) -> HistoryId:
        """What stands for the snapshots of this machine, as the catalog has them."""
        return self.catalog().history(self.machine.id)

    def news(self, known: Sequence[KnownHistory]) -> tuple[HistoryId, int, Tide]:
        """The history of this machine for somebody who knows parts of it: what stands for it, how many of the
        first snapshots are known, and the others."""
        with self.catalog().held_still() as catalog:
            kept = still_holds(known, catalog.snapshot_ids(self.machine.id)) if known else 0
            return catalog.history(self.machine.id), kept, catalog.tide(self.machine.id, kept)

    def snapshot(self, name: SnapshotId, time: int) -> Snapshot:
        """One snapshot of this machine.

        :param time: when it was taken, for the words in which it is missed.

        Raises:
            PersonError: it is not there, or no longer.
        """
        if not (self.catalog().seq_of(self.machine.id, name) and is_there(self.store(), name)):
            self.sync()  # others took it, or released it
            tide = self.tide()
            if name not in tide.name:
                raise no_longer_kept(time, tide.time, self._context.clock.now())
        return snapshot_of(self.store(), name)

    def folder(self, path: bytes) -> FolderView:
        """Lifelines of a folder's contents; of the covered folders for the empty path."""
        with self.catalog().held_still() as catalog:
            history = catalog.history(self.machine.id)
            if not path:
                return FolderView(path, tuple(catalog.roots(self.machine.id)), history)
            number = catalog.folder(self.machine.id, path)
            lines: list[Lifeline] = [] if number is None else catalog.lifelines(number)
            if number is not None:
                lines = catalog.with_lives(self.machine.id, number, lines)
            return FolderView(path, tuple(lines), history, self._lost(lines))

    def lost_versions(self) -> int:
        """How many versions had lost content when somebody last looked."""
        return len(self.catalog().lost())

    def _lost(self, lines: Iterable[Lifeline]) -> frozenset[bytes]:
        """Identities of versions that are lost still: a later snapshot may have brought their content
        back."""
        known = self.catalog().lost()
        if not known:
            return frozenset()
        shown = {span.identity for line in lines for span in line.spans if span.kind == Kind.FILE}
        store = self.store()
        return frozenset(digest for digest, chunk in known if digest in shown and not store.has_all(chunk))

    def versions(self, path: bytes) -> tuple[HistoryId, Tide, list[tuple[bytes, Span]]]:
        """The versions of a path, each with the path it stood under then, and the snapshots that they
        count."""
        with self.catalog().held_still() as catalog:
            machine = self.machine.id
            return catalog.history(machine), catalog.tide(machine), path_life(catalog, machine, path)

    def elsewhere(self, path: bytes, snapshot: SnapshotId) -> tuple[bytes, ...]:
        """Other paths with the content that a path had in a snapshot, that begin where it ends, or end where
        it begins: a renamed file."""
        with self.catalog().held_still() as catalog:
            seq = catalog.seq_of(self.machine.id, snapshot)
            life = path_life(catalog, self.machine.id, path)
        current = next((span for where, span in life if where == path and span.stood_at(seq)), None)
        if current is None or current.kind != Kind.FILE or not current.size:
            return ()
        around = [current.first] if current.first > 1 else []
        around += [current.last + 1] if current.last is not None else []
        return tuple(
            other
            for other in self.catalog().same_content(self.machine.id, current.identity, around)
            if other != path
        )

    def find(self, query: NameQuery, most: int) -> FoundView:
        """Names that were ever in a snapshot, at most so many."""
        with self.catalog().held_still() as catalog:
            found, history = catalog.find(self.machine.id, query, most), catalog.history(self.machine.id)
        return FoundView(
            found, history, self._lost(line for folder in found.folders for line in folder.lines)
        )

    def ever_had(self, path: bytes) -> bool | None:
        """Whether a path was ever in a snapshot; None where that cannot be known now."""
        try:
            catalog = self.catalog()
            return bool(path_spans(catalog, self.machine.id, path)) or self.had_folder(path)
        except GoodTideError:
            return None

    def had_folder(self, path: bytes) -> bool:
        """Whether a path was ever a folder in a snapshot."""
        return self.catalog().folder(self.machine.id, path) is not None

    def nearest(self, path: bytes) -> bytes:
        """The folder above a path that was ever in a snapshot; empty where none was."""
        while len(path) > 1:
            path = os.path.dirname(path)
            if self.had_folder(path):
                return path
        return b""

    def missing(self, folder: bytes, most: int) -> FoundView:
        """What was ever in a folder and is not on the disk now, at most so many things. The catalog is not
        held still for it: the disk may be slow."""
        catalog, machine = self.catalog(), self.machine.id
        history = catalog.history(machine)
        found = missing_in(catalog, machine, folder, most)
        return FoundView(
            found, history, self._lost(line for inside in found.folders for line in inside.lines)
        )

    def store_views(self) -> tuple[StoreView, ...]:
        """The job's stores and their disks; what can be said when one is away or locked."""
        return tuple(self._store_view(ref) for ref in self.job.stores)

    def _store_view(self, ref: StoreRef) -> StoreView:
        where = self.stores.place_of(ref)
        disk = ref.name or Path(ref.path).name
        if where is None:
            why = str(self._context.whereabouts.away(ref)) if ref.on_server else ""
            return StoreView(ref.id, ref.path, disk, False, True, why=why)
        facts = self._context.disk_of(where)
        try:
            check_header(ref, where)
            hint, known = locked_hint(where), about(where, None)
        except GoodTideError as error:
            replaced = isinstance(error, StoreReplacedError)
            return StoreView(ref.id, where.called, disk, True, False, trouble=str(error), replaced=replaced)
        total, free, kind = (facts.total, facts.free, facts.file_system) if facts is not None else (0, 0, "")
        shown = ref.place == self.shown.place
        return StoreView(
            ref.id,
            where.called,
            disk,
            True,
            hint is not None,
            hint or "",
            known.stored_bytes,
            total,
            free,
            kind,
            self._by_week() if shown else (),
            known.snapshots,
            shown,
            removable=facts is not None and facts.removable,
            left=left_count(self._context.here.holdings, ref),
        )

    def _by_week(self) -> tuple[tuple[int, int], ...]:
        """Stored bytes that each week added, as far as history was read."""
        if self.last_state not in (StoreState.READY, StoreState.EMPTY):
            return ()
        history = self.history()
        if self._weeks[0] != history:
            added = self.catalog().stored_each(self.machine.id, _FIRST_MONDAY, _WEEK)
            self._weeks = history, tuple(added)
        return self._weeks[1]

    def ruled_out(self, coverage: Coverage) -> int:
        """How many files of the newest snapshot some rules would leave out."""
        states = PathStates(coverage)
        gone = 0
        for path, names, sizes, modified in self.catalog().standing_files(self.machine.id):
            folder = os.fsdecode(path)
            covered = next(
                (
                    one
                    for one in self.job.folders
                    if folder == one or folder.startswith(one.rstrip("/") + "/")
                ),
                None,
            )
            if covered is not None:
                state = states.of(folder, covered)
                decided = coverage.files(state, [os.fsdecode(name) for name in names], sizes, modified)
                gone += sum(coverage.is_out(rule) for rule in decided)
        return gone
