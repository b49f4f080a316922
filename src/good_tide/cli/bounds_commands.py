"""Commands that keep history in bounds: the ladder, thinning, releasing, pins, the sweep."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
import msgspec

from good_tide.cli import output
from good_tide.cli.coverage_commands import openers
from good_tide.cli.options import (
    json_option,
    passphrase_option,
    progress_option,
    read_passphrase,
    whose_options,
)
from good_tide.cli.output import print_json, say
from good_tide.cli.telling_commands import named_store
from good_tide.core.clock import SystemClock
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.ladder import READY, Ladder, parse_rung, words
from good_tide.core.records import Snapshot
from good_tide.core.selection import parse_time
from good_tide.core.settings import Job
from good_tide.core.words import count_words, duration_words, iso, size_words, time_words
from good_tide.operations.history.choosing import Chooser, Whose
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.run_records import Books
from good_tide.operations.records.store_memory import StoreMemory, others_write
from good_tide.operations.retention.precious import precious_now
from good_tide.operations.retention.thinning import (
    ThinPlan,
    ladder_words,
    pin,
    plan_release,
    plan_thinning,
    release,
    sweep,
    unpin,
)
from good_tide.operations.snapshot.holding import heed
from good_tide.operations.stores.disks import disks_for, locate
from good_tide.operations.stores.opening import Store
from good_tide.operations.workplace import Workplace, find_job, load_jobs, save_job, this_workplace
from good_tide.system.machine import local_zone


def _plan_fields(plan: ThinPlan) -> dict[str, Any]:
    return {
        "keeps": [_snapshot_fields(snapshot) for snapshot in plan.keeps],
        "releases": [_snapshot_fields(snapshot) for snapshot in plan.releases],
        "gives_back": plan.gives_back,
    }


def _snapshot_fields(snapshot: Snapshot) -> dict[str, Any]:
    record = snapshot.record
    return {
        "snapshot": snapshot.name,
        "time": iso(record.time),
        "machine": record.machine.name,
        "label": record.label or None,
    }


def _say_plan(plan: ThinPlan, now: int) -> None:
    total = len(plan.keeps) + len(plan.releases)
    back = f"; gives back about {size_words(plan.gives_back)}" if plan.gives_back else ""
    say(f"Keeps {len(plan.keeps):,} of {total:,}{back}.")
    if plan.releases:
        shown = [f"{time_words(snapshot.record.time, now)}" for snapshot in plan.releases[:12]]
        more = f", and {len(plan.releases) - 12:,} more" if len(plan.releases) > 12 else ""
        say(f"Releases {', '.join(shown)}{more}.")


def _stores_of(job: Job, here: Workplace, passphrase_file: Path | None) -> list[Store]:
    """The stores of a job that are here, opened with the passphrase in a file, or as the job says.

    Raises:
        PersonError: none is.
    """
    disks, open_ref = (
        disks_for(here.settings),
        openers(job, here, read_passphrase(passphrase_file))["open_ref"],
    )
    found = [open_ref(ref, folder) for ref in job.stores if (folder := locate(ref, disks)) is not None]
    if not found:
        raise PersonError("No store of this job is here", "Connect its disk")
    return found


def _precious(store: Store, job: Job, here: Workplace) -> frozenset[str]:
    return precious_now(store, job, (job.machine or here.machine).id, here.cache)


@click.command("ladder")
@click.argument("name")
@click.option(
    "--rung",
    "rungs",
    multiple=True,
    metavar="RUNG",
    help="Such as “2d every”, “30d day”, “12mo week”, “forever quarter”; from the youngest on.",
)
@click.option("--ready", type=click.Choice(sorted(READY)), help="A ready ladder.")
@click.option(
    "--picture", metavar="DATE", help="As it would be at a later date, with the snapshots that there are now."
)
@passphrase_option
@json_option
def ladder_command(
    name: str,
    rungs: tuple[str, ...],
    ready: str | None,
    picture: str | None,
    passphrase_file: Path | None,
    as_json: bool,
) -> int:
    """How dense a job's history stays with age, and what that keeps and releases now. Nothing is released by
    this command."""
    here = this_workplace()
    job = find_job(here.settings, name)
    if rungs and ready:
        raise PersonError("A ladder is a ready one or has rungs of its own", "Give --ready or --rung")
    ladder = READY[ready] if ready else Ladder(tuple(map(parse_rung, rungs))) if rungs else job.ladder
    ladder.check()
    if ladder != job.ladder:
        job = msgspec.structs.replace(job, ladder=ladder)
        save_job(here.settings, job)
        Journal(here.records, SystemClock()).add("good", job.name, f"History is kept {ladder_words(ladder)}")
    moment = parse_time(picture) if picture is not None else SystemClock().now()
    machine = (job.machine or here.machine).id
    if not as_json:
        say(f"{job.name} keeps {words(ladder)}.")
    with output.steered(None, as_json) as steering:
        store = _stores_of(job, here, passphrase_file)[0]
        plan = plan_thinning(
            store, ladder, machine, local_zone(), moment, steering, here.cache, _precious(store, job, here)
        )
    if as_json:
        print_json(
            {
                "job": job.name,
                "rungs": [rung.text() for rung in ladder.rungs],
                "words": words(ladder),
                **_plan_fields(plan),
            }
        )
    else:
        _say_plan(plan, SystemClock().now())
    return output.DONE


@click.command("thin")
@click.argument("name", required=False)
@click.option("--plan", "only_plan", is_flag=True, help="Only say what would be released.")
@click.option("--yes", is_flag=True, help="Agree to a changed ladder that releases much at once.")
@passphrase_option
@progress_option
@json_option
def thin_command(
    name: str | None,
    only_plan: bool,
    yes: bool,
    passphrase_file: Path | None,
    progress: str | None,
    as_json: bool,
) -> int:
    """Release what the ladders of one job, or of all, do not keep. The room comes back with the next
    sweep."""
    here, clock = this_workplace(), SystemClock()
    jobs = [find_job(here.settings, name)] if name is not None else load_jobs(here.settings)
    journal = Journal(here.records, clock)
    released: list[dict[str, Any]] = []
    kept, back = 0, 0
    waits = False
    for job in jobs:
        for store in _stores_of(job, here, passphrase_file):
            with output.steered(progress, as_json) as steering:
                machine = (job.machine or here.machine).id
                if StoreMemory(here.state, store.header.store).is_mixed(machine):
                    noticed = others_write((job.machine or here.machine).name)
                    raise PlaceError(noticed.what, noticed.todo)
                plan = plan_thinning(
                    store,
                    job.ladder,
                    machine,
                    local_zone(),
                    clock.now(),
                    steering,
                    here.cache,
                    _precious(store, job, here),
                )
                agreed = job.ladder == job.agreed or yes or not plan.needs_yes
                if plan.releases and agreed and not only_plan:
                    release(store, plan, "by the ladder", job.name, journal, clock, steering)
                    Books(here.records).note_released(store.header.store)
            kept, back = kept + len(plan.keeps), back + (plan.gives_back or 0)
            if agreed or only_plan:
                released += [_snapshot_fields(snapshot) for snapshot in plan.releases]
            if not as_json:
                _say_plan(plan, clock.now())
            if plan.releases and not agreed and not only_plan:
                waits = True
                if not as_json:
                    say(
                        "The ladder was changed, and this would release more than a tenth of history. Look at"
                        " it, then give --yes."
                    )
        if not only_plan and not waits and job.agreed != job.ladder:
            save_job(here.settings, msgspec.structs.replace(job, agreed=job.ladder))
    if as_json:
        print_json({"released": released, "kept": kept, "gives_back": back, "waits_for_yes": waits})
    return output.WITH_GAPS if waits else output.DONE


@click.command("release")
@click.argument("store")
@click.argument("snapshots", nargs=-1)
@click.option("--before", metavar="TIME", help="All that are older.")
@click.option("--since", metavar="TIME", help="All from then on; with --before, a range.")
@click.option("--plan", "only_plan", is_flag=True, help="Only say what would be released.")
@whose_options
@passphrase_option
@json_option
def release_command(
    store: str,
    snapshots: tuple[str, ...],
    before: str | None,
    since: str | None,
    only_plan: bool,
    machine: str,
    job_name: str,
    passphrase_file: Path | None,
    as_json: bool,
) -> int:
    """Release chosen snapshots of STORE, or all of a range of time; pinned ones and the newest of each
    machine stay."""
    here, clock = this_workplace(), SystemClock()
    opened = named_store(here, store, passphrase_file)
    chooser = Chooser(opened, here, Whose(machine, job_name))
    ranged = before is not None or since is not None
    if ranged == bool(snapshots):
        raise PersonError(
            "It is not clear what is to be released", "Name snapshots, or give --before or --since"
        )
    begin, end = parse_time(since) if since else 0, parse_time(before) if before else clock.now()
    names = {chooser.choose(wanted).name for wanted in snapshots}
    range_of = chooser.own() if machine or job_name else chooser.snapshots
    names |= {snapshot.name for snapshot in range_of if ranged and begin <= snapshot.record.time < end}
    with output.steered(None, as_json) as steering:
        job = job_of(here, opened)
        precious = _precious(opened, job, here) if job is not None else frozenset()
        plan = plan_release(opened, names, steering, here.cache, ranged, precious)
        if not only_plan:
            release(opened, plan, "by hand", "", Journal(here.records, clock), clock, steering)
            Books(here.records).note_released(opened.header.store)
    if as_json:
        print_json(
            {
                "released": [_snapshot_fields(snapshot) for snapshot in plan.releases],
                "kept": len(plan.keeps),
                "gives_back": plan.gives_back,
            }
        )
    else:
        _say_plan(plan, clock.now())
    return output.DONE


@click.command("pin")
@click.argument("store")
@click.argument("snapshot")
@click.option("--label", default="", metavar="T", help="Why it is to stay.")
@click.option("--off", is_flag=True, help="Take the pin away.")
@whose_options
@passphrase_option
@json_option
def pin_command(
    store: str,
    snapshot: str,
    label: str,
    off: bool,
    machine: str,
    job_name: str,
    passphrase_file: Path | None,
    as_json: bool,
) -> int:
    """Pin a snapshot of STORE: no thinning ever releases it."""
    here = this_workplace()
    opened = named_store(here, store, passphrase_file)
    chosen = Chooser(opened, here, Whose(machine, job_name)).choose(snapshot)
    if off and not unpin(opened, chosen.name):
        raise PersonError("This snapshot is not pinned", "There is nothing to take away")
    if not off:
        pin(opened, chosen.name, label)
    words_ = (
        f"{time_words(chosen.record.time, SystemClock().now())} is"
        f" {'no longer pinned' if off else 'pinned'}{f': {label}' if label and not off else ''}"
    )
    Journal(here.records, SystemClock()).add("good", "", f"The snapshot of {words_}")
    if as_json:
        print_json({"snapshot": chosen.name, "pinned": not off, "label": label or None})
    else:
        say(f"The snapshot of {words_}.")
    return output.DONE


def job_of(here: Workplace, store: Store) -> Job | None:
    """The job of this machine that uses a store."""
    disks = disks_for(here.settings)
    for job in load_jobs(here.settings):
        if any(str(locate(ref, disks)) == store.place.title for ref in job.stores):
            return job
    return None


def _heed(here: Workplace, store: Store) -> None:
    """Let this machine's own holding area of a store not keep what is doomed."""
    disks = disks_for(here.settings)
    for ref in {ref for job in load_jobs(here.settings) for ref in job.stores}:
        folder = locate(ref, disks)
        if folder is not None and str(folder) == store.place.title:
            heed(here.holdings, ref, store, here.state)


@click.command("sweep")
@click.argument("store")
@click.option("--plan", "only_plan", is_flag=True, help="Only say how much would come back.")
@click.option(
    "--thorough", is_flag=True, help="Leave no trace of what is not needed, as after a purge; copies more."
)
@passphrase_option
@progress_option
@json_option
def sweep_command(
    store: str,
    only_plan: bool,
    thorough: bool,
    passphrase_file: Path | None,
    progress: str | None,
    as_json: bool,
) -> int:
    """Give back the room of what no snapshot needs. Can be stopped at any point, and goes on with the
    next."""
    here, clock = this_workplace(), SystemClock()
    opened = named_store(here, store, passphrase_file)
    with output.steered(progress, as_json) as steering:
        report = sweep(opened, here.state, clock, steering, only_plan, lambda: _heed(here, opened), thorough)
    if not only_plan and report.freed:
        Journal(here.records, clock).add(
            "good", "", f"The sweep of {store} gave back {size_words(report.freed)}"
        )
    if as_json:
        print_json(
            {
                "freed": report.freed,
                "rewritten": report.rewritten,
                "packs": report.packs,
                "waits": report.waits,
                "seconds": round(report.seconds, 2),
            }
        )
        return output.DONE
    would = "would give" if only_plan else "gave"
    say(
        f"The sweep {would} back {size_words(report.freed)}; {count_words(report.rewritten, 'pack')} copied;"
        f" {duration_words(report.seconds)}."
    )
    if report.waits:
        say(f"{count_words(report.waits, 'pack')} more wait until whoever writes to the store now is done.")
    return output.DONE
