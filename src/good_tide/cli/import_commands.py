"""Bringing dated copies that people have already into a history."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Any

import click

from good_tide.cli import output
from good_tide.cli.options import StoreCommand, json_option, opened_named, passphrase_option, progress_option
from good_tide.cli.output import path_fields, print_json, say, show_path
from good_tide.cli.parameters import PATH, STORE
from good_tide.core.errors import PersonError
from good_tide.core.records import Snapshot
from good_tide.core.selection import parse_time
from good_tide.core.translation import tr
from good_tide.core.words import count_words, iso, number_words, size_words, time_words
from good_tide.operations.context import this_context
from good_tide.operations.dated_copies.bringing import Target, bring_in, history_of, pin_again
from good_tide.operations.dated_copies.planning import Copy, Plan, planned, whose_history
from good_tide.operations.history import browse
from good_tide.operations.stores.opening import synced_catalog

_MOST_UNDATED = 5


@click.command("import", cls=StoreCommand)
@click.argument("named", metavar="STORE", type=STORE)
@click.argument("copies", metavar="COPY...", nargs=-1, required=True, type=PATH)
@click.option(
    "--as",
    "into",
    metavar="PATH",
    help=tr("The folder that these are copies of; the only covered folder otherwise."),
)
@click.option("--at", metavar="TIME", help=tr("Of when the copy is, where its name does not say it."))
@click.option("--job", "job_name", default="", metavar="NAME", help=tr("Into the history of this job."))
@click.option(
    "--may-thin",
    is_flag=True,
    help=tr("Let thinning release them by the ladder; they are pinned otherwise."),
)
@click.option("--plan", "only_plan", is_flag=True, help=tr("Only say what would be brought in."))
@click.option("--yes", is_flag=True, help=tr("Do not ask."))
@passphrase_option
@progress_option
@json_option
def import_command(
    named: str,
    copies: tuple[Path, ...],
    into: str | None,
    at: str | None,
    job_name: str,
    may_thin: bool,
    only_plan: bool,
    yes: bool,
    passphrase_file: Path | None,
    progress: str | None,
    as_json: bool,
) -> int:
    """Bring dated copies of a folder into the history in STORE, the oldest first: folders and archives (tar,
    ZIP) whose names say a date, or folders full of them. What they are copies of is not touched."""
    context = this_context()
    moment = parse_time(at, context.clock.now()) if at is not None else None
    store = opened_named(context, named, passphrase_file)
    machine = whose_history(context, store, job_name)
    own, now = history_of(store, machine), context.clock.now()
    said = browse.tidy(into) if into is not None else None
    paths = [path.absolute() for path in copies]
    with output.steered(progress, as_json) as steering:
        plan = planned(store, own, paths, said, moment, now, steering)
    if not as_json:
        _say_plan(plan, now)
    if only_plan:
        if as_json:
            print_json(_plan_fields(plan))
        return output.DONE
    if plan.new and not yes:
        _ask(as_json)
    taken: list[Snapshot] = []
    target = Target(store, machine, plan.into, not may_thin)
    again = pin_again(target, plan.copies)
    try:
        with output.steered(progress, as_json) as steering:
            for snapshot in bring_in(context, target, plan.new, steering):
                taken.append(snapshot)
                if not as_json:
                    say(_taken_line(snapshot, context.clock.now()))
    finally:
        if taken:
            synced_catalog(store, context.here.cache)
    if as_json:
        print_json({**_plan_fields(plan), "taken": [output.snapshot_fields(one) for one in taken]})
    else:
        _say_what_holds(len(taken), again, len(history_of(store, machine)), may_thin)
    return output.WITH_GAPS if any(one.gaps for one in taken) else output.DONE


def _say_plan(plan: Plan, now: int) -> None:
    say(tr("Copies of {into}:").format(into=show_path(plan.into)))
    rows = [_row(one, now) for one in plan.copies]
    output.table([tr("Of"), tr("Copy"), tr("Files"), tr("Size"), ""], rows, right=(2, 3))
    for path in plan.undated[:_MOST_UNDATED]:
        say(tr("No date in its name: {path}").format(path=show_path(os.fsencode(path))))
    if len(plan.undated) > _MOST_UNDATED:
        more = count_words(len(plan.undated) - _MOST_UNDATED, "other name without a date", "others")
        say(tr("And {more}.").format(more=more))
    if not plan.new:
        say(tr("All of them are in the history already."))


def _row(one: Copy, now: int) -> list[str]:
    part = tr("only {top} of it").format(top=show_path(one.top)) if one.top else ""
    name = show_path(os.fsencode(one.path.name))
    if one.is_there:
        return [time_words(one.moment, now), name, "", "", tr("there already")]
    return [
        time_words(one.moment, now),
        name,
        number_words(one.tally.files),
        size_words(one.tally.bytes),
        part,
    ]


def _plan_fields(plan: Plan) -> dict[str, Any]:
    return {
        **path_fields(plan.into, "into"),
        "copies": [
            {
                **path_fields(os.fsencode(one.path), "copy"),
                **path_fields(one.top, "top"),
                "time": iso(one.moment),
                "files": one.tally.files,
                "folders": one.tally.folders,
                "bytes": one.tally.bytes,
                "there": one.is_there,
            }
            for one in plan.copies
        ],
        "undated": [path_fields(os.fsencode(path), "copy") for path in plan.undated],
    }


def _ask(as_json: bool) -> None:
    """Ask whether it is meant.

    Raises:
        PersonError: nobody can be asked. Abort: it is not wanted.
    """
    if as_json or not sys.stdin.isatty():
        raise PersonError(
            tr("Nothing was brought in yet"), tr("Give --yes to bring them in, or --plan only to look")
        )
    click.confirm(tr("Bring them in?"), abort=True)


def _taken_line(snapshot: Snapshot, now: int) -> str:
    tally = snapshot.tally
    words = tr("{time}: {files}, {new} new").format(
        time=time_words(snapshot.time, now),
        files=count_words(tally.files, "file"),
        new=size_words(tally.new_bytes),
    )
    if snapshot.gaps:
        words += "; " + tr("{gaps} could not be read").format(gaps=count_words(snapshot.gaps, "file"))
    return words


def _say_what_holds(taken: int, again: int, whole: int, may_thin: bool) -> None:
    if again:
        had = count_words(again, "copy that was there", "copies that were there")
        say(tr("{had} had no pin, and got one.").format(had=had))
    if not taken:
        return
    say(
        tr("{taken} brought in; the history has {whole} now.").format(
            taken=count_words(taken, "copy", "copies"), whole=count_words(whole, "snapshot")
        )
    )
    if not may_thin:
        say(tr("They are pinned: no thinning releases them until their pins are taken away."))
