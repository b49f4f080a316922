"""The job's store, kept open: answers about its history."""

from __future__ import annotations

import itertools
import shutil
import threading
from pathlib import Path

from good_tide.core.clock import SECOND, Clock
from good_tide.core.entries import Kind
from good_tide.core.errors import GoodTideError, PersonError, WrongPassphraseError
from good_tide.core.history import Lifeline, Span, TidePoint
from good_tide.core.records import Machine, Snapshot
from good_tide.core.settings import Job
from good_tide.core.words import count_words, printable, size_words
from good_tide.operations.browse import entry_at
from good_tide.operations.history import path_spans
from good_tide.operations.previewing import compare_versions, compare_with_disk, preview
from good_tide.operations.stores import Catalog, Store, about, locked_hint, open_at, synced_catalog
from good_tide.operations.workplace import Workplace
from good_tide.protocol.messages import CoveredFolder, Detail, FolderView, Found, JournalEntry, PreviewView, StoreView
from good_tide.system.mounts import file_system_of

_WEEK = 7 * 86400 * SECOND
_FIRST_MONDAY = 4 * 86400 * SECOND
"""1970 began on a Thursday; weeks are counted from its first Monday."""
_LEFT_OUT_SHOWN = 50


class Session:
    """The store of a job. Opened when first needed; opened again after its disk was away."""

    def __init__(self, job: Job, here: Workplace, clock: Clock) -> None:
        self.job = job
        self._here, self._clock = here, clock
        self.machine: Machine = job.machine or here.machine
        self._lock = threading.RLock()
        self._store: Store | None = None
        self._catalog: Catalog | None = None
        self._passphrase: str | None = None
        self.damage: list[str] = []

    def state(self) -> str:
        """``away``, ``locked``, ``damaged``, ``empty`` or ``ready``; opens the store if that is possible."""
        if not Path(self.job.store).is_dir():
            with self._lock:
                self._store = self._catalog = None
            return "away"
        try:
            self.sync()
        except WrongPassphraseError:
            return "locked"
        except GoodTideError as error:
            self.damage = [str(error)]
            return "damaged"
        return "ready" if self.tide() else "empty"

    def unlock(self, passphrase: str) -> None:
        """Open the store with a passphrase, kept in memory while the agent runs.

        Raises:
            WrongPassphraseError: it does not open.
        """
        with self._lock:
            self._store, self._catalog, self._passphrase = None, None, passphrase
            try:
                self.store()
            except WrongPassphraseError:
                self._passphrase = None
                raise

    def store(self) -> Store:
        """The open store.

        Raises:
            GoodTideError: it cannot be opened.
        """
        with self._lock:
            if self._store is None:
                self._store = open_at(Path(self.job.store), self._known_passphrase())
                self._catalog, damage = synced_catalog(self._store, self._here.cache)
                self.damage = [str(error) for error in damage]
            return self._store

    def _known_passphrase(self) -> str | None:
        if self._passphrase is None and self.job.passphrase_file:
            try:
                return Path(self.job.passphrase_file).read_text(encoding="utf-8").rstrip("\r\n")
            except (OSError, UnicodeDecodeError):
                return None
        return self._passphrase

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

    def snapshot(self, seq: int) -> Snapshot:
        """One snapshot of this machine by its number."""
        tide = self.tide()
        if not 1 <= seq <= len(tide):
            raise PersonError(f"There is no snapshot number {seq}", "Choose one on the timeline")
        return self.store().read_snapshot(tide[seq - 1].name)

    def folder(self, path: bytes) -> FolderView:
        """Lifelines of a folder's contents; of the covered folders for the empty path."""
        if not path:
            return FolderView(path, tuple(self.catalog().roots(self.machine.id)))
        number = self.catalog().folder(self.machine.id, path)
        lines: list[Lifeline] = [] if number is None else self.catalog().lifelines(number)
        return FolderView(path, tuple(lines))

    def detail(self, path: bytes, seq: int) -> Detail:
        """One version of a path, previewed and compared."""
        store, snapshot = self.store(), self.snapshot(seq)
        entry = entry_at(store, snapshot, path)
        spans = path_spans(self.catalog(), self.machine.id, path)
        current = next((span for span in spans if span.first <= seq and (span.last is None or span.last >= seq)), None)
        before = self._version_before(spans, current)
        with_disk = with_before = ""
        disk_difference = before_difference = None
        if entry.kind is Kind.FILE:
            disk_difference, with_disk = compare_with_disk(store, entry, path)
            with_before = "This is the first version"
            if before is not None:
                old = entry_at(store, self.snapshot(before.first), path)
                before_difference, with_before = compare_versions(store, entry, old)
        shown = preview(store, entry)
        return Detail(
            path, seq, entry.kind.value, entry.stat.size, entry.stat.modified, entry.stat.mode, entry.extra.unsteady,
            PreviewView(shown.form, shown.text, shown.encoding, shown.picture, shown.cut),
            with_disk, disk_difference, with_before, before_difference, self._elsewhere(path, current),
        )  # fmt: skip

    @staticmethod
    def _version_before(spans: list[Span], current: Span | None) -> Span | None:
        earlier = [span for span in spans if current is not None and span.first < current.first and span.kind != Kind.LEFT_OUT]
        return earlier[-1] if earlier else None

    def _elsewhere(self, path: bytes, current: Span | None) -> tuple[bytes, ...]:
        """Other paths with the same content that begin where this one ends, or end where it begins: a renamed file."""
        if current is None or current.kind != Kind.FILE or not current.size:
            return ()
        around = [current.first] if current.first > 1 else []
        around += [current.last + 1] if current.last is not None else []
        return tuple(other for other in self.catalog().same_content(self.machine.id, current.identity, around) if other != path)

    def find(self, words: str) -> list[Found]:
        """Everything whose name ever contained some words."""
        times = {point.seq: point.time for point in self.tide()}
        found = []
        for path in self.catalog().find(self.machine.id, words):
            last = path_spans(self.catalog(), self.machine.id, path)[-1].last
            found.append(Found(path, None if last is None else times[last]))
        return found

    def store_view(self, tide: list[TidePoint]) -> StoreView:
        """The store and its disk; what can be said when it is away or locked."""
        folder = Path(self.job.store)
        disk = self.job.disk or folder.name
        if not folder.is_dir():
            return StoreView(str(folder), disk, False, True)
        usage = shutil.disk_usage(folder)
        hint = locked_hint(folder)
        stored = about(folder, None).stored_bytes
        weeks = tuple(
            (week * _WEEK, sum(point.stored for point in points))
            for week, points in itertools.groupby(tide, lambda point: (point.time - _FIRST_MONDAY) // _WEEK)
        )
        return StoreView(
            str(folder), disk, True, hint is not None, hint or "", stored, usage.total, usage.free, file_system_of(folder), weeks
        )

    def coverage(self) -> list[CoveredFolder]:
        """The covered folders and what is in them, two levels deep, as the newest snapshot has them."""
        return [CoveredFolder(*row) for row in self.catalog().sizes(self.machine.id, 2)]

    def journal(self) -> list[JournalEntry]:
        """The runs, newest first, as far as the store tells of them."""
        entries = []
        for point in reversed(self.tide()):
            words = f"Snapshot of {count_words(point.files, 'file')}: {point.added} added, {point.changed} changed, {point.removed} removed; the store grew by {size_words(point.stored)}"
            detail: tuple[str, ...] = ()
            if point.gaps:
                record = self.store().read_snapshot(point.name).record
                gaps = [item for item in record.left_out if item.reason not in ("special", "store")]
                detail = tuple(f"{printable(item.path)}: {item.detail}" for item in gaps[:_LEFT_OUT_SHOWN])
                detail += tuple(f"{printable(path)}: changed while it was read" for path in record.unsteady[:_LEFT_OUT_SHOWN])
            entries.append(JournalEntry(point.time, "note" if point.gaps else "good", words, detail))
        return entries


def _monday(week: int) -> int:
    """When a week counted from the first Monday of 1970 begins, in nanoseconds."""
    return _FIRST_MONDAY + week * _WEEK
