"""A job's run: held snapshots carried over, the snapshot taken into the stores whose turn it is, and
everything noted."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from good_tide.core import planning
from good_tide.core.clock import Clock
from good_tide.core.coverage import Coverage
from good_tide.core.errors import GoodTideError, PersonError, PlaceError, StoppedError
from good_tide.core.happenings import Result, Run
from good_tide.core.kinds import extended
from good_tide.core.planning import Book, Occasion
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot, Tally
from good_tide.core.settings import Job, StoreRef
from good_tide.core.words import count_words, size_words
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.coverage.survey import Survey, Weighing
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.run_records import Books
from good_tide.operations.records.store_memory import StoreMemory, others_write
from good_tide.operations.reporting.fleet import leave_status
from good_tide.operations.snapshot import holding
from good_tide.operations.snapshot.capture import CaptureRequest, capture, last_snapshot
from good_tide.operations.stores.disks import locate
from good_tide.operations.stores.opening import Catalog, Store, open_catalog, take_into_catalog
from good_tide.operations.workplace import Workplace
from good_tide.system.disks import Disks
from good_tide.system.mounts import network_devices


class Taken(msgspec.Struct, frozen=True):
    """What became of a job's snapshot in one store: the snapshot, or why there is none.

    :param held: it lies in the holding area. :param carried: held snapshots that were carried over before.
    """

    ref: StoreRef
    snapshot: Snapshot | None = None
    error: GoodTideError | None = None
    held: bool = False
    carried: int = 0


class Hands(msgspec.Struct, frozen=True, kw_only=True):
    """What a run works with.

    :param open_ref: opens one of the job's stores in its folder.
    :param open_area: opens the holding area of a store whose disk is away.
    :param warn: tells a person something at once, as a sentence and an advice.
    :param make_room: called before the run; raises what keeps it from being taken.
    """

    here: Workplace
    disks: Disks
    clock: Clock
    journal: Journal
    open_ref: Callable[[StoreRef, Path], Store]
    open_area: Callable[[StoreRef], holding.HoldingArea]
    warn: Callable[[str, str], None] = lambda what, todo: None
    make_room: Callable[[Control], None] = lambda control: None


def due_stores(
    job: Job, present: Sequence[tuple[StoreRef, Store]], machine: str
) -> list[tuple[StoreRef, Store]]:
    """Which of the open stores the next snapshot goes to: all, or in turns the one that waited longest."""
    if job.store_use == "both" or len(present) < 2:
        return list(present)

    def last(one: tuple[StoreRef, Store]) -> int:
        newest = last_snapshot(one[1], machine)
        return 0 if newest is None else newest.record.time

    return [min(present, key=last)]


def request_for(job: Job, here: Workplace, label: str = "") -> CaptureRequest:
    """What a job's snapshot covers now."""
    return CaptureRequest(
        tuple(Path(folder) for folder in job.folders),
        job.machine or here.machine,
        rules=job.parsed_rules(),
        kinds=job.kinds,
        home=job.home or home_folder(),
        network=network_devices(),
        label=label,
        missing_is_gap=True,
        own=(holding.area_root(here.holdings),),
    )


def run_job(
    job: Job, hands: Hands, control: Control, occasion: Occasion = Occasion.HAND, label: str = ""
) -> list[Taken]:
    """Take a job's snapshot into the stores whose turn it is, or into the holding area while their disks are
    away. A store that cannot be used does not keep the others from it.

    Raises:
        PlaceError: no store can be used now, and no holding area either. StoppedError: the person stopped it.
    """
    results: list[Taken] = []
    present: list[tuple[StoreRef, Store]] = []
    for ref in job.stores:
        folder = locate(ref, hands.disks)
        try:
            if folder is None:
                raise PlaceError(
                    f"The disk {ref.name or ref.path} is not here",
                    "Connect it; the other stores are used meanwhile",
                )
            present.append((ref, hands.open_ref(ref, folder)))
        except GoodTideError as error:
            results.append(Taken(ref, error=error))
    run = _Run(job, hands, control, occasion, request_for(job, hands.here, label))
    if not present:
        if not results:
            raise PersonError(f"The job {job.name} has no store", "Add one first")
        away = [
            one.ref
            for one in results
            if locate(one.ref, hands.disks) is None and holding.has_area(hands.here.holdings, one.ref)
        ]
        if not away or not job.holding.on:
            assert results[0].error is not None
            run.note(results[0].ref.name, time.monotonic(), results[0].error)
            raise results[0].error
        return [run.into_area(away[0])]
    for ref, store in due_stores(job, present, run.request.machine.id):
        results.append(run.into_store(ref, store))
    return results


def run_kept(
    job: Job,
    hands: Hands,
    books: Books,
    before: Book,
    control: Control,
    occasion: Occasion = Occasion.HAND,
    label: str = "",
) -> list[Taken]:
    """``run_job``, kept in the books and told in the journal.

    Raises:
        GoodTideError: as ``run_job``, or when no store took the snapshot.
    """
    began = hands.clock.now()
    books.keep(job.name, planning.began(before, began))
    try:
        hands.make_room(control)
        taken = run_job(job, hands, control, occasion, label)
    except StoppedError:
        books.keep(job.name, planning.ended(before, began, False))
        raise
    except GoodTideError as error:
        _failed(job, hands, books, before, error)
        raise
    done = [one for one in taken if one.snapshot is not None]
    failed = [(one.ref.name or one.ref.path, one.error) for one in taken if one.error is not None]
    if not done:
        _failed(job, hands, books, before, failed[0][1])
        return taken
    books.keep(job.name, planning.ended(before, began, any(not one.held for one in done)))
    for name, fault in failed:
        if hands.journal.is_news(f"store/{job.name}/{name}/{fault.what}"):
            hands.journal.add(
                "note",
                job.name,
                f"No snapshot into {name}",
                (fault.what,),
                "The other stores have it.",
                fault.advice,
            )
    if before.failures:
        tries = count_words(before.failures, "try", "tries")
        hands.journal.add(
            "good", job.name, "Snapshots work again", (f"After {tries} that failed: {before.error}",)
        )
    return taken


def _failed(job: Job, hands: Hands, books: Books, before: Book, error: GoodTideError) -> None:
    books.keep(job.name, planning.failed(before, hands.clock.now(), error.what, error.advice))
    if not before.failures or before.error != error.what:
        hands.journal.add(
            "trouble",
            job.name,
            error.what,
            (),
            "No snapshot was taken. It is tried again by itself.",
            error.advice,
        )


_COUNT_STEP = 0.2
"""Seconds of counting between looks at whether it is to stop."""


class _Run:
    """One run."""

    def __init__(
        self, job: Job, hands: Hands, control: Control, occasion: Occasion, request: CaptureRequest
    ) -> None:
        self._job, self._hands, self._control, self._occasion, self.request = (
            job,
            hands,
            control,
            occasion,
            request,
        )
        self._began = hands.clock.now()

    def into_store(self, ref: StoreRef, store: Store) -> Taken:
        """Into a store whose disk is here: first what was held, then the snapshot, then what the holding area
        needs of it."""
        hands, name = self._hands, ref.name or ref.path
        catalog, started, carried = open_catalog(store, hands.here.cache), time.monotonic(), 0
        try:
            self._look(store)
            carried = self._drain(ref, store)
            known = catalog.stored_small if catalog.names() else None
            snapshot = capture(
                store, self._request_for(store), hands.clock, self._control, hands.here.state, known
            )
            take_into_catalog(store, catalog)
            self._tell_trouble(catalog)
            self.note(name, started, snapshot)
            self._prime(ref, store, snapshot)
            leave_status(store, self._job, self.request.machine, snapshot, hands.clock)
            return Taken(ref, snapshot, carried=carried)
        except GoodTideError as error:
            self.note(name, started, error)
            if isinstance(error, StoppedError):
                raise
            return Taken(ref, error=error, carried=carried)
        finally:
            catalog.close()

    def _look(self, store: Store) -> None:
        """Notice that a store is older than it was, or that another machine writes this one's history."""
        hands, memory = self._hands, StoreMemory(self._hands.here.state, store.header.store)
        found = memory.look(store)
        machine = self.request.machine
        if memory.notice_others(machine.id, last_snapshot(store, machine.id), hands.clock.now()):
            found.append(others_write(machine.name))
        for noticed in found:
            hands.journal.add("trouble", self._job.name, noticed.what, (), "", noticed.todo)
            hands.warn(noticed.what, noticed.todo)

    def _tell_trouble(self, catalog: Catalog) -> None:
        """The snapshot is there; what makes looking back quick could not be kept."""
        if catalog.trouble:
            what = f"What this machine remembers of its stores cannot be kept: {catalog.trouble}"
            todo = "Free some room in your home folder; snapshots go on, and looking back is slow meanwhile"
            self._hands.journal.add("trouble", self._job.name, what, (), "", todo)
            self._hands.warn(what, todo)

    def _request_for(self, store: Store) -> CaptureRequest:
        """The request; before a first snapshot the files are counted, so that its progress has an end in
        sight."""
        if last_snapshot(store, self.request.machine.id) is not None:
            return self.request
        self._control.report(Progress("Counting"))
        survey = Survey(self.request.folders, self.request.network)
        while not survey.done:
            survey.look(_COUNT_STEP)
            self._control.checkpoint()
        now = self._hands.clock.now()
        weighing = Weighing(
            survey, Coverage(self.request.rules, self.request.home, now, extended(self.request.kinds)), now
        )
        while not weighing.done:
            weighing.weigh(_COUNT_STEP)
            self._control.checkpoint()
        return msgspec.structs.replace(
            self.request, expected=Tally(files=weighing.total.files, bytes=weighing.total.bytes)
        )

    def into_area(self, ref: StoreRef) -> Taken:
        """Into the holding area."""
        hands, started, name = self._hands, time.monotonic(), f"holding area of {ref.name or ref.path}"
        try:
            area = hands.open_area(ref)
            catalog = open_catalog(area, hands.here.cache)
            try:
                known = catalog.stored_small if catalog.names() else None
                snapshot = holding.take_into(
                    area,
                    self._job,
                    self.request,
                    hands.clock,
                    self._control,
                    hands.here.state,
                    hands.journal,
                    known,
                    hands.warn,
                )
                take_into_catalog(area, catalog)
            finally:
                catalog.close()
        except GoodTideError as error:
            self.note(name, started, error)
            raise
        self.note(name, started, snapshot)
        return Taken(ref, snapshot, held=True)

    def _drain(self, ref: StoreRef, store: Store) -> int:
        hands = self._hands
        if not holding.held_count(hands.here.holdings, ref):
            return 0
        area = holding.area_for(hands.here.holdings, ref, store, self._job.holding)
        report = holding.drain(area, store, hands.here.state, self._control)
        if report is None:
            return 0
        words = (
            f"{count_words(len(report.carried), 'snapshot')} carried over from the holding area,"
            f" {size_words(report.stored_bytes)}"
        )
        detail = tuple(text for _, text in report.damaged)
        means = (
            "Some could not be carried and stay in the holding area."
            if detail
            else "Everything taken while the disk was away is on it, and was read back."
        )
        hands.journal.add("trouble" if detail else "good", self._job.name, words, detail, means)
        return len(report.carried)

    def _prime(self, ref: StoreRef, store: Store, snapshot: Snapshot) -> None:
        """What the holding area needs; without it snapshots would not go on without the disk, which is said
        and not fatal."""
        hands = self._hands
        if not self._job.holding.on or (not ref.disk and locate(ref, hands.disks) is None):
            return
        try:
            area = holding.area_for(hands.here.holdings, ref, store, self._job.holding)
            holding.prime(area, store, snapshot, hands.here.state)
        except (GoodTideError, OSError) as error:
            if hands.journal.is_news(f"prime/{self._job.name}"):
                hands.journal.add(
                    "note",
                    self._job.name,
                    "The holding area could not be made ready",
                    (str(error),),
                    "Should the disk go away, no snapshots are taken without it.",
                    "Make room in the home folder, or switch the holding area off.",
                )

    def note(self, store: str, started: float, outcome: Snapshot | GoodTideError) -> None:
        """Note what became of it in the journal."""
        journal, seconds = self._hands.journal, time.monotonic() - started
        base = Run(self._job.name, store, self._occasion, self._began, seconds, "failed")
        if isinstance(outcome, GoodTideError):
            result: Result = "stopped" if isinstance(outcome, StoppedError) else "failed"
            journal.add_run(msgspec.structs.replace(base, result=result, words=str(outcome)))
            return
        tally = outcome.record.tally
        journal.add_run(
            msgspec.structs.replace(
                base,
                result="gaps" if outcome.gaps else "done",
                files=tally.files,
                changed=tally.changed_files,
                new_bytes=tally.new_bytes,
                stored=tally.stored_bytes,
                gaps=outcome.gaps,
                snapshot=outcome.name,
            )
        )
        journal.take_left_out(self._job.name, outcome)
