"""Commands about snapshots: taking one, and looking back."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from good_tide.cli import output
from good_tide.cli.coverage_commands import run_jobs
from good_tide.cli.options import (
    json_option,
    named_place,
    opened,
    passphrase_option,
    progress_option,
)
from good_tide.cli.output import print_json
from good_tide.cli.parameters import JOB, PATH
from good_tide.core.clock import SECOND, SystemClock
from good_tide.core.errors import PersonError
from good_tide.core.given_words import checked_label
from good_tide.core.selection import parse_time
from good_tide.core.translation import tr
from good_tide.operations.context import this_context
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.opening import (
    StorePlace,
    open_catalog,
    take_into_catalog,
)

_FARTHEST_AHEAD = 86400 * SECOND


@click.command("snapshot")
@click.argument("job_name", metavar="[NAME|STORE]", required=False, type=JOB)
@click.option("--store", "where", type=named_place, hidden=True)
@passphrase_option
@click.option(
    "--folder",
    "folders",
    multiple=True,
    type=PATH,
    metavar="PATH",
    help=tr("With a store: folder to cover; may be given again."),
)
@click.option("--label", default="", help=tr("A label for the snapshot."))
@click.option(
    "--at",
    metavar="TIME",
    help=tr("With a store: the snapshot's time, to bring in dated copies; must be after the last one."),
)
@progress_option
@json_option
def snapshot_command(
    job_name: str | None,
    where: StorePlace | None,
    passphrase_file: Path | None,
    folders: tuple[Path, ...],
    label: str,
    at: str | None,
    progress: str | None,
    as_json: bool,
) -> int:
    """Take a snapshot: of the job NAME, of all jobs, or of the folders that --folder names into STORE."""
    label = checked_label(label)
    if where is None and folders and job_name is not None:
        where, job_name = named_place(job_name), None
    if where is None:
        if folders or at is not None:
            raise PersonError(
                tr("--folder and --at need a store"), tr("Name it: good-tide snapshot STORE --folder PATH")
            )
        return run_jobs(job_name, passphrase_file, label, progress, as_json)
    if job_name is not None:
        raise PersonError(
            tr("A job has its own stores"), tr("Give either the name of a job, or a store with --folder")
        )
    if not folders:
        raise PersonError(tr("No folder is named"), tr("Give --folder PATH"))
    context = this_context()
    moment = None if at is None else parse_time(at)
    if moment is not None and moment > context.clock.now() + _FARTHEST_AHEAD:
        what = tr(
            "{at} is more than a day ahead: all later snapshots would have to be dated after it"
        ).format(at=at)
        raise PersonError(what, tr("Give a time that has been, or none"))
    here, store = context.here, opened(context, where, passphrase_file)
    request = CaptureRequest(folders, here.machine, label=label, at=moment)
    catalog = open_catalog(store, here.cache)
    with output.steered(progress, as_json) as steering:
        taken = capture(
            store,
            request,
            SystemClock(),
            steering,
            here.state,
            catalog.stored_small if catalog.count() else None,
        )
    if as_json:
        print_json(output.snapshot_fields(taken))
    else:
        output.say_snapshot(taken)
    sys.stdout.flush()  # what follows may take as long as the first snapshot did
    take_into_catalog(store, catalog)
    return output.WITH_GAPS if taken.gaps else output.DONE
