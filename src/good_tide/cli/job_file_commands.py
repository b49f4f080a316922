"""Jobs as files: saved on one machine, loaded on another."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click
import msgspec

from good_tide.cli import output
from good_tide.cli.new_stores import furnished_job, new_passphrase, say_made
from good_tide.cli.options import StoreCommand, json_option, opened_named, passphrase_option, read_passphrase
from good_tide.cli.output import print_json, say
from good_tide.cli.parameters import JOB, PATH, STORE
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.jobfile import JobFile, expand_folder, parse_job_file, text_of
from good_tide.core.places import Level
from good_tide.core.settings import Job, MailServer
from good_tide.core.translation import tr
from good_tide.core.words import iso
from good_tide.operations.context import Context, this_context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.jobs.changing import drop_store, keep
from good_tide.operations.jobs.loading import Loading, apply_file, file_of, loading
from good_tide.operations.jobs.making import job_of_file, own_history, wanted_of
from good_tide.operations.jobs.taking_over import histories, take_over
from good_tide.operations.reporting.post import Post
from good_tide.operations.stores.furnishing import remember as remember_passphrase
from good_tide.operations.workplace import add_job, find_job, load_jobs

_LEVEL_SIGNS = {Level.GOOD: "good", Level.DOUBTFUL: "doubtful", Level.BAD: "bad"}


@click.command("save")
@click.argument("name", type=JOB)
@click.argument("file", type=PATH)
@click.option(
    "--portable",
    is_flag=True,
    help=tr(
        "So that it fits the next machine: disks by their labels, this machine's and your name left open."
    ),
)
@click.option("--with-mail", is_flag=True, help=tr("With the mail server that reports go through."))
@json_option
def save_command(name: str, file: Path, portable: bool, with_mail: bool, as_json: bool) -> int:
    """Save a job to a TOML file, to be used on the next machine."""
    context = this_context()
    job = find_job(context.here.settings, name)
    mail = Post(context).server() if with_mail else None
    text = text_of(file_of(context, job, portable, mail))
    try:
        file.write_text(text, encoding="utf-8")
    except OSError as error:
        raise PersonError(
            tr("{file} cannot be written ({strerror})").format(
                file=file, strerror=os.strerror(error.errno or 0)
            ),
            tr("Choose another file"),
        ) from error
    if as_json:
        print_json({"job": job.name, "file": str(file)})
    else:
        say(tr("The job {name} was saved to {file}.").format(name=job.name, file=file))
    return output.DONE


@click.command("load")
@click.argument("file", type=PATH)
@passphrase_option
@click.option("--hint", default="", help=tr("A hint for the passphrase of new stores."))
@click.option("--remember", is_flag=True, help=tr("Remember the passphrase in the desktop's key ring."))
@click.option(
    "--name", default="", metavar="NAME", help=tr("What the job is called; as the file says otherwise.")
)
@click.option("--yes", is_flag=True, help=tr("Change a job of that name as the file says, without asking."))
@click.option("--plan", "only_plan", is_flag=True, help=tr("Only say what a job of that name would change."))
@json_option
def load_command(
    file: Path,
    passphrase_file: Path | None,
    hint: str,
    remember: bool,
    name: str,
    yes: bool,
    only_plan: bool,
    as_json: bool,
) -> int:
    """Make a job from a TOML file, with its stores where there are none yet; unattended with
    --passphrase-file. A job of that name is changed to what the file says, after it was shown what differs. A
    disk that is not here is left out and named, and comes with the same command once it is; then it ends with
    1."""
    context = this_context()
    parsed = _read(file, name)
    passphrase = new_passphrase(passphrase_file or _kept_in(parsed))
    known = next(
        (job for job in load_jobs(context.here.settings) if job.name.casefold() == parsed.name.casefold()),
        None,
    )
    mail = parsed.mail if parsed.mail != Post(context).server() else None
    found = loading(context, known, parsed) if known is not None else None
    if known is not None and found is not None:
        if only_plan or not (found.differences or mail):
            return _say_plan(known, found, mail, as_json)
        _agree(known, found, mail, yes, as_json)
        wanted, absent = wanted_of(
            [parsed.store[number] for number in found.new], context.here.machine, context.whereabouts
        )
        if len(found.dropped) == len(known.stores) and not wanted:
            raise PlaceError(
                tr("The disk {name} is not here").format(name=absent[0]),
                tr("Connect it, and load the file again"),
            )
        job = apply_file(context, known, parsed)
        for ref in found.dropped:
            job = drop_store(context, job, ref, bool(wanted))
        notes: list[str] = []
        furnished = furnished_job(context, job, wanted, passphrase, hint)
        job = keep(context, furnished.job)
    elif only_plan:
        raise PersonError(
            tr("There is no job {name} to compare with").format(name=parsed.name),
            tr("Load it without --plan"),
        )
    else:
        job, wanted, notes, absent = job_of_file(parsed, context.here.machine, context.whereabouts)
        job = own_history(job, load_jobs(context.here.settings), context.here.machine)
        furnished = furnished_job(context, job, wanted, passphrase, hint)
        job = add_job(context.here.settings, furnished.job)
    if mail is not None:
        notes += _keep_mail(context, mail)
    notes += [
        tr("The disk {one} is not here: load the file again once it is").format(one=one) for one in absent
    ]
    changes = found.differences if found is not None else None
    code = say_made(context, job, furnished, notes, passphrase if remember else None, as_json, changes)
    return output.WITH_GAPS if absent else code


def _read(file: Path, name: str) -> JobFile:
    try:
        parsed = parse_job_file(file.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise PersonError(
            tr("The job file {file} cannot be read").format(file=file),
            tr("Check the path and that it is UTF-8 text"),
        ) from error
    if not parsed.store:
        raise PersonError(
            tr("{file} names no store").format(file=file),
            tr("Add one to it, or use “good-tide job add” with --rules"),
        )
    return msgspec.structs.replace(parsed, name=name) if name else parsed


def _kept_in(file: JobFile) -> Path | None:
    """The passphrase file that a job file names, where there is one already."""
    path = Path(expand_folder(file.passphrase_file, home_folder(), {})) if file.passphrase_file else None
    return path if path is not None and path.exists() else None


def _lines(found: Loading, mail: MailServer | None) -> list[str]:
    lines = [one.words for one in found.differences]
    return lines + (
        [tr("mail: reports go through {host}").format(host=mail.host)] if mail is not None else []
    )


def _say_plan(job: Job, found: Loading, mail: MailServer | None, as_json: bool) -> int:
    lines = _lines(found, mail)
    if as_json:
        print_json({"job": job.name, "changes": [one._asdict() for one in found.differences]})
        return output.DONE
    say(
        tr("The job {name} would change:").format(name=job.name)
        if lines
        else tr("The job {name} is as the file says.").format(name=job.name)
    )
    for one in lines:
        say(f"  {one}")
    return output.DONE


def _agree(job: Job, found: Loading, mail: MailServer | None, yes: bool, as_json: bool) -> None:
    """Show what would change, and ask.

    Raises:
        PersonError: nobody can be asked. Abort: it is not wanted.
    """
    lines = _lines(found, mail)
    if yes:
        return
    if as_json or not sys.stdin.isatty():
        told = "; ".join(lines[:5]) + (
            "; " + tr("and {lines} more").format(lines=len(lines) - 5) if len(lines) > 5 else ""
        )
        raise PersonError(
            tr("There is a job {name} already, and the file says otherwise: {told}").format(
                name=job.name, told=told
            ),
            tr("Give --yes to change it so, --name to make another job, or --plan only to look"),
        )
    say(tr("There is a job {name} already. It would change:").format(name=job.name))
    for one in lines:
        say(f"  {one}")
    click.confirm(tr("Change it so?"), abort=True)


def _keep_mail(context: Context, server: MailServer) -> list[str]:
    """Let reports go through a server; what is left to be done, in sentences."""
    Post(context).keep_server(server, "")
    if server.login and not server.password_file:
        return [
            tr("The password of {login} is not in the file: give it with “good-tide mail --server …”").format(
                login=server.login
            )
        ]
    return []


@click.command("take-over", cls=StoreCommand)
@click.argument("named", metavar="STORE", type=STORE)
@click.option("--machine", default="", metavar="NAME", help=tr("Whose history, where there are several."))
@click.option(
    "--name", default="", metavar="NAME", help=tr("What the job is called here; as it was otherwise.")
)
@passphrase_option
@click.option("--remember", is_flag=True, help=tr("Remember the passphrase in the desktop's key ring."))
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
        names = ", ".join(
            tr("{name} (last {newest})").format(name=one.machine.name, newest=iso(one.newest))
            for one in found
        )
        raise PersonError(
            tr("Whose history is to go on is not clear"),
            tr("Give --machine; there are {names}").format(names=names),
        )
    job, made, notes = take_over(context, store, wanted[0].machine, name)
    words = read_passphrase(passphrase_file) if remember else None
    if words is not None:
        notes += remember_passphrase(context, job, [made], words)
    if as_json:
        whose = wanted[0].machine.name
        print_json({"job": job.name, "machine": whose, "folders": list(job.folders), "notes": notes})
        return output.DONE
    say(
        tr("The job {name} goes on with the history of {name_2}.").format(
            name=job.name, name_2=wanted[0].machine.name
        )
    )
    say(tr("It covers {folders}.").format(folders=", ".join(job.folders)))
    for note in notes:
        say(note + ".")
    return output.DONE
