"""The watch from afar: all machines that use a store, and which of them are retired."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, Literal, get_args

import click

from good_tide.cli import output
from good_tide.cli.options import StoreCommand, json_option, opened_named, passphrase_option
from good_tide.cli.output import print_json, say, table
from good_tide.cli.parameters import STORE
from good_tide.core.clock import SECOND
from good_tide.core.errors import PersonError
from good_tide.core.translation import tr
from good_tide.core.words import count_words, duration_words, iso, time_words
from good_tide.operations.context import this_context
from good_tide.operations.stores.fleet import FleetRow, fleet, reinstate, retire

Grouping = Literal["machine", "job"]
_GROUPS: dict[str, Callable[[FleetRow], str]] = {
    "machine": lambda row: row.record.machine.name,
    "job": lambda row: row.record.job or tr("by hand"),
}


@click.command("fleet", cls=StoreCommand)
@click.argument("store", type=STORE)
@click.option("--late", is_flag=True, help=tr("Only those that are late."))
@click.option(
    "--group",
    type=click.Choice(get_args(Grouping)),
    help=tr("Those of one machine, or of one job's name, together."),
)
@click.option(
    "--retire", "retired", metavar="MACHINE", help=tr("It takes no more snapshots: never late from now on.")
)
@click.option("--reinstate", "back", metavar="MACHINE", help=tr("The other way round: it is watched again."))
@click.option("--job", "job", metavar="NAME", help=tr("Of that machine only this job."))
@passphrase_option
@json_option
def fleet_command(
    store: str,
    late: bool,
    group: Grouping | None,
    retired: str | None,
    back: str | None,
    job: str | None,
    passphrase_file: Path | None,
    as_json: bool,
) -> int:
    """All machines that use a store, with the last snapshot of each, those that are late first. STORE is its
    folder, or the disk's name in a job. Ends with 1 when one is late."""
    if retired is not None and back is not None:
        raise PersonError(
            tr("A machine is retired or reinstated, not both"), tr("Give one of the two options")
        )
    if job is not None and retired is None and back is None:
        raise PersonError(tr("--job belongs to --retire or --reinstate"), tr("Give one of these with it"))
    context = this_context()
    now = context.clock.now()
    opened = opened_named(context, store, passphrase_file)
    changed, verb = [], ""
    if retired is not None:
        changed, verb = retire(opened, retired, job, now), "retired"
    elif back is not None:
        changed, verb = reinstate(opened, back, job), "reinstated"
    if verb and not as_json:
        say(f"{count_words(len(changed), 'row')} {verb}.")
    rows = [row for row in fleet(opened, now) if row.late or not late]
    if group is not None:
        rows = _together(rows, _GROUPS[group])
    if as_json:
        print_json({"machines": [_fields(row) for row in rows]})
    elif rows:
        table(
            [tr("Machine"), tr("Job"), tr("Last snapshot"), tr("Snapshots"), "", tr("Rhythm")],
            [_cells(row, now) for row in rows],
            right=(3,),
        )
    else:
        say(tr("None is late.") if late else tr("No machine has a snapshot there."))
    return output.WITH_GAPS if any(row.late for row in rows) else output.DONE


def _together(rows: list[FleetRow], group: Callable[[FleetRow], str]) -> list[FleetRow]:
    """Rows of one group together, in the order in which their first ones are."""
    order = list(dict.fromkeys(map(group, rows)))
    return sorted(rows, key=lambda row: order.index(group(row)))


def _cells(row: FleetRow, now: int) -> list[str]:
    record = row.record
    if record.retired:
        state = tr("retired {retired}").format(retired=time_words(record.retired, now))
    else:
        state = (
            tr("LATE by {late}").format(late=duration_words(row.late / SECOND)) if row.late else tr("in time")
        )
    return [
        record.machine.name,
        record.job,
        time_words(record.time, now),
        f"{row.snapshots:,}",
        f"{state}, {count_words(record.gaps, 'gap')}" if record.gaps else state,
        record.rhythm,
    ]


def _fields(row: FleetRow) -> dict[str, Any]:
    record = row.record
    return {
        "machine": record.machine.name,
        "job": record.job or None,
        "last": iso(record.time),
        "next": iso(record.next) if record.next else None,
        "rhythm": record.rhythm or None,
        "snapshots": row.snapshots,
        "week": list(row.week),
        "files": record.files,
        "bytes": record.bytes,
        "gaps": record.gaps,
        "program": record.program or None,
        "late_seconds": round(row.late / SECOND),
        "retired": iso(record.retired) if record.retired else None,
    }
