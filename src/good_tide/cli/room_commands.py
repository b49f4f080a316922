"""Commands about the room that history takes, and about taking things out of it."""

from __future__ import annotations

import re
import sys
from pathlib import Path
from typing import Any, get_args

import click
import msgspec

from good_tide.cli import output
from good_tide.cli.options import (
    StoreCommand,
    job_stores,
    json_option,
    opened_named,
    passphrase_option,
    progress_option,
)
from good_tide.cli.output import path_fields, print_json, say, show_path, table
from good_tide.cli.parameters import STORE
from good_tide.cli.reading_history import caught_up
from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError
from good_tide.core.forecast import full_in
from good_tide.core.parts import By
from good_tide.core.rules import parse_size
from good_tide.core.settings import Room, WhenShort
from good_tide.core.translation import tr
from good_tide.core.words import count_words, local, size_words
from good_tide.operations.context import this_context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.jobs.changing import change_room
from good_tide.operations.retention.by_hand import elsewhere, purge_by_hand
from good_tide.operations.retention.purge import plan_purge
from good_tide.operations.retention.room import RoomFacts, store_room, taking
from good_tide.operations.stores.users import job_using


@click.command("purge", cls=StoreCommand)
@click.argument("store", type=STORE)
@click.argument("pattern")
@click.option("--plan", "only_plan", is_flag=True, help=tr("Only say what that touches."))
@passphrase_option
@progress_option
@json_option
def purge_command(
    store: str,
    pattern: str,
    only_plan: bool,
    passphrase_file: Path | None,
    progress: str | None,
    as_json: bool,
) -> int:
    """Take a path or PATTERN (as in rules of coverage) out of all snapshots of STORE, of every machine. It
    cannot be brought back. The snapshots that held it get new names; the next sweep gives the room back, and
    with --thorough leaves no trace of it."""
    context, home = this_context(), home_folder()
    found = opened_named(context, store, passphrase_file)
    with output.steered(progress, as_json) as steering:
        plan = plan_purge(found, pattern, home, steering)
        if not plan.snapshots:
            raise PersonError(
                tr("No snapshot in this store holds anything that “{pattern}” catches").format(
                    pattern=pattern
                ),
                tr("See “good-tide contents” for what there is"),
            )
        if not only_plan:
            purge_by_hand(context, found, plan, steering)
        others = elsewhere(
            context, found, pattern, home, lambda job: job_stores(context, job, passphrase_file), steering
        )
    if as_json:
        paths = [{**path_fields(path), "versions": versions} for path, versions in plan.paths]
        print_json(
            {
                "snapshots": len(plan.snapshots),
                "paths": paths,
                "gives_back": plan.gives_back,
                "comes_again": plan.stands,
                "done": not only_plan,
                "elsewhere": [
                    {"store": one.path, "snapshots": one.snapshots, "trouble": one.trouble or None}
                    for one in others
                ],
            }
        )
        return output.DONE
    for path, versions in plan.paths:
        say(f"{show_path(path)}   {count_words(versions, 'version')}")
    would = tr("would be") if only_plan else "were"
    say(
        tr("{snapshots} {would} written anew; gives back up to {gives_back} with the next sweep.").format(
            snapshots=count_words(len(plan.snapshots), "snapshot"),
            would=would,
            gives_back=size_words(plan.gives_back),
        )
    )
    if plan.stands:
        say(
            tr(
                "It was there in the newest snapshot: the next one takes it again, unless it is deleted or a"
                " rule of coverage leaves it out."
            )
        )
    for one in others:
        say(f"{one.words}.")
    return output.DONE


@click.command("room", cls=StoreCommand)
@click.argument("store", type=STORE)
@click.option(
    "--by",
    type=click.Choice(get_args(By)),
    help=tr("What takes it: exact, by bytes that only this part of history needs."),
)
@click.option(
    "--limit",
    metavar="SIZE",
    help=(
        tr(
            "What the store may take, such as “400 GiB” or “80 %” of the disk; “none”. For the job that"
            " uses it."
        )
    ),
)
@click.option("--reserve", metavar="SIZE", help=tr("What stays free on the disk for other things."))
@click.option(
    "--when-short", type=click.Choice(get_args(WhenShort)), help=tr("Stop and say so, or release the oldest.")
)
@click.option(
    "--floor",
    type=click.IntRange(0, 36500),
    metavar="DAYS",
    help=tr("Snapshots that are younger are never released for room."),
)
@passphrase_option
@json_option
def room_command(
    store: str,
    by: By | None,
    limit: str | None,
    reserve: str | None,
    when_short: WhenShort | None,
    floor: int | None,
    passphrase_file: Path | None,
    as_json: bool,
) -> int:
    """Room of STORE: what it takes, what is free, when the disk will be full, and what would come back if a
    part of history went."""
    context = this_context()
    here, clock = context.here, context.clock
    found = opened_named(context, store, passphrase_file)
    job = job_using(context, found)
    room = job.room if job is not None else Room()
    changed = _changed_room(room, limit, reserve, when_short, floor)
    if changed != room:
        if job is None:
            raise PersonError(
                tr("No job of this machine uses this store"), tr("Set its room on a machine that does")
            )
        room = change_room(context, job, changed).room
    if not as_json:
        _say_now(store_room(context, found, room), room)
    machine = (context.machine_of(job) if job is not None else here.machine).id
    catalog, _ = caught_up(found, here.cache, as_json)
    tide = catalog.tide(machine)
    catalog.close()
    facts = store_room(context, found, room, tide)
    with output.steered(None, as_json) as steering:
        parts = taking(found, by, steering, here.cache) if by is not None else []
    full = full_in(facts.added, facts.usable)
    days = (
        {name: _day(clock.now(), getattr(full, name)) for name in ("low", "mid", "high")}
        if full is not None
        else None
    )
    if as_json:
        print_json(
            {
                "stored": facts.stored,
                "limit": facts.limit or None,
                "free": facts.free,
                "reserve": facts.reserve,
                "short": facts.short,
                "full_on": days,
                "by": [msgspec.to_builtins(one) for one in parts],
            }
        )
        return output.WITH_GAPS if facts.short else output.DONE
    if days is not None:
        say(
            tr("Not full within five years at this pace.")
            if days["mid"] is None
            else (
                tr("Full about {days}: between {days_2} and {days_3}, four times of five.").format(
                    days=days["mid"],
                    days_2=days["low"],
                    days_3=days["high"] or tr("later than in five years"),
                )
            )
        )
    if parts:
        table(
            ["", tr("Only here"), tr("Shared")],
            [[one.name, size_words(one.only_here), size_words(one.shared)] for one in parts],
            right=(1, 2),
        )
    return output.WITH_GAPS if facts.short else output.DONE


def _say_now(facts: RoomFacts, room: Room) -> None:
    """What is known without history, at once: that may have to be read first."""
    say(
        tr("{stored} stored, {free} free of {total}.").format(
            stored=size_words(facts.stored), free=size_words(facts.free), total=size_words(facts.total)
        )
    )
    if facts.limit or facts.reserve:
        say(
            tr("Limit {limit}, reserve {reserve}; when short: {when_short}, floor {floor_days} days.").format(
                limit=size_words(facts.limit) if facts.limit else "none",
                reserve=size_words(facts.reserve),
                when_short=room.when_short,
                floor_days=room.floor_days,
            )
        )
    if facts.short:
        say(tr("SHORT of {short}.").format(short=size_words(facts.short)))
    sys.stdout.flush()


def _day(now: int, days: int | None) -> str | None:
    return None if days is None else f"{local(now + days * 86400 * SECOND):%Y-%m-%d}"


def _changed_room(
    room: Room, limit: str | None, reserve: str | None, when_short: WhenShort | None, floor: int | None
) -> Room:
    fields: dict[str, Any] = {}
    if limit is not None:
        part = re.fullmatch(r"(\d{1,3}(?:\.\d+)?)\s*%", limit.strip())
        if part and not 0 < float(part[1]) <= 100:
            raise PersonError(
                tr("“{limit}” is no part of a disk").format(limit=limit),
                tr("Give up to 100 %, a size, or none"),
            )
        fields["limit_bytes"] = 0 if part or limit == "none" else parse_size(limit)
        fields["limit_part"] = float(part[1]) / 100 if part else 0.0
    if reserve is not None:
        fields["reserve_bytes"] = 0 if reserve == "none" else parse_size(reserve)
    if when_short is not None:
        fields["when_short"] = when_short
    if floor is not None:
        fields["floor_days"] = floor
    return msgspec.structs.replace(room, **fields)
