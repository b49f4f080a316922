"""The sweep: gives back the room of what no snapshot needs. ``docs/thinning.md`` ("The sweep") has the
argument why it is safe.

In steps, each of which leaves the store whole: what is needed is marked; packs without anything needed are
written into a doomed list; as soon as every writer at work heeds the list, what is needed is marked again,
and the packs that are still unneeded are deleted; then the index is written without them, and the list
removed. Packs with little that is needed are copied into new ones and become doomed in turn.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterable, Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from good_tide.core.clock import SECOND
from good_tide.core.errors import DamageError, NotInPlaceError, PlaceError, PlaceFullError
from good_tide.core.identifiers import PackId
from good_tide.core.progress import Control, Progress
from good_tide.core.translation import tr
from good_tide.storage.chunk_keys import Keys
from good_tide.storage.doomed import DOOMED_FOLDER, read_doomed, write_doomed
from good_tide.storage.envelope import FileKind
from good_tide.storage.folders import INDEX_FOLDER
from good_tide.storage.index import encode_tables
from good_tide.storage.leaning import leaning_places
from good_tide.storage.marks import HOLDING_OWNER, LEASE_FOLDER, WRITER_FOLDER, Mark, SeenMark, seen_marks
from good_tide.storage.needs import all_snapshots, live_chunks, needed_keys, needed_themselves
from good_tide.storage.packed import pack_file
from good_tide.storage.packs import PACK_BYTES, Holds, PackTable, PackWriter
from good_tide.storage.store import Store
from good_tide.storage.upright import set_upright, worth_setting_upright

DEAD_AFTER = 24 * 3600 * SECOND
"""A mark that did not move for so long, by the clock of the machine that looks, belongs to nobody any
more."""
HOLDING_DEAD_AFTER = 90 * 24 * 3600 * SECOND
"""The same for a holding area, whose machine may be on a journey."""
_WORTH = 0.5
"""A pack is copied when less than this part of it is needed."""
_SMALL_PACK, _MANY_SMALL = 4 * 1024 * 1024, 64
"""Packs of less bytes are joined when there are so many: what each hour brings makes two."""
_WORTH_JOINING = 600


def has_many_small_packs(store: Store) -> bool:
    """Whether there are so many small packs that joining them is worth a sweep though nothing was released:
    each takes room for padding and parity, and every run lists them all."""
    tables = store.index.tables.values()
    if len(tables) < _WORTH_JOINING:
        return False
    return sum(int(table.room().sum()) < _SMALL_PACK for table in tables) >= _WORTH_JOINING


class Watched(msgspec.Struct):
    """What a machine remembers of others' marks between sweeps: owner → which of the series, and since when
    by its own clock."""

    seen: dict[str, tuple[int, int]] = {}

    def standing_since(self, marks: Sequence[SeenMark], now: int) -> dict[str, int]:
        """For each mark since when it stands still. Marks that are gone are forgotten."""
        fresh = {}
        for mark in marks:
            number, since = self.seen.get(mark.owner, (-1, now))
            fresh[mark.owner] = (mark.number, since if number == mark.number and since <= now else now)
        self.seen = fresh
        return {owner: since for owner, (_, since) in fresh.items()}


class SweepReport(msgspec.Struct):
    """What a sweep did, or would do. Bytes of files in the store.

    :param waits: unneeded packs that a writer at work may still build on; a later sweep deletes them.
    :param unclear: why it is not known what is needed, and nothing was deleted; empty if it is.
    """

    packs: int = 0
    freed: int = 0
    rewritten: int = 0
    waits: int = 0
    unneeded: int = 0
    unclear: str = ""
    seconds: float = 0.0


class Sweep:
    """One sweep of a store.

    :param owner: begins the names of this machine's temporary files and marks; the caller holds the machine's
        lock for sweeps.
    :param watched: what this machine remembers of marks; changed, to be kept for the next sweep.
    :param now: this machine's clock, nanoseconds since 1970 UTC.
    :param report: of a sweep that this one goes on with.
    :param thorough: copy what is needed out of every pack that holds anything unneeded, so that no trace of
        it is left.
    """

    def __init__(
        self,
        store: Store,
        owner: str,
        watched: Watched,
        now: int,
        control: Control,
        report: SweepReport | None = None,
        thorough: bool = False,
    ) -> None:
        self._store, self._owner, self._watched, self._now, self._control = (
            store,
            owner,
            watched,
            now,
            control,
        )
        self._report, self._thorough = report or SweepReport(), thorough

    def plan(self) -> SweepReport:
        """How much a sweep would give back at least; nothing is changed. What it would write anew so that it
        leans on nothing is not counted.

        Raises:
            PlaceError: the disk gives nothing any more.
        """
        self._store.refresh()
        try:
            needed = self._needed()
        except DamageError as error:
            self._report.unclear = error.what
            return self._report
        for table, live in live_chunks(self._store, needed):
            size = self._bytes(table)
            if not live.any():
                self._report.packs += 1
                self._report.freed += size
            elif self._pays(table, live):
                self._report.rewritten += 1
                self._report.freed += size - self._live_bytes(table, live)
        return self._report

    def run(self) -> SweepReport:
        """Sweep. It can be stopped or killed at any point, and goes on with the next. While something needed
        cannot be read and is not known to be lost for good, nothing is deleted, and the report says so.

        Raises:
            PlaceError: another machine is sweeping this store.
            StoppedError: the person stopped it; what was done is done.
        """
        began = time.monotonic()
        self._store.place.clear_temporary(self._owner)
        with Mark(self._store.place, LEASE_FOLDER, self._owner) as lease:
            self._alone(lease)
            self._store.forget_index()
            try:
                self._doom_unneeded()
                self._delete()
                if self._set_upright():
                    self._doom_unneeded()
                    self._delete()
                self._rewrite()
                self._delete()
                self._store.refresh()
                self._write_index(set())
            except DamageError as error:
                self._report.unclear = error.what
        self._report.seconds += time.monotonic() - began
        return self._report

    def _alone(self, lease: Mark) -> None:
        """Make sure that nobody else sweeps. Of two that begin at once the one whose name comes later gives
        way."""
        marks = seen_marks(self._store.place, LEASE_FOLDER)
        others = [mark for mark in marks if mark.owner != lease.owner]
        if len(others) == len(marks):
            raise PlaceError(
                tr("{title} does not list at once what is written to it").format(
                    title=self._store.place.title
                ),
                tr("Nothing is given back there: what others wrote a moment ago could not be seen"),
            )
        since = self._watched.standing_since(
            [*others, *seen_marks(self._store.place, WRITER_FOLDER)], self._now
        )
        for mark in others:
            if self._now - since[mark.owner] < DEAD_AFTER:
                raise PlaceError(
                    tr("Another machine is sweeping this store"),
                    tr("Wait until it is done; a sweep that died is passed over after a day"),
                )
            self._store.place.remove(f"{LEASE_FOLDER}/{mark.file}")

    def _doom_unneeded(self) -> None:
        needs = live_chunks(self._store, self._needed())
        self._doom(table.pack for table, live in needs if not live.any())

    def _set_upright(self) -> bool:
        """Write anew what leans on more than it is worth, as far as there is room; whether there was any."""
        store = self._store
        if not any(leaning_places(store)):
            return False
        themselves = needed_themselves(store, all_snapshots(store), self._control)
        chunks = worth_setting_upright(store, themselves)
        with contextlib.suppress(PlaceFullError):
            self._report.freed -= set_upright(store, chunks, self._owner, self._control)
        return bool(chunks)

    def _needed(self) -> Keys:
        return needed_keys(self._store, all_snapshots(self._store), self._control)

    def _bytes(self, table: PackTable) -> int:
        with contextlib.suppress(NotInPlaceError):
            return self._store.place.size(pack_file(table.pack))
        return 0

    @staticmethod
    def _live_bytes(table: PackTable, live: NDArray[np.bool_]) -> int:
        return int(table.room()[live].sum())

    def _pays(self, table: PackTable, live: NDArray[np.bool_]) -> bool:
        if self._thorough:
            return not live.all()
        whole = int(table.room().sum())
        return self._live_bytes(table, live) < _WORTH * whole

    def _doom(self, packs: Iterable[PackId]) -> None:
        """Write packs into a doomed list, unless they are in one."""
        known = frozenset().union(*read_doomed(self._store).values())
        fresh = [pack for pack in packs if pack not in known]
        if fresh:
            write_doomed(self._store, fresh, self._owner)

    def _delete(self) -> None:
        """Carry out the doomed lists that every writer at work heeds."""
        lists = read_doomed(self._store)
        heeded = self._heeded(lists)
        self._report.waits = sum(len(packs) for name, packs in lists.items() if name not in heeded)
        if not heeded:
            return
        doomed = frozenset().union(*(lists[name] for name in heeded))
        # Who has just ended has published before: its snapshot is to be seen by who no longer sees its mark.
        self._store.place.look_anew()
        self._store.refresh()
        live = live_chunks(self._store, self._needed())
        gone = [
            table
            for table, needs in live
            if table.pack in doomed and not self._only_here(table, needs, doomed)
        ]
        for number, table in enumerate(gone):
            self._control.checkpoint()
            self._control.report(Progress(tr("Giving room back"), number, len(gone)))
            self._report.freed += self._bytes(table)
            self._report.packs += 1
            self._store.place.remove(pack_file(table.pack))
        for pack in doomed - {
            table.pack for table, _ in live
        }:  # packs that no index names: an earlier sweep was cut off here
            self._store.place.remove(pack_file(pack))
        self._write_index({table.pack for table in gone})
        self._store.damage.forget(pack_file(table.pack) for table in gone)
        for name in heeded:
            self._store.place.remove(f"{DOOMED_FOLDER}/{name}")

    def _only_here(self, table: PackTable, needs: NDArray[np.bool_], doomed: frozenset[PackId]) -> bool:
        """Whether a pack has something needed that no pack has which stays."""
        numbers = np.flatnonzero(needs).tolist()
        ids = list(table.chunk_ids()) if numbers else []
        return any(
            self._store.index.find(ids[number], doomed, self._store.damage.is_bad) is None
            for number in numbers
        )

    def _heeded(self, lists: dict[str, frozenset[PackId]]) -> list[str]:
        """The lists that every writer at work heeds. Marks that stood still for too long are taken away:
        their writers notice before they publish, and begin again."""
        marks = seen_marks(self._store.place, WRITER_FOLDER)
        since = self._watched.standing_since(
            [*marks, *seen_marks(self._store.place, LEASE_FOLDER)], self._now
        )
        alive = []
        for mark in marks:
            if self._now - since[mark.owner] >= (
                HOLDING_DEAD_AFTER if mark.owner.startswith(HOLDING_OWNER) else DEAD_AFTER
            ):
                self._store.place.remove(f"{WRITER_FOLDER}/{mark.file}")
            else:
                alive.append(mark)
        return [name for name in lists if all(name in mark.says for mark in alive)]

    def _write_index(self, gone: set[PackId]) -> None:
        """Write the index anew without some packs, then remove the files that it replaces."""
        old = sorted(self._store.index_files)
        tables = [table for table in self._store.index.packs() if table.pack not in gone]
        if gone or len(old) > 1:
            if tables:
                self._store.write_sealed(FileKind.INDEX, INDEX_FOLDER, encode_tables(tables), self._owner)
            for name in old:
                self._store.place.remove(f"{INDEX_FOLDER}/{name}")
        self._store.forget_index()

    def _rewrite(self) -> None:
        """Copy what is needed of packs that hold little of it, and of small packs where there are many, into
        new packs, and doom the old ones; as far as there is room."""
        doomed = frozenset().union(*read_doomed(self._store).values())
        live = live_chunks(self._store, self._needed())
        stay = [(table, needs) for table, needs in live if table.pack not in doomed and needs.any()]
        for holds in Holds:
            those = [(table, needs) for table, needs in stay if table.holds == holds]
            small = {table.pack for table, _ in those if int(table.room().sum()) < _SMALL_PACK}
            if len(small) < _MANY_SMALL:
                small = set()
            own = [one for one in those if one[0].pack in small or self._pays(*one)]
            while own:
                looked_at, copied = self._copy_some(own, holds)
                own = own[looked_at:]
                self._report.rewritten += len(copied)
                self._doom(table.pack for table in copied)
                self._delete()
                if not looked_at:
                    break

    def _copy_some(
        self, worth: Sequence[tuple[PackTable, NDArray[np.bool_]]], holds: Holds
    ) -> tuple[int, list[PackTable]]:
        """Fill one new pack: how many packs were looked at, and those that were copied into it. One with
        damage stays as it is. None at all when the disk has no room for it."""
        store = self._store
        writer = PackWriter(store.place, store.keys, holds, self._owner, store.layout)
        looked_at, copied = 0, []
        try:
            for number, (table, needs) in enumerate(worth):
                self._control.checkpoint()
                self._control.report(Progress(tr("Copying what is needed"), number, len(worth)))
                looked_at += 1
                with contextlib.suppress(DamageError):
                    self._copy(table, needs, writer)
                    copied.append(table)
                if writer.size >= PACK_BYTES:
                    break
            if copied:
                self._store.write_sealed(
                    FileKind.INDEX, INDEX_FOLDER, encode_tables([writer.finish()]), self._owner
                )
        except PlaceFullError:
            return 0, []
        return looked_at, copied

    def _copy(self, table: PackTable, needs: NDArray[np.bool_], writer: PackWriter) -> None:
        """Copy the needed chunks of a pack, opened and so authenticated, into a new one.

        Raises:
            DamageError: one is not whole, which is noted.
        """
        for number in np.flatnonzero(needs).tolist():
            try:
                writer.add(self._store.packs.prepared(table, number))
            except DamageError as error:
                self._store.damage.note(error, number)
                raise
