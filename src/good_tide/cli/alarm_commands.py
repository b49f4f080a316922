"""Commands about alarms: files that were destroyed, as it seems."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import Any

import click

from good_tide.cli import output
from good_tide.cli.options import job_stores, json_option, passphrase_option
from good_tide.cli.output import print_json, say
from good_tide.cli.parameters import JOB
from good_tide.core.alarm import Alarm
from good_tide.core.errors import GoodTideError, PersonError
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.core.words import exact_words, iso, printable
from good_tide.operations.alarm.watch import dismiss
from good_tide.operations.context import Context, this_context
from good_tide.operations.stores.opening import Store
from good_tide.operations.workplace import find_job, load_jobs


@click.group("alarm")
def alarm_group() -> None:
    """What snapshots noticed: many files destroyed at once, or bit by bit."""


@alarm_group.command("show")
@click.argument("name", required=False, type=JOB)
@json_option
def show_command(name: str | None, as_json: bool) -> int:
    """What rings, since when, and how everything comes back as it was before. Ends with 1 when something
    rings."""
    context = this_context()
    settings, now = context.here.settings, context.clock.now()
    jobs = [find_job(settings, name)] if name is not None else load_jobs(settings)
    found = [(job, alarm) for job in jobs if (alarm := context.alarms.of(job.id)) is not None]
    if as_json:
        print_json({"alarms": [_fields(job, alarm, now) for job, alarm in found]})
    elif not found:
        say(tr("Nothing rings."))
    else:
        for job, alarm in found:
            _say(job, alarm, now)
    return output.WITH_GAPS if found else output.DONE


def _fields(job: Job, alarm: Alarm, now: int) -> dict[str, Any]:
    return {
        "job": job.name,
        "since": iso(alarm.since),
        "what": alarm.words(now),
        "before": alarm.before or None,
        "before_time": iso(alarm.before_time) if alarm.before_time else None,
        "store": _store_path(job, alarm),
        "paths": [printable(path) for path in alarm.paths],
    }


def _store_path(job: Job, alarm: Alarm) -> str | None:
    return next((ref.path for ref in job.stores if ref.store == alarm.store), None)


def _say(job: Job, alarm: Alarm, now: int) -> None:
    say(f"{job.name}: {alarm.words(now)}.")
    for path in alarm.paths:
        say(f"    {printable(path)}")
    if alarm.before:
        say(
            tr("The last moment before is the snapshot of {exact_words}; it is pinned.").format(
                exact_words=exact_words(alarm.before_time)
            )
        )
        where = shlex.quote(_store_path(job, alarm) or "STORE")
        say(tr("Everything as it was before (what is there now is set aside):"))
        folders = " ".join(f"--path {shlex.quote(folder)}" for folder in job.folders)
        say(
            "    "
            + tr("good-tide restore {where} --snapshot {before} {folders} --in-place").format(
                where=where, before=alarm.before, folders=folders
            )
        )
    say(tr("Nothing is released until somebody has looked. When all is as it should be:"))
    say("    " + tr("good-tide alarm dismiss {name}").format(name=shlex.quote(job.name)))


@alarm_group.command("dismiss")
@click.argument("name", type=JOB)
@passphrase_option
@json_option
def dismiss_command(name: str, passphrase_file: Path | None, as_json: bool) -> int:
    """What changed was meant, or has been put right: releasing goes on."""
    context = this_context()
    job = find_job(context.here.settings, name)
    if context.alarms.of(job.id) is None:
        raise PersonError(
            tr("Nothing rings for {name}").format(name=job.name), tr("See “good-tide alarm show”")
        )
    alarm = dismiss(context, job, _store_of(context, job, passphrase_file))
    if as_json:
        print_json({"dismissed": alarm is not None})
    else:
        say(tr("{name}: it rings no more. Releasing goes on.").format(name=job.name))
    return output.DONE


def _store_of(context: Context, job: Job, passphrase_file: Path | None) -> Store | None:
    """The store with the pinned moment; None while it cannot be opened."""
    alarm = context.alarms.of(job.id)
    stores = job_stores(context, job, passphrase_file)
    for ref in job.stores:
        if alarm is not None and ref.store == alarm.store:
            try:
                return stores.store(ref)
            except GoodTideError:
                return None
    return None
