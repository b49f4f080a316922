"""The command about this machine's identity in stores."""

from __future__ import annotations

from pathlib import Path

import click

from good_tide.cli import output
from good_tide.cli.coverage_commands import openers
from good_tide.cli.options import json_option, passphrase_option, read_passphrase
from good_tide.cli.output import print_json, say
from good_tide.core.clock import SystemClock
from good_tide.core.errors import PersonError
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.snapshot.capture import last_snapshot
from good_tide.operations.stores.disks import disks_for, locate
from good_tide.operations.workplace import load_jobs, own_history_from_now_on, this_workplace


@click.command("machine")
@click.option(
    "--own-history",
    is_flag=True,
    help="This machine is a copy of another: give it a history of its own from now on.",
)
@click.option(
    "--accept", is_flag=True, help="No other machine writes this one's history any more: take it as it is."
)
@passphrase_option
@json_option
def machine_command(own_history: bool, accept: bool, passphrase_file: Path | None, as_json: bool) -> int:
    """As which machine this one takes snapshots; for machines that were made from an image of another."""
    here = this_workplace()
    if own_history and accept:
        raise PersonError(
            "A machine is a copy or it is not", "Give --own-history on the copy, --accept on the other"
        )
    machine = own_history_from_now_on(here) if own_history else here.machine
    settled = _accept(passphrase_file) if accept else 0
    if as_json:
        print_json({"machine": machine.name, "id": machine.id, "accepted": settled})
        return output.DONE
    say(f"Snapshots of this machine are taken as {machine.name} ({machine.id[:12]}).")
    if accept:
        say(f"{settled} histories are taken as they are." if settled else "Nothing had to be accepted.")
    return output.DONE


def _accept(passphrase_file: Path | None) -> int:
    """Take this machine's histories as they are, in the stores that are here; how many had been written by
    another too."""
    here = this_workplace()
    disks, settled = disks_for(here.settings), 0
    for job in load_jobs(here.settings):
        machine = (job.machine or here.machine).id
        open_ref = openers(job, here, read_passphrase(passphrase_file))["open_ref"]
        for ref in job.stores:
            folder = locate(ref, disks)
            if folder is None:
                continue
            store = open_ref(ref, folder)
            memory = StoreMemory(here.state, store.header.store)
            if memory.is_mixed(machine):
                memory.accept(machine, last_snapshot(store, machine))
                Journal(here.records, SystemClock()).add(
                    "note", job.name, f"The history in {folder} is taken as it is"
                )
                settled += 1
    return settled
