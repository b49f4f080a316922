"""A run of a job: room made, the snapshot taken, history thinned, all kept in the records and told in the
journal."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from good_tide.core import planning
from good_tide.core.errors import GoodTideError, StoppedError
from good_tide.core.planning import JobRecord, Occasion
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words
from good_tide.operations.alarm.watch import look_at_snapshot
from good_tide.operations.context import Context
from good_tide.operations.retention.bounds import Bounds
from good_tide.operations.schedule.standing import Standings
from good_tide.operations.snapshot.taking import Steps, Taken, take_snapshot
from good_tide.operations.stores.job_stores import JobStores


def run_job(context: Context, stores: JobStores, steps: Steps) -> list[Taken]:
    """Run a job: make room where its limits ask for it, take its snapshot, and thin by its ladder.

    Raises:
        GoodTideError: as ``take_snapshot``, or there is too little room. A run into several stores that none
            of them took is in what is returned.
    """
    job, clock, bounds = stores.job, context.clock, Bounds(context)
    standings = Standings(context)
    before = standings.record(job)
    began = clock.now()
    context.records.update(job.id, lambda known: planning.began(known or before, began))
    try:
        bounds.before_run(stores, steps.control)
        taken = take_snapshot(context, stores, steps)
    except StoppedError:
        if not _given_up(context, job, began):
            context.records.update(job.id, lambda known: planning.ended(known or before, began, False))
        raise
    except GoodTideError as error:
        if not _given_up(context, job, began):
            _failed(context, job, error)
        raise
    done = [one for one in taken if one.snapshot is not None]
    failed = [(one.ref.called, one.error) for one in taken if one.error is not None]
    if not done:
        if not _given_up(context, job, began):
            _failed(context, job, failed[0][1])
        return taken
    into_disk = any(not one.held for one in done)
    context.records.update(job.id, lambda known: planning.ended(known or before, began, into_disk))
    for name, fault in failed:
        if context.journal.is_news(f"store/{job.id}/{name}/{fault.what}"):
            context.journal.add(
                "note",
                job,
                tr("No snapshot into {name}").format(name=name),
                (fault.what,),
                tr("The other stores have it."),
                fault.advice,
            )
    if before.failures:
        tries = count_words(before.failures, "try", "tries")
        context.journal.add(
            "good",
            job,
            tr("Snapshots work again"),
            (tr("After {tries} that failed: {error}").format(tries=tries, error=before.error),),
        )
    _judge(context, stores, done, steps)
    for one in done:
        if not one.held:
            bounds.after_run(stores, one.ref, steps.occasion is not Occasion.HAND, steps.control)
    return taken


def _judge(context: Context, stores: JobStores, done: Sequence[Taken], steps: Steps) -> None:
    """Judge what was taken, once. A fault in it never makes a snapshot fail: it is noted."""
    taken, job = done[0], stores.job
    assert taken.snapshot is not None
    try:
        store = stores.looked_into(taken.ref)
        look_at_snapshot(context, job, store, taken.snapshot, taken.before, steps.control)
    except StoppedError:
        return  # the snapshot itself is there
    except GoodTideError as error:
        if context.journal.is_news(f"judge/{job.id}/{error.what}"):
            what = tr("What the snapshot changed could not be looked at")
            context.journal.add(
                "note", job, what, (error.what,), tr("The snapshot itself is whole."), error.advice
            )


def _given_up(context: Context, job: Job, began: int) -> bool:
    """Whether a run that began at a moment was given up meanwhile, and noted as one that failed."""
    record = context.records.record(job.id)
    return record is not None and record.begun != began


def _failed(context: Context, job: Job, error: GoodTideError) -> None:
    before, now = Standings(context).record(job), context.clock.now()
    context.records.update(
        job.id, lambda known: planning.failed(known or before, now, error.what, error.advice)
    )
    if not before.failures or before.error != error.what:
        context.journal.add(
            "trouble",
            job,
            error.what,
            (),
            tr("No snapshot was taken. It is tried again by itself."),
            error.advice,
        )


def hung(context: Context, job: Job, error: GoodTideError) -> None:
    """A run was given up, as a disk does not answer: it counts as one that failed."""
    _failed(context, job, error)


def _cut_off(before: JobRecord, known: JobRecord | None) -> JobRecord:
    return planning.cut_off(known or before)


def cut_off_runs(context: Context, jobs: list[Job]) -> None:
    """After a crash: note runs that were cut off. What was due stays due, and what they wrote is used by the
    next."""
    for job in jobs:
        record = context.records.record(job.id)
        if record is not None and record.begun:
            context.records.update(job.id, partial(_cut_off, record))
            context.journal.add(
                "note",
                job,
                tr("The last run was cut off"),
                (),
                tr("No snapshot came of it; what it wrote is used by the next one."),
            )


def run_words(taken: list[Taken]) -> tuple[str, str]:
    """What became of a job's snapshot, in words; and, where no store took it, why. A store that failed beside
    others is said."""
    failed = [(one.ref.name, one.error) for one in taken if one.error is not None]
    done = [one for one in taken if one.snapshot is not None]
    if not done:
        return "", "; ".join(f"{name}: {error}" for name, error in failed)
    snapshot = done[0].snapshot
    assert snapshot is not None
    tally = snapshot.tally
    words = tr("Snapshot taken: {changed_files}, {new_bytes} new").format(
        changed_files=count_words(tally.changed_files, "changed file"), new_bytes=size_words(tally.new_bytes)
    )
    if done[0].instead_of:
        words += "; " + tr("kept on this machine: {instead_of}").format(instead_of=done[0].instead_of)
    elif done[0].held:
        words += "; " + tr("kept on this machine until {name} is back").format(
            name=done[0].ref.name or tr("the disk")
        )
    elif len(done) > 1:
        words += ", " + tr("into {done}").format(done=count_words(len(done), "store"))
    carried = sum(one.carried for one in taken)
    if carried:
        words += "; " + tr("{carried} carried over that waited for the disk").format(
            carried=count_words(carried, "snapshot")
        )
    if snapshot.gaps:
        words += "; " + tr("{gaps} could not be read").format(gaps=count_words(snapshot.gaps, "file"))
    if failed:
        names = ", ".join(f"{name} ({error})" for name, error in failed)
        words += "; " + tr("not into {names}").format(names=names)
    return words, ""
