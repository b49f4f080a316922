"""How the jobs stand. Loads little, as it is asked often, from panels and scripts."""

from __future__ import annotations

from typing import Any

import click

from good_tide.cli import output
from good_tide.cli.output import print_json, say
from good_tide.cli.parameters import JOB, json_option
from good_tide.cli.standings import standings_now
from good_tide.core.clock import SystemClock
from good_tide.core.standing import JobStanding
from good_tide.core.translation import tr
from good_tide.core.words import iso, size_words, time_words
from good_tide.operations.workplace import find_job, load_jobs, this_workplace


@click.command("status")
@click.argument("name", required=False, type=JOB)
@json_option
def status_command(name: str | None, as_json: bool) -> int:
    """How the jobs stand. Ends with 0 when all is well, with 1 when something needs a look."""
    here = this_workplace()
    settings = here.settings
    jobs = [find_job(settings, name)] if name is not None else load_jobs(settings)
    if not jobs:
        find_job(settings, None)
    found = standings_now(here, jobs)
    if as_json:
        print_json({"jobs": [_standing_fields(one) for one in found]})
    else:
        for one in found:
            _say_standing(one)
    return output.DONE if all(one.status.well for one in found) else output.WITH_GAPS


def _standing_fields(one: JobStanding) -> dict[str, Any]:
    return {
        "name": one.name,
        "state": one.status.state.value,
        "sentence": one.status.sentence,
        "last": iso(one.last) if one.last else None,
        "next": iso(one.next) if one.next else None,
        "stores": [
            {
                "name": store.name,
                "present": store.present,
                "free": store.free,
                "full_in_days": None if store.full_in_days is None else round(store.full_in_days, 1),
                "last": iso(store.last) if store.last else None,
                "proven": store.proven,
                "trouble": [{"what": what, "todo": todo} for what, todo in store.trouble],
            }
            for store in one.stores
        ],
        "trouble": [
            {"since": iso(trouble.since), "what": trouble.what, "todo": trouble.todo}
            for trouble in one.status.trouble
        ],
    }


def _say_standing(one: JobStanding) -> None:
    now = SystemClock().now()
    say(f"{one.name}: {one.status.sentence}")
    if one.status.detail:
        say(f"    {one.status.detail}")
    for store in one.stores:
        room = ", " + tr("{free} free").format(free=size_words(store.free)) if store.free is not None else ""
        last = (
            ", " + tr("last snapshot {last}").format(last=time_words(store.last, now)) if store.last else ""
        )
        say(f"    {store.name}: {'here' if store.present else 'away'}{room}{last}")
        for more in (store.why, store.proven):
            if more:
                say(f"        {more}")
    for trouble in one.status.trouble:
        say(
            "    "
            + tr("Trouble since {since}: {what}. {todo}.").format(
                since=time_words(trouble.since, now), what=trouble.what, todo=trouble.todo
            )
        )
