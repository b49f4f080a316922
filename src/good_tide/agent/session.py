"""The job's store, kept open: answers about its history."""

from __future__ import annotations

import itertools
import os
import threading
from collections.abc import Callable
from pathlib import Path

from good_tide.agent.openings import Openings
from good_tide.agent.requests import PathAtRequest
from good_tide.core.clock import SECOND, Clock
from good_tide.core.coverage import Coverage
from good_tide.core.entries import Kind
from good_tide.core.errors import GoodTideError, WrongPassphraseError
from good_tide.core.history import Lifeline, Span, TidePoint
from good_tide.core.places import DiskFacts
from good_tide.core.records import Machine, Snapshot
from good_tide.core.selection import no_longer_kept
from good_tide.core.settings import Job, StoreRef
from good_tide.operations.coverage.selecting import PathStates
from good_tide.operations.history.browse import entry_at
from good_tide.operations.history.path_history import path_spans
from good_tide.operations.snapshot import holding
from good_tide.operations.stores.opening import Catalog, Store, about, locked_hint, open_catalog
from good_tide.operations.stores.pinning import check_header
from good_tide.operations.workplace import Workplace
from good_tide.protocol.messages import Detail, FolderView, Found, PreviewView, StoreView
from good_tide.system.disks import Disks
from good_tide.system.keyrings import KeyRing

_WEEK = 7 * 86400 * SECOND
_FIRST_MONDAY = 4 * 86400 * SECOND
"""1970 began on a Thursday; weeks are counted from its first Monday."""
_LONG_HISTORY = 60
"""Unseen snapshots from which on they are read in a thread of its own; fewer take less than a second or
two."""


class Session:
    """The stores of a job. Opened when first needed; opened again after their disks were away.

    :param caught_up: called when a long history was read.
    :param typed: passphrases that were typed while this agent runs, by the stores' ids; shared by all jobs.
    """

    def __init__(
        self,
        job: Job,
        here: Workplace,
        clock: Clock,
        disks: Disks,
        ring: KeyRing,
        typed: dict[str, str],
        caught_up: Callable[[], None] = lambda: None,
    ) -> None:
        self.job = job
        self._here, self._clock, self._disks, self._ring = here, clock, disks, ring
        self.openings = Openings(job, here, clock, disks, ring, typed)
        self._caught_up = caught_up
        self._reader: threading.Thread | None = None
        self.read = (0, 0)
        """While a long history is read: snapshots done, and in all."""
        self.shown: StoreRef = job.stores[0] if job.stores else StoreRef(path="")
        self.machine: Machine = job.machine or here.machine
        self._lock = threading.RLock()
        self._store: Store | None = None
        self._opened_in: Path | None = None
        self._catalog: Catalog | None = None
        self.damage: list[str] = []
        self.last_state = ""
        """What ``state`` was when it was last asked; empty since the store was opened anew."""
        self.reading = False
        """Whether a store of another machine is looked into, and nothing is ever written to it."""

    def take_job(self, job: Job) -> None:
        """Go on with changed settings."""
        with self._lock:
            self.job = self.openings.job = job
            same = next((ref for ref in job.stores if ref.place == self.shown.place), None)
            if same is not None:
                self.shown = same
            elif job.stores:
                self.look_into(job.stores[0])

    def folder_of(self, ref: StoreRef) -> Path | None:
        """Where one of the job's stores is now (``Openings.folder_of``)."""
        return self.openings.folder_of(ref)

    def disk_of(self, folder: Path) -> DiskFacts | None:
        """The disk that a folder is on."""
        return self._disks.of_folder(folder)

    def choose_present(self) -> None:
        """Look into another of the job's stores when the disk of the one looked into is away."""
        if self.folder_of(self.shown) is None:
            there = next((ref for ref in self.job.stores if self.folder_of(ref) is not None), None)
            if there is not None:
                self.look_into(there)

    def look_into(self, ref: StoreRef) -> None:
        """Show history from another store."""
        with self._lock:
            self.shown, self._store, self._catalog = ref, None, None

    def state(self) -> str:
        """As in ``messages.Overview``; opens the store if that is possible, and begins to read a long unseen
        history."""
        self.last_state = self._state()
        return self.last_state

    def _state(self) -> str:
        self.choose_present()
        folder = self.folder_of(self.shown)
        if folder != self._opened_in:
            self.look_again()
        if folder is None and not holding.has_area(self._here.holdings, self.shown):
            self.look_again()
            return "away"
        try:
            if self._catches_up():
                return "catching-up"
            self.sync()
        except WrongPassphraseError:
            return "locked"
        except GoodTideError as error:
            self.damage = [str(error)]
            return "damaged"
        return "ready" if self.tide() else "empty"

    def _catches_up(self) -> bool:
        """Whether so much history is unseen that it is read in a thread of its own; begins that."""
        if self._reader is not None and self._reader.is_alive():
            return True
        store, catalog = self.store(), self.catalog()
        if len(set(store.snapshot_names()) - catalog.names()) < _LONG_HISTORY:
            return False

        def tell(done: int, total: int) -> None:
            self.read = (done, total)

        def read() -> None:
            try:
                catalog.sync(store, tell)
            except GoodTideError as error:
                self.damage = [str(error)]
            self._caught_up()

        self._reader = threading.Thread(target=read, name="history", daemon=True)
        self._reader.start()
        return True

    def unlock(self, passphrase: str, remember: bool = False) -> None:
        """Open the store with a passphrase, kept in memory while the agent runs, and in the key ring by
        choice.

        Raises:
            WrongPassphraseError: it does not open. PlaceError: too many wrong ones lately; or the key ring
                does not take it, though the store is open.
        """
        with self._lock:
            self.look_again()
            identity = self.openings.unlock(self.shown, passphrase)
            self.store()
        if remember:
            self._ring.remember(identity, passphrase)

    def look_again(self) -> None:
        """Open what is looked into anew when it is next asked for: its disk came or went, or snapshots were
        carried over."""
        with self._lock:
            self._store = self._catalog = None
            self.last_state = ""

    def store(self) -> Store:
        """The store that is looked into; its holding area while the disk is away.

        Raises:
            GoodTideError: it cannot be opened.
        """
        with self._lock:
            if self._store is None:
                self._opened_in = self.openings.folder_of(self.shown)
                self._store = self.openings.looked_into(self.shown, self._opened_in)
                self._catalog = open_catalog(self._store, self._here.cache)
            return self._store

    def catalog(self) -> Catalog:
        """The catalog of the open store."""
        self.store()
        assert self._catalog is not None
        return self._catalog

    def sync(self) -> None:
        """Take notice of snapshots that were added, by this agent or by others; cheap when there are none."""
        self.damage = [str(error) for error in self.catalog().sync(self.store())]

    def tide(self) -> list[TidePoint]:
        """The snapshots of this machine."""
        return self.catalog().tide(self.machine.id)

    def history(self) -> tuple[str, list[TidePoint]]:
        """The snapshots of this machine, and what stands for them (``Catalog.history``)."""
        with self.catalog().held_still() as catalog:
            return catalog.history(self.machine.id), catalog.tide(self.machine.id)

    def snapshot(self, name: str, time: int) -> Snapshot:
        """One snapshot of this machine.

        :param time: when it was taken, for the words in which it is missed.

        Raises:
            PersonError: it is not there, or no longer.
        """
        self.sync()  # others may have released it
        tide = self.tide()
        if any(point.name == name for point in tide):
            return self.store().read_snapshot(name)
        raise no_longer_kept(time, [point.time for point in tide], self._clock.now())

    def folder(self, path: bytes) -> FolderView:
        """Lifelines of a folder's contents; of the covered folders for the empty path."""
        with self.catalog().held_still() as catalog:
            history = catalog.history(self.machine.id)
            if not path:
                return FolderView(path, tuple(catalog.roots(self.machine.id)), history)
            number = catalog.folder(self.machine.id, path)
            lines: list[Lifeline] = [] if number is None else catalog.lifelines(number)
            return FolderView(path, tuple(lines), history)

    def detail(self, wanted: PathAtRequest) -> Detail:
        """One version of a path, previewed and compared."""
        from good_tide.operations.history.preview import (
            compare_versions,
            compare_with_disk,
            preview,
        )  # large tables, for a window only

        path = wanted.path
        store, snapshot = self.store(), self.snapshot(wanted.snapshot, wanted.time)
        entry = entry_at(store, snapshot, path)
        with self.catalog().held_still() as catalog:
            tide = catalog.tide(self.machine.id)
            spans = path_spans(catalog, self.machine.id, path)
            seq = next((point.seq for point in tide if point.name == snapshot.name), 0)
            current = next(
                (span for span in spans if span.first <= seq and (span.last is None or span.last >= seq)),
                None,
            )
            before = self._version_before(spans, current)
            before_name = tide[before.first - 1].name if before is not None else ""
            elsewhere = self._elsewhere(path, current)
        with_disk = with_before = ""
        disk_difference = before_difference = None
        if entry.kind is Kind.FILE:
            disk_difference, with_disk = compare_with_disk(store, entry, path)
            with_before = "This is the first version"
            if before_name:
                old = entry_at(store, store.read_snapshot(before_name), path)
                before_difference, with_before = compare_versions(store, entry, old)
        shown = preview(store, entry)
        return Detail(
            path,
            snapshot.name,
            entry.kind.value,
            entry.stat.size,
            entry.stat.modified,
            entry.stat.mode,
            entry.extra.unsteady,
            PreviewView(shown.form, shown.text, shown.encoding, shown.picture, shown.cut),
            with_disk,
            disk_difference,
            with_before,
            before_difference,
            elsewhere,
        )

    @staticmethod
    def _version_before(spans: list[Span], current: Span | None) -> Span | None:
        earlier = [
            span
            for span in spans
            if current is not None and span.first < current.first and span.kind != Kind.LEFT_OUT
        ]
        return earlier[-1] if earlier else None

    def _elsewhere(self, path: bytes, current: Span | None) -> tuple[bytes, ...]:
        """Other paths with the same content that begin where this one ends, or end where it begins: a renamed
        file."""
        if current is None or current.kind != Kind.FILE or not current.size:
            return ()
        around = [current.first] if current.first > 1 else []
        around += [current.last + 1] if current.last is not None else []
        return tuple(
            other
            for other in self.catalog().same_content(self.machine.id, current.identity, around)
            if other != path
        )

    def find(self, words: str) -> list[Found]:
        """Everything whose name ever contained some words."""
        times = {point.seq: point.time for point in self.tide()}
        found = []
        for path in self.catalog().find(self.machine.id, words):
            last = path_spans(self.catalog(), self.machine.id, path)[-1].last
            found.append(Found(path, None if last is None else times[last]))
        return found

    def store_views(self, tide: list[TidePoint]) -> tuple[StoreView, ...]:
        """The job's stores and their disks; what can be said when one is away or locked."""
        return tuple(
            self._store_view(ref, tide if ref.place == self.shown.place else []) for ref in self.job.stores
        )

    def _store_view(self, ref: StoreRef, tide: list[TidePoint]) -> StoreView:
        folder = self.folder_of(ref)
        disk = ref.name or Path(ref.path).name
        if folder is None:
            return StoreView(ref.path, disk, False, True)
        facts = self._disks.of_folder(folder)
        try:
            check_header(ref, folder)
            hint, known = locked_hint(folder), about(folder, None)
        except GoodTideError as error:
            return StoreView(str(folder), disk, True, False, trouble=str(error))
        weeks = tuple(
            (week * _WEEK + _FIRST_MONDAY, sum(point.stored for point in points))
            for week, points in itertools.groupby(tide, lambda point: (point.time - _FIRST_MONDAY) // _WEEK)
        )
        total, free, kind = (facts.total, facts.free, facts.file_system) if facts is not None else (0, 0, "")
        return StoreView(
            str(folder),
            disk,
            True,
            hint is not None,
            hint or "",
            known.stored_bytes,
            total,
            free,
            kind,
            weeks,
            known.store,
            known.snapshots,
            shown=ref.place == self.shown.place,
            removable=facts is not None and facts.removable,
        )

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
