"""Commands that tell: the journal, reports, the mail server they go through, and all machines of a store."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import get_args

import click
import msgspec

from good_tide.cli import output
from good_tide.cli.options import json_option
from good_tide.cli.output import print_json, say, table
from good_tide.cli.parameters import JOB, PATH
from good_tide.cli.standings import standings_now
from good_tide.core.errors import PersonError
from good_tide.core.happenings import Event, Filter, Level
from good_tide.core.identifiers import JobId
from good_tide.core.selection import parse_time
from good_tide.core.settings import MAIL_PORTS, MailServer, Security
from good_tide.core.translation import tr
from good_tide.core.words import duration_words, size_words, time_words
from good_tide.operations.context import this_context
from good_tide.operations.reporting.post import Post
from good_tide.operations.reporting.report import ReportPart, event_fields, export_journal, run_fields
from good_tide.operations.workplace import find_job, load_jobs

_LEVELS: tuple[Level, ...] = get_args(Level)
_SIGNS = {"good": "done", "note": "note", "trouble": tr("TROUBLE")}


@click.command("journal")
@click.option("--since", metavar="TIME", help=tr("From this time on."))
@click.option("--until", metavar="TIME", help=tr("Before this time."))
@click.option(
    "--level", "levels", type=click.Choice(_LEVELS), multiple=True, help=tr("Only these; may be given again.")
)
@click.option("--job", "name", metavar="NAME", help=tr("Only of this job."))
@click.option("--text", default="", metavar="WORDS", help=tr("Only with these words."))
@click.option("--runs", is_flag=True, help=tr("The runs instead of the events."))
@click.option(
    "--export",
    "file",
    type=PATH,
    metavar="FILE",
    help=tr("Write both to FILE: .csv, .json or .html."),
)
@json_option
def journal_command(
    since: str | None,
    until: str | None,
    levels: tuple[Level, ...],
    name: str | None,
    text: str,
    runs: bool,
    file: Path | None,
    as_json: bool,
) -> int:
    """What happened, what it means, and what to do; newest last."""
    context = this_context()
    here, clock, journal = context.here, context.clock, context.journal
    job = find_job(here.settings, name).id if name is not None else JobId("")
    start, end = (parse_time(moment) if moment is not None else 0 for moment in (since, until))
    events = journal.events(Filter(job=job, levels=levels, text=text, since=start, until=end))
    found = [run for run in journal.runs(job, start) if not end or run.began < end]
    if file is not None:
        export_journal(events, found, file, here.machine.name, clock.now(), here.settings)
        say(tr("Written to {file}.").format(file=file))
    elif as_json:
        print_json(
            {
                "events": [event_fields(one) for one in events],
                "runs": [run_fields(one) for one in found],
            }
        )
    elif runs:
        rows = [
            [
                time_words(run.began, clock.now()),
                run.name,
                run.store,
                run.result,
                duration_words(run.seconds),
                f"{run.changed:,}",
                size_words(run.new_bytes),
            ]
            for run in reversed(found)
        ]
        table(
            [tr("Began"), tr("Job"), tr("Store"), tr("Result"), tr("Took"), tr("Changed"), tr("New")],
            rows,
            right=(5, 6),
        )
    else:
        for event in reversed(events):
            _say_event(event, clock.now())
        if not events:
            say(tr("Nothing is noted."))
    return output.DONE


def _say_event(event: Event, now: int) -> None:
    job = f"{event.name}: " if event.name else ""
    say(f"{time_words(event.time, now)}   {_SIGNS[event.level]}   {job}{event.what}")
    for words in (event.means, event.todo, *event.detail):
        if words:
            say(f"        {words}")


@click.command("report")
@click.argument("name", required=False, type=JOB)
@click.option("--mail", is_flag=True, help=tr("Send it to those who are to have the job's reports."))
@click.option(
    "--file",
    type=PATH,
    metavar="F",
    help=tr("Write it to F: HTML, or text for a name that ends with .txt."),
)
@json_option
def report_command(name: str | None, mail: bool, file: Path | None, as_json: bool) -> int:
    """A report on one job, or on all; printed as text when it goes nowhere else."""
    context = this_context()
    settings = context.here.settings
    jobs = [find_job(settings, name)] if name is not None else load_jobs(settings)
    if not jobs:
        find_job(settings, None)
    post, known = Post(context), {one.job: one for one in standings_now(context.here, jobs)}
    parts = [ReportPart(job, known[job.id]) for job in jobs if job.id in known]
    if mail or file is not None:
        words = post.now(parts, mail, str(file or ""))
        if as_json:
            print_json({"words": words})
        else:
            say(f"{words}.")
        return output.DONE
    made = post.made(parts)
    if as_json:
        print_json({"subject": made.subject, "text": made.text, "html": made.html})
    else:
        say(made.text.strip())
    return output.DONE


@click.command("mail")
@click.option("--server", "host", metavar="HOST", help=tr("Where mail is handed in."))
@click.option(
    "--port",
    type=click.IntRange(1, 65535),
    help=tr("465 with TLS, 587 with STARTTLS, 25 without, unless said otherwise."),
)
@click.option("--security", type=click.Choice(get_args(Security)), default="tls", show_default=True)
@click.option("--from", "sender", metavar="ADDRESS", help=tr("Who the reports come from."))
@click.option(
    "--login", default="", metavar="NAME", help=tr("The password is asked for and kept in the key ring.")
)
@click.option(
    "--password-file",
    type=PATH,
    metavar="F",
    help=tr("A file with the password, for machines without a key ring."),
)
@click.option(
    "--ca-file",
    type=PATH,
    metavar="F",
    help=tr("Certificates to trust besides the system's."),
)
@json_option
def mail_command(
    host: str | None,
    port: int | None,
    security: Security,
    sender: str | None,
    login: str,
    password_file: Path | None,
    ca_file: Path | None,
    as_json: bool,
) -> int:
    """The mail server that reports go through; sets it when --server is given."""
    context = this_context()
    post = Post(context)
    if host is not None:
        if not sender:
            raise PersonError(tr("A sender is needed"), tr("Give --from ADDRESS"))
        port = port or MAIL_PORTS[security]
        paths = [os.path.abspath(path) if path is not None else "" for path in (password_file, ca_file)]
        server = MailServer(
            host=host,
            port=port,
            security=security,
            sender=sender,
            login=login,
            password_file=paths[0],
            ca_file=paths[1],
        )
        password = ""
        if login and password_file is None:
            if not sys.stdin.isatty():
                raise PersonError(
                    tr("The password is needed and there is no terminal to ask on"),
                    tr("Give --password-file"),
                )
            password = str(
                click.prompt(tr("Password of {login}").format(login=login), hide_input=True, err=True)
            )
        post.keep_server(server, password)
    known = post.server()
    if as_json:
        print_json({"mail": None if known is None else msgspec.to_builtins(known)})
    elif known is None:
        say(tr("There is no mail server yet. “good-tide mail --server HOST --from ADDRESS” names one."))
    else:
        say(
            tr("{host}, port {port}, {security}; from {sender}{value}").format(
                host=known.host,
                port=known.port,
                security=known.security,
                sender=known.sender,
                value=", " + tr("login {login}").format(login=known.login) if known.login else "",
            )
        )
    return output.DONE
