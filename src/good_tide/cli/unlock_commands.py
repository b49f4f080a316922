"""Giving the passphrase of a job's stores, so that it runs by itself."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from good_tide.cli import output
from good_tide.cli.options import json_option, passphrase_option, read_passphrase
from good_tide.cli.output import print_json, say
from good_tide.cli.parameters import JOB, PATH
from good_tide.core.errors import GoodTideError, PersonError, PlaceError
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.core.words import listed
from good_tide.operations.context import Context, this_context
from good_tide.operations.stores.passphrases import keep_in_file, open_counted
from good_tide.operations.workplace import find_job
from good_tide.protocol.client import agent_client
from good_tide.protocol.schedule_calls import LookNow
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.store_calls import Unlock


@click.command("unlock")
@click.argument("name", metavar="JOB", type=JOB)
@passphrase_option
@click.option("--remember", is_flag=True, help=tr("Remember it in the desktop's key ring, for all sessions."))
@click.option(
    "--keep-in",
    type=PATH,
    metavar="FILE",
    help=tr(
        "Keep it in a new file that only you can read, named in the job: for machines without a key ring."
    ),
)
@json_option
def unlock_command(
    name: str, passphrase_file: Path | None, remember: bool, keep_in: Path | None, as_json: bool
) -> int:
    """Give the passphrase of a job's stores. Without an option the agent that runs keeps it in its memory,
    until it ends."""
    context = this_context()
    job = find_job(context.here.settings, name)
    refs = [ref for ref in job.stores if ref.encrypted is not False]
    if not refs:
        raise PersonError(
            tr("No store of {name} is encrypted").format(name=job.name), tr("Nothing needs to be given")
        )
    words = read_passphrase(passphrase_file)
    if words is None and sys.stdin.isatty():
        words = click.prompt(
            tr("Passphrase of {called}").format(called=refs[0].called), hide_input=True, err=True
        )
    if words is None:
        raise PersonError(
            tr("No passphrase was given, and there is no terminal to ask on"), tr("Give --passphrase-file")
        )
    opened = _try(context, job, words)
    kept = []
    if remember:
        _remember(context, job, words)
        kept.append(tr("in the key ring"))
    if keep_in is not None:
        keep_in_file(context, job, keep_in, words)
        kept.append(tr("in {keep_in}").format(keep_in=keep_in))
    with agent_client(agent_socket(context.here.runtime, context.here.settings)) as agent:
        if agent is not None:
            agent.ask(Unlock(job.id, words))
            agent.ask(LookNow())
            kept.append(tr("in the agent's memory until it ends"))
    if not kept:
        raise PlaceError(
            tr("The passphrase is right, but it is kept nowhere: no agent runs"),
            tr("Give --remember or --keep-in FILE, or start the agent with “good-tide agent start”"),
        )
    if as_json:
        print_json({"job": job.name, "opens": opened, "kept": kept})
    else:
        say(tr("It opens {opened}, and is kept {kept}.").format(opened=", ".join(opened), kept=listed(kept)))
    return output.DONE


def _try(context: Context, job: Job, words: str) -> list[str]:
    """What the stores that are here are called, which all open with it."""
    opened = []
    for ref in job.stores:
        where = context.whereabouts.of(ref)
        if where is not None and ref.encrypted is not False:
            open_counted(context, where, words)
            opened.append(ref.called)
    if not opened:
        raise PlaceError(
            tr("No store of {name} is here to try it on").format(name=job.name), tr("Connect a disk")
        )
    return opened


def _remember(context: Context, job: Job, words: str) -> None:
    try:
        for ref in job.stores:
            if ref.store:
                context.ring.remember(ref.store, words)
    except GoodTideError as error:
        raise PlaceError(
            tr("The passphrase cannot be remembered: {what}").format(what=error.what),
            tr("Give --keep-in FILE instead: a file that only you can read"),
        ) from error
