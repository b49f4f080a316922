"""A job's snapshot: held ones carried over, a new one taken into the stores whose turn it is, and each
noted."""

from __future__ import annotations

import os
import time
from collections.abc import Sequence
from pathlib import Path

import msgspec

from good_tide.core.coverage import Coverage
from good_tide.core.errors import GoodTideError, PersonError, StoppedError, StoreReplacedError
from good_tide.core.happenings import Result, Run
from good_tide.core.identifiers import MachineId
from good_tide.core.jobfile import job_file_text
from good_tide.core.kinds import extended
from good_tide.core.planning import Occasion
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Snapshot, Tally
from good_tide.core.rules import Rule, path_pattern
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words
from good_tide.core.work_words import heavy_words
from good_tide.lines.mounts import network_devices
from good_tide.operations.context import Context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.coverage.survey import Survey, Weighing
from good_tide.operations.records.store_memory import StoreMemory, others_write
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.holding import Warn, drain, prime, take_into
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.snapshot.touched import TouchedSince
from good_tide.operations.stores import holding_area as areas
from good_tide.operations.stores.fleet import leave_status
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.opening import (
    Catalog,
    Store,
    carry_catalog,
    open_catalog,
    take_into_catalog,
)
from good_tide.operations.workplace import Workplace
from good_tide.storage.summaries import last_snapshot, one_look

_COUNT_STEP = 0.2
"""Seconds of counting between looks at whether it is to stop."""


class Taken(msgspec.Struct, frozen=True):
    """What became of a job's snapshot in one store: the snapshot, or why there is none.

    :param held: it lies in the holding area. :param carried: held snapshots that were carried over before.
    :param instead_of: what is in the store's place, when that is why it is held.
    :param before: the machine's last one before it in a store whose disk is here, if there was one.
    """

    ref: StoreRef
    snapshot: Snapshot | None = None
    error: GoodTideError | None = None
    held: bool = False
    carried: int = 0
    instead_of: str = ""
    before: Snapshot | None = None


class Steps(msgspec.Struct, frozen=True, kw_only=True):
    """How a run goes on: who steers it, why it was begun, who is warned of what cannot wait, and who tells
    where something happened (None: nobody)."""

    control: Control
    occasion: Occasion = Occasion.HAND
    label: str = ""
    warn: Warn = lambda what, todo: None
    touched: TouchedSince | None = None


def due_stores(
    job: Job, present: Sequence[tuple[StoreRef, Store]], machine: MachineId
) -> list[tuple[StoreRef, Store]]:
    """Which of the open stores the next snapshot goes to: all, or in turns the one that waited longest."""
    if job.store_use == "both" or len(present) < 2:
        return list(present)

    def last(one: tuple[StoreRef, Store]) -> int:
        newest = last_snapshot(one[1], machine)
        return 0 if newest is None else newest.time

    return [min(present, key=last)]


def request_for(job: Job, here: Workplace, label: str = "") -> CaptureRequest:
    """What a job's snapshot covers now."""
    home = job.home or home_folder()
    return CaptureRequest(
        tuple(Path(folder) for folder in job.folders),
        job.machine or here.machine,
        rules=job.parsed_rules(),
        kinds=job.kinds,
        home=home,
        job=job_file_text(msgspec.structs.replace(job, stores=(), passphrase_file=""), {}, home, {}),
        network=network_devices(),
        label=label,
        missing_is_gap=True,
        own=(areas.area_root(here.holdings),),
    )


def _request(job: Job, here: Workplace, steps: Steps) -> CaptureRequest:
    """A run's request. Whoever asks by hand wants what was saved a moment ago, which a watch may not have
    told of yet."""
    touched = steps.touched if steps.occasion is not Occasion.HAND else None
    return msgspec.structs.replace(request_for(job, here, steps.label), touched=touched)


def take_snapshot(context: Context, stores: JobStores, steps: Steps) -> list[Taken]:
    """Take a job's snapshot into the stores whose turn it is, or into the holding area while their disks are
    away. A store that cannot be used does not keep the others from it.

    Raises:
        PlaceError: no store can be used now, and no holding area either.
        StoppedError: the person stopped it.
    """
    job = stores.job
    results: list[Taken] = []
    present: list[tuple[StoreRef, Store]] = []
    away = [ref for ref in job.stores if stores.place_of(ref) is None]
    replaced: dict[StoreRef, str] = {}
    for ref in job.stores:
        try:
            if ref in away:
                raise context.whereabouts.away(ref)
            present.append((ref, stores.store(ref)))
        except GoodTideError as error:
            results.append(Taken(ref, error=error))
            if isinstance(error, StoreReplacedError):
                replaced[ref] = error.what
                _tell_replaced(context, job, ref, error, steps)
            if ref not in away and ref.store:
                context.health.note_failed(ref.store, error, context.clock.now())
    taking = _Taking(context, job, stores, steps, _request(job, context.here, steps))
    if not present:
        if not results:
            raise PersonError(tr("The job {name} has no store").format(name=job.name), tr("Add one first"))
        held = [ref for ref in (*away, *replaced) if areas.has_area(context.here.holdings, ref)]
        if not held or not job.holding.on:
            assert results[0].error is not None
            taking.note(results[0].ref.name, time.monotonic(), results[0].error)
            raise results[0].error
        taken = taking.into_area(held[0])
        return [msgspec.structs.replace(taken, instead_of=replaced.get(held[0], ""))]
    for ref, store in due_stores(job, present, taking.request.machine.id):
        results.append(taking.into_store(ref, store))
    return results


def _tell_replaced(
    context: Context, job: Job, ref: StoreRef, error: StoreReplacedError, steps: Steps
) -> None:
    """Said to whoever asked for the snapshot, and once a day of the scheduled ones."""
    news = context.journal.is_news(f"replaced/{job.id}/{ref.store}")
    if news:
        context.journal.add("trouble", job, error.what, (), "", f"{error.advice}.")
    if news or steps.occasion is Occasion.HAND:
        steps.warn(error.what, error.advice)


class _Taking:
    """One snapshot of a job, into each of the stores whose turn it is."""

    def __init__(
        self, context: Context, job: Job, stores: JobStores, steps: Steps, request: CaptureRequest
    ) -> None:
        self._context, self._job, self._stores, self._steps = context, job, stores, steps
        self.request = request
        self._began = context.clock.now()

    @property
    def _control(self) -> Control:
        return self._steps.control

    def into_store(self, ref: StoreRef, store: Store) -> Taken:
        """Into a store whose disk is here: first what was held, then the snapshot, then what the holding area
        needs of it."""
        context, name = self._context, ref.called
        catalog, started, carried = open_catalog(store, context.here.cache), time.monotonic(), 0
        try:
            with one_look(store):
                self._look(store)
                carried = self._drain(ref, store)
                known = catalog.stored_small if catalog.count() else None
                before = last_snapshot(store, self.request.machine.id)
                snapshot = capture(
                    store,
                    self._request_after(before),
                    context.clock,
                    self._control,
                    context.here.state,
                    known,
                )
                take_into_catalog(store, catalog)
            self._tell_trouble(catalog)
            self._tell_heavy(snapshot)
            self.note(name, started, snapshot)
            context.health.note_written(store, context.clock.now())
            self._prime(ref, store, snapshot)
            carry_catalog(store, catalog, context.here.cache, f"{self.request.machine.id[:12]}-copy-")
            leave_status(store, self._job, self.request.machine, snapshot, context.clock)
            return Taken(ref, snapshot, carried=carried, before=before)
        except GoodTideError as error:
            self.note(name, started, error)
            if isinstance(error, StoppedError):
                raise
            context.health.note_failed(store.header.store, error, context.clock.now())
            return Taken(ref, error=error, carried=carried)
        finally:
            catalog.close()

    def _look(self, store: Store) -> None:
        """Notice that a store is older than it was, or that another machine writes this one's history."""
        context = self._context
        memory = StoreMemory(context.here.state, store.header.store)
        found = memory.look(store)
        machine = self.request.machine
        if memory.notice_others(machine.id, last_snapshot(store, machine.id), context.clock.now()):
            found.append(others_write(machine.name))
        for noticed in found:
            context.journal.add("trouble", self._job, noticed.what, (), "", noticed.todo)
            self._steps.warn(noticed.what, noticed.todo)

    def _tell_trouble(self, catalog: Catalog) -> None:
        """The snapshot is there; what makes looking back quick could not be kept."""
        if catalog.trouble:
            what = tr("What this machine remembers of its stores cannot be kept: {trouble}").format(
                trouble=catalog.trouble
            )
            todo = tr(
                "Free some room in your home folder; snapshots go on, and looking back is slow meanwhile"
            )
            self._context.journal.add("trouble", self._job, what, (), "", todo)
            self._steps.warn(what, todo)

    def _tell_heavy(self, snapshot: Snapshot) -> None:
        """Once a day, files that are read whole each time for little that changed."""
        for file in snapshot.record.heavy:
            if self._context.journal.is_news(f"heavy/{self._job.id}/{file.path.hex()}"):
                what, means = heavy_words(file)
                pattern = path_pattern(os.fsdecode(file.path), self.request.home, self._job.folders)
                rule = Rule(False, path=pattern or "*").text
                todo = tr(
                    "If no earlier state of it is ever wanted back, “{rule}” in Coverage leaves it out."
                ).format(rule=rule)
                self._context.journal.add("note", self._job, what, (), means, todo if pattern else "")

    def _request_after(self, before: Snapshot | None) -> CaptureRequest:
        """The request; before a first snapshot the files are counted, so that its progress has an end in
        sight."""
        if before is not None:
            return self.request
        self._control.report(Progress(tr("Counting")))
        survey = Survey(self.request.folders, self.request.network)
        while not survey.done:
            survey.look(_COUNT_STEP)
            self._control.checkpoint()
        now = self._context.clock.now()
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
        context, started, name = (
            self._context,
            time.monotonic(),
            tr("holding area of {called}").format(called=ref.called),
        )
        try:
            area = self._stores.area(ref)
            snapshot = take_into(context, area, self._job, self.request, self._control, self._steps.warn)
        except GoodTideError as error:
            self.note(name, started, error)
            raise
        self.note(name, started, snapshot)
        return Taken(ref, snapshot, held=True)

    def _drain(self, ref: StoreRef, store: Store) -> int:
        context = self._context
        if not areas.held_count(context.here.holdings, ref):
            return 0
        area = areas.area_for(context.here.holdings, ref, store, self._job.holding)
        report = drain(area, store, context.here.state, self._control)
        if report is None:
            return 0
        words = tr("{carried} carried over from the holding area, {stored_bytes}").format(
            carried=count_words(len(report.carried), "snapshot"), stored_bytes=size_words(report.stored_bytes)
        )
        detail = tuple(text for _, text in report.damaged)
        means = (
            tr("Some could not be carried and stay in the holding area.")
            if detail
            else tr("Everything taken while the disk was away is on it, and was read back.")
        )
        context.journal.add("trouble" if detail else "good", self._job, words, detail, means)
        return len(report.carried)

    def _prime(self, ref: StoreRef, store: Store, snapshot: Snapshot) -> None:
        """What the holding area needs; without it snapshots would not go on without the disk, which is said
        and not fatal."""
        context = self._context
        if not self._job.holding.on or (
            not ref.disk and not ref.on_server and context.whereabouts.of(ref) is None
        ):
            return
        try:
            area = areas.area_for(context.here.holdings, ref, store, self._job.holding)
            prime(area, store, snapshot, context.here.state)
        except (GoodTideError, OSError) as error:
            if context.journal.is_news(f"prime/{self._job.id}"):
                context.journal.add(
                    "note",
                    self._job,
                    tr("The holding area could not be made ready"),
                    (str(error),),
                    tr("Should the disk go away, no snapshots are taken without it."),
                    tr("Make room in the home folder, or switch the holding area off."),
                )

    def note(self, store: str, started: float, outcome: Snapshot | GoodTideError) -> None:
        """Note what became of it in the journal."""
        journal, seconds = self._context.journal, time.monotonic() - started
        base = Run(
            self._job.id, store, self._steps.occasion, self._began, seconds, "failed", name=self._job.name
        )
        if isinstance(outcome, GoodTideError):
            result: Result = "stopped" if isinstance(outcome, StoppedError) else "failed"
            journal.add_run(msgspec.structs.replace(base, result=result, words=str(outcome)))
            return
        tally = outcome.tally
        journal.add_run(
            msgspec.structs.replace(
                base,
                result="gaps" if outcome.gaps else "done",
                files=tally.files,
                changed=tally.changed_files,
                new_bytes=tally.new_bytes,
                stored=tally.stored_bytes,
                gaps=outcome.gaps,
                snapshot=outcome.id,
            )
        )
        journal.take_left_out(self._job.id, outcome)
