"""Jobs as files: saved on one machine, loaded on another."""

from __future__ import annotations

import os
from pathlib import Path

import click

from good_tide.cli import output
from good_tide.cli.new_stores import furnished_job, new_passphrase, say_made
from good_tide.cli.options import json_option, opened_named, passphrase_option, read_passphrase
from good_tide.cli.output import print_json, say
from good_tide.cli.parameters import PATH
from good_tide.core.errors import PersonError
from good_tide.core.jobfile import job_file_text, parse_job_file
from good_tide.core.places import Level
from good_tide.core.settings import Job
from good_tide.core.words import iso
from good_tide.operations.context import Context, this_context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.jobs.making import job_of_file, own_history
from good_tide.operations.jobs.taking_over import histories, take_over
from good_tide.operations.stores.furnishing import remember as remember_passphrase
from good_tide.operations.stores.opening import locked_hint
from good_tide.operations.workplace import add_job, find_job, load_jobs
from good_tide.system.user_folders import user_folders

_LEVEL_SIGNS = {Level.GOOD: "good", Level.DOUBTFUL: "doubtful", Level.BAD: "bad"}


@click.command("save")
@click.argument("name")
@click.argument("file", type=PATH)
@json_option
def save_command(name: str, file: Path, as_json: bool) -> int:
    """Save a job to a TOML file, to be used on the next machine."""
    context = this_context()
    job, home = find_job(context.here.settings, name), home_folder()
    text = job_file_text(job, _encrypted(context, job), home, user_folders(home))
    try:
        file.write_text(text, encoding="utf-8")
    except OSError as error:
        raise PersonError(
            f"{file} cannot be written ({os.strerror(error.errno or 0)})", "Choose another file"
        ) from error
    if as_json:
        print_json({"job": job.name, "file": str(file)})
    else:
        say(f"The job {job.name} was saved to {file}.")
    return output.DONE


def _encrypted(context: Context, job: Job) -> dict[str, bool]:
    found = {}
    for ref in job.stores:
        where = context.whereabouts.of(ref)
        if where is not None:
            found[ref.path] = locked_hint(where) is not None
    return found


@click.command("load")
@click.argument("file", type=PATH)
@passphrase_option
@click.option("--hint", default="", help="A hint for the passphrase of new stores.")
@click.option("--remember", is_flag=True, help="Remember the passphrase in the desktop's key ring.")
@json_option
def load_command(file: Path, passphrase_file: Path | None, hint: str, remember: bool, as_json: bool) -> int:
    """Make a job from a TOML file, with its stores where there are none yet; unattended with
    --passphrase-file."""
    context = this_context()
    here = context.here
    try:
        parsed = parse_job_file(file.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise PersonError(
            f"The job file {file} cannot be read", "Check the path and that it is UTF-8 text"
        ) from error
    if not parsed.store:
        raise PersonError(f"{file} names no store", "Add one to it, or use “good-tide job add” with --rules")
    job, wanted, notes = job_of_file(parsed, here.machine, context.whereabouts)
    job = own_history(job, load_jobs(here.settings), here.machine)
    passphrase = new_passphrase(passphrase_file)
    furnished = furnished_job(context, job, wanted, passphrase, hint)
    job, kept = add_job(here.settings, furnished.job), passphrase if remember else None
    return say_made(context, job, furnished, notes, kept, as_json)


@click.command("take-over")
@click.argument("named", metavar="STORE")
@click.option("--machine", default="", metavar="NAME", help="Whose history, where there are several.")
@click.option("--name", default="", metavar="NAME", help="What the job is called here; as it was otherwise.")
@passphrase_option
@click.option("--remember", is_flag=True, help="Remember the passphrase in the desktop's key ring.")
@json_option
def take_over_command(
    named: str, machine: str, name: str, passphrase_file: Path | None, remember: bool, as_json: bool
) -> int:
    """Go on here with the job of a machine that is no more: its folders, rules, rhythm and ladder, its store
    and its history."""
    context = this_context()
    store = opened_named(context, named, passphrase_file)
    found = histories(store)
    wanted = [one for one in found if machine in ("", one.machine.name)]
    if len(wanted) != 1:
        names = ", ".join(f"{one.machine.name} (last {iso(one.newest)})" for one in found)
        raise PersonError("Whose history is to go on is not clear", f"Give --machine; there are {names}")
    job, made, notes = take_over(context, store, wanted[0].machine, name)
    words = read_passphrase(passphrase_file) if remember else None
    if words is not None:
        notes += remember_passphrase(context, job, [made], words)
    if as_json:
        whose = wanted[0].machine.name
        print_json({"job": job.name, "machine": whose, "folders": list(job.folders), "notes": notes})
        return output.DONE
    say(f"The job {job.name} goes on with the history of {wanted[0].machine.name}.")
    say(f"It covers {', '.join(job.folders)}.")
    for note in notes:
        say(note + ".")
    return output.DONE
