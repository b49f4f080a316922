"""Commands that keep history in bounds: the ladder, thinning, releasing, pins, the sweep."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from good_tide.cli import output
from good_tide.cli.options import (
    StoreCommand,
    job_stores,
    json_option,
    opened_named,
    passphrase_option,
    progress_option,
    whose_options,
)
from good_tide.cli.output import named_snapshot, print_json, say, table
from good_tide.cli.parameters import JOB, STORE
from good_tide.core.errors import PersonError
from good_tide.core.ladder import READY, Ladder, parse_rung, words
from good_tide.core.records import Snapshot
from good_tide.core.selection import parse_time
from good_tide.core.settings import StoreRef
from good_tide.core.translation import tr
from good_tide.core.words import count_words, duration_words, iso, number_words, size_words, time_words
from good_tide.operations.context import Context, this_context
from good_tide.operations.history.choosing import Chooser, Whose
from good_tide.operations.jobs.changing import change_ladder
from good_tide.operations.retention.by_hand import pin_by_hand, plan_by_hand, release_by_hand
from good_tide.operations.retention.by_ladder import agree, plan_by_ladder, thin_by_ladder
from good_tide.operations.retention.sweeping import sweep_store
from good_tide.operations.retention.thinning import ThinPlan, pinned
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.opened import all_snapshots
from good_tide.operations.stores.opening import Store
from good_tide.operations.stores.users import job_using
from good_tide.operations.workplace import find_job, load_jobs


def _plan_fields(plan: ThinPlan) -> dict[str, Any]:
    return {
        "keeps": [_snapshot_fields(snapshot) for snapshot in plan.keeps],
        "releases": [_snapshot_fields(snapshot) for snapshot in plan.releases],
        "gives_back": plan.gives_back,
    }


def _snapshot_fields(snapshot: Snapshot) -> dict[str, Any]:
    record = snapshot.record
    return {
        "snapshot": snapshot.id,
        "time": iso(record.time),
        "machine": record.machine.name,
        "label": record.label or None,
    }


def _say_plan(called: str, plan: ThinPlan, now: int) -> None:
    total = len(plan.keeps) + len(plan.releases)
    back = (
        "; " + tr("gives back about {gives_back}").format(gives_back=size_words(plan.gives_back))
        if plan.gives_back
        else ""
    )
    say(
        tr("{called} keeps {keeps} of {total}{back}.").format(
            called=called, keeps=number_words(len(plan.keeps)), total=number_words(total), back=back
        )
    )
    if plan.releases:
        shown = [f"{time_words(snapshot.time, now)}" for snapshot in plan.releases[:12]]
        more = (
            ", " + tr("and {releases} more").format(releases=number_words(len(plan.releases) - 12))
            if len(plan.releases) > 12
            else ""
        )
        say(tr("It releases {shown}{more}.").format(shown=", ".join(shown), more=more))


def _stores_here(stores: JobStores) -> list[tuple[StoreRef, Store]]:
    """The stores of a job that are here.

    Raises:
        PersonError: none is.
    """
    found = [(ref, stores.store(ref)) for ref in stores.here()]
    if not found:
        raise PersonError(tr("No store of this job is here"), tr("Connect its disk"))
    return found


@click.command("ladder")
@click.argument("name", type=JOB)
@click.option(
    "--rung",
    "rungs",
    multiple=True,
    metavar="RUNG",
    help=tr("Such as “2d every”, “30d day”, “12mo week”, “forever quarter”; from the youngest on."),
)
@click.option("--ready", type=click.Choice(sorted(READY)), help=tr("A ready ladder."))
@click.option(
    "--picture",
    metavar="DATE",
    help=tr("As it would be at a later date, with the snapshots that there are now."),
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
    context = this_context()
    job = find_job(context.here.settings, name)
    if rungs and ready:
        raise PersonError(tr("A ladder is a ready one or has rungs of its own"), tr("Give --ready or --rung"))
    ladder = READY[ready] if ready else Ladder(tuple(map(parse_rung, rungs))) if rungs else job.ladder
    ladder.check()
    if ladder != job.ladder:
        job = change_ladder(context, job, ladder)
    moment = parse_time(picture) if picture is not None else context.clock.now()
    if not as_json:
        say(tr("{name} keeps {words}.").format(name=job.name, words=words(ladder)))
    with output.steered(None, as_json) as steering:
        ref, store = _stores_here(job_stores(context, job, passphrase_file))[0]
        plan = plan_by_ladder(context, job, store, steering, ladder, moment, with_room=True)
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
        _say_plan(ref.called, plan, context.clock.now())
    return output.DONE


@click.command("thin")
@click.argument("name", required=False, type=JOB)
@click.option("--plan", "only_plan", is_flag=True, help=tr("Only say what would be released."))
@click.option("--yes", is_flag=True, help=tr("Agree to a changed ladder that releases much at once."))
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
    context = this_context()
    settings = context.here.settings
    jobs = [find_job(settings, name)] if name is not None else load_jobs(settings)
    released: list[dict[str, Any]] = []
    kept, back, waits = 0, 0, False
    for job in jobs:
        waiting = False
        for ref, store in _stores_here(job_stores(context, job, passphrase_file)):
            with output.steered(progress, as_json) as steering:
                thinned = thin_by_ladder(
                    context, job, store, steering, agreed=yes, only_plan=only_plan, with_room=True
                )
            plan, held_back = thinned.plan, thinned.waits and not only_plan
            kept, back = kept + len(plan.keeps), back + (plan.gives_back or 0)
            if not held_back:
                released += [_snapshot_fields(snapshot) for snapshot in plan.releases]
            if not as_json:
                _say_plan(f"{job.name}: {ref.called}", plan, context.clock.now())
            if held_back:
                waiting = True
                if not as_json:
                    say(
                        tr(
                            "The ladder was changed, and this would release more than a tenth of history."
                            " Look at it, then give --yes."
                        )
                    )
        if not only_plan and not waiting:
            agree(context, job)
        waits = waits or waiting
    if as_json:
        print_json({"released": released, "kept": kept, "gives_back": back, "waits_for_yes": waits})
    return output.WITH_GAPS if waits else output.DONE


@click.command("release", cls=StoreCommand)
@click.argument("store", type=STORE)
@click.argument("snapshots", nargs=-1)
@click.option("--before", metavar="TIME", help=tr("All that are older."))
@click.option("--since", metavar="TIME", help=tr("All from then on; with --before, a range."))
@click.option("--plan", "only_plan", is_flag=True, help=tr("Only say what would be released."))
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
    context = this_context()
    found = opened_named(context, store, passphrase_file)
    chooser = Chooser(context, found, Whose(machine, job_name))
    ranged = before is not None or since is not None
    if ranged == bool(snapshots):
        raise PersonError(
            tr("It is not clear what is to be released"), tr("Name snapshots, or give --before or --since")
        )
    begin, end = parse_time(since) if since else 0, parse_time(before) if before else context.clock.now()
    if begin >= end:
        raise PersonError(
            tr("--since is not before --before: nothing is between them"), tr("Change one of them")
        )
    chosen = {chooser.choose(wanted).id for wanted in snapshots}
    range_of = chooser.own() if machine or job_name else chooser.snapshots
    chosen |= {snapshot.id for snapshot in range_of if ranged and begin <= snapshot.time < end}
    job = job_using(context, found)
    with output.steered(None, as_json) as steering:
        plan = plan_by_hand(context, job, found, chosen, steering, lenient=ranged)
        if not only_plan:
            release_by_hand(context, job, found, plan, steering)
    if as_json:
        print_json(
            {
                "released": [_snapshot_fields(snapshot) for snapshot in plan.releases],
                "kept": len(plan.keeps),
                "gives_back": plan.gives_back,
            }
        )
    else:
        _say_plan(store, plan, context.clock.now())
    return output.DONE


@click.command("pin", cls=StoreCommand)
@click.argument("store", type=STORE)
@click.argument("snapshot", required=False)
@click.option("--label", default="", metavar="T", help=tr("Why it is to stay."))
@click.option("--off", is_flag=True, help=tr("Take the pin away."))
@whose_options
@passphrase_option
@json_option
def pin_command(
    store: str,
    snapshot: str | None,
    label: str,
    off: bool,
    machine: str,
    job_name: str,
    passphrase_file: Path | None,
    as_json: bool,
) -> int:
    """Pin a snapshot of STORE: no thinning ever releases it. Without SNAPSHOT: list those that are pinned."""
    context = this_context()
    found = opened_named(context, store, passphrase_file)
    if snapshot is None:
        if off or label:
            raise PersonError(tr("Which snapshot is meant is not said"), tr("Name it after the store"))
        return _list_pins(context, found, Whose(machine, job_name), as_json)
    chosen = Chooser(context, found, Whose(machine, job_name)).choose(snapshot)
    if not pin_by_hand(context, job_using(context, found), found, chosen.id, not off, label):
        raise PersonError(tr("This snapshot is not pinned"), tr("There is nothing to take away"))
    if as_json:
        print_json({"snapshot": chosen.id, "pinned": not off, "label": label or None})
        return output.DONE
    became = (
        tr("no longer pinned") if off else tr("pinned: {label}").format(label=label) if label else "pinned"
    )
    say(
        tr("The snapshot of {time} is {became}.").format(
            time=time_words(chosen.time, context.clock.now()), became=became
        )
    )
    return output.DONE


def _list_pins(context: Context, store: Store, whose: Whose, as_json: bool) -> int:
    """Say which snapshots are pinned: of all machines, or of the one that is named."""
    pins = pinned(store)
    shown = Chooser(context, store, whose).own() if whose.said else all_snapshots(store)[0]
    rows = [one for one in shown if one.id in pins]
    if as_json:
        print_json({"pins": [{**named_snapshot(one), "label": pins[one.id] or None} for one in rows]})
        return output.DONE
    now = context.clock.now()
    cells = [[time_words(one.time, now), pins[one.id], one.machine.name, one.id[:12]] for one in rows]
    if cells:
        table([tr("Pinned snapshot"), tr("Label"), tr("Machine"), tr("Snapshot")], cells)
    else:
        say(tr("No snapshot is pinned."))
    return output.DONE


@click.command("sweep", cls=StoreCommand)
@click.argument("store", type=STORE)
@click.option("--plan", "only_plan", is_flag=True, help=tr("Only say how much would come back."))
@click.option(
    "--thorough",
    is_flag=True,
    help=tr("Leave no trace of what is not needed, as after a purge; copies more."),
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
    context = this_context()
    found = opened_named(context, store, passphrase_file)
    with output.steered(progress, as_json) as steering:
        report = sweep_store(context, found, steering, only_plan, thorough)
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
    would = tr("would give") if only_plan else "gave"
    say(
        tr("The sweep {would} back {freed}; {rewritten} copied; {seconds}.").format(
            would=would,
            freed=size_words(report.freed),
            rewritten=count_words(report.rewritten, "pack"),
            seconds=duration_words(report.seconds),
        )
    )
    if report.waits:
        say(
            tr("{waits} more wait until whoever writes to the store now is done.").format(
                waits=count_words(report.waits, "pack")
            )
        )
    return output.DONE
