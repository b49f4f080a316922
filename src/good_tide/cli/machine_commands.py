"""The command about this machine's identity in stores."""

from __future__ import annotations

from pathlib import Path

import click

from good_tide.cli import output
from good_tide.cli.options import job_stores, json_option, passphrase_option
from good_tide.cli.output import print_json, say
from good_tide.core.errors import PersonError
from good_tide.core.translation import tr
from good_tide.operations.context import Context, this_context
from good_tide.operations.snapshot.machines import accept_history
from good_tide.operations.workplace import load_jobs, own_history_from_now_on


@click.command("machine")
@click.option(
    "--own-history",
    is_flag=True,
    help=tr("This machine is a copy of another: give it a history of its own from now on."),
)
@click.option(
    "--accept",
    is_flag=True,
    help=tr("No other machine writes this one's history any more: take it as it is."),
)
@passphrase_option
@json_option
def machine_command(own_history: bool, accept: bool, passphrase_file: Path | None, as_json: bool) -> int:
    """As which machine this one takes snapshots; for machines that were made from an image of another."""
    context = this_context()
    here = context.here
    if own_history and accept:
        raise PersonError(
            tr("A machine is a copy or it is not"),
            tr("Give --own-history on the copy, --accept on the other"),
        )
    machine = own_history_from_now_on(here) if own_history else here.machine
    settled = _accept(context, passphrase_file) if accept else 0
    if as_json:
        print_json({"machine": machine.name, "id": machine.id, "accepted": settled})
        return output.DONE
    say(
        tr("Snapshots of this machine are taken as {name} ({id}).").format(
            name=machine.name, id=machine.id[:12]
        )
    )
    if accept:
        say(
            tr("{settled} histories are taken as they are.").format(settled=settled)
            if settled
            else tr("Nothing had to be accepted.")
        )
    return output.DONE


def _accept(context: Context, passphrase_file: Path | None) -> int:
    """Take this machine's histories as they are, in the stores that are here; how many had been written by
    another too."""
    settled = 0
    for job in load_jobs(context.here.settings):
        stores = job_stores(context, job, passphrase_file)
        for ref in stores.here():
            settled += accept_history(context, job, stores.store(ref))
    return settled
