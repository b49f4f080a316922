"""Commands about what happens by itself: status, rhythm, pauses, the end of the day, ejecting."""

from __future__ import annotations

import contextlib
import os
import re
import signal
import sys
import threading
from pathlib import Path
from types import FrameType
from typing import Any

import click
import msgspec

from good_tide.cli import output
from good_tide.cli.options import StoreCommand, job_stores, json_option, progress_option
from good_tide.cli.output import print_json, say
from good_tide.cli.parameters import JOB, STORE
from good_tide.core.clock import SECOND, SystemClock
from good_tide.core.errors import GoodTideError, PersonError, PlaceError
from good_tide.core.hours import Hours
from good_tide.core.planning import Then
from good_tide.core.progress import WorkKind
from good_tide.core.rhythm import Rhythm, every, parse_at, parse_every
from good_tide.core.rules import parse_size
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.core.words import iso, time_words, tomorrow_morning
from good_tide.operations.context import Context, this_context
from good_tide.operations.jobs.changing import change_rhythm
from good_tide.operations.schedule.end_of_day import EndOfDay, is_due, run_all
from good_tide.operations.schedule.pausing import pause
from good_tide.operations.schedule.run import run_job, run_words
from good_tide.operations.schedule.standing import Standings
from good_tide.operations.snapshot.taking import Steps
from good_tide.operations.stores.by_folder import place_named
from good_tide.operations.stores.ejecting import eject
from good_tide.operations.stores.users import users_at
from good_tide.operations.workplace import Workplace, find_job, load_jobs
from good_tide.protocol.agent_calls import StopWork, WorkEnded, WorkGoesOn
from good_tide.protocol.client import agent_client
from good_tide.protocol.contract import Topic
from good_tide.protocol.schedule_calls import LookNow, RunDue
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.store_calls import EjectDisk
from good_tide.system.bus import Bus
from good_tide.system.machine import local_zone
from good_tide.system.power import Power


def _socket(here: Workplace) -> Path:
    return agent_socket(here.runtime, here.settings)


def _poke(here: Workplace) -> None:
    """Let a running agent notice a change at once; it does so by itself within half a minute."""
    with contextlib.suppress(GoodTideError), agent_client(_socket(here)) as agent:
        if agent is not None:
            agent.ask(LookNow())


@click.command("rhythm")
@click.argument("name", type=JOB)
@click.option(
    "--every", "interval", metavar="TIME", help=tr("Such as 30min, 1h, 2h; ten minutes at the shortest.")
)
@click.option(
    "--at",
    "times",
    multiple=True,
    metavar="WHEN",
    help=tr("Such as “weekdays 12:30” or “mon,thu 09:00,17:00”; may be given again."),
)
@click.option(
    "--on-change/--not-on-change", default=None, help=tr("Also when files came to rest after changes.")
)
@click.option("--large", metavar="SIZE", help=tr("Changes of files above it are left to the timed runs."))
@click.option(
    "--timed-only",
    multiple=True,
    metavar="FOLDER",
    help=tr("Changes in it are left to the timed runs; “none”; may be given again."),
)
@click.option("--on-disk/--not-on-disk", default=None, help=tr("Also when the job's disk comes."))
@click.option("--by-hand", is_flag=True, help=tr("Only by hand from now on."))
@click.option(
    "--allowed",
    multiple=True,
    metavar="HOURS",
    help=tr("Such as “mon-fri 08:00-20:00”, or “always”; may be given again."),
)
@click.option(
    "--next",
    "count",
    type=click.IntRange(0, 1000),
    default=3,
    show_default=True,
    metavar="N",
    help=tr("How many of the next due times to show."),
)
@json_option
def rhythm_command(
    name: str,
    interval: str | None,
    times: tuple[str, ...],
    on_change: bool | None,
    large: str | None,
    timed_only: tuple[str, ...],
    on_disk: bool | None,
    by_hand: bool,
    allowed: tuple[str, ...],
    count: int,
    as_json: bool,
) -> int:
    """When a job takes its snapshots; changes what is named. --every and --at replace the times before."""
    context = this_context()
    job = find_job(context.here.settings, name)
    rhythm = _changed(job.rhythm, interval, times, on_change, on_disk, by_hand, allowed)
    if large is not None:
        rhythm = msgspec.structs.replace(rhythm, large_bytes=parse_size(large))
    if timed_only:
        folders = (
            ()
            if timed_only == ("none",)
            else tuple(os.path.abspath(os.path.expanduser(one)) for one in timed_only)
        )
        rhythm = msgspec.structs.replace(rhythm, timed_only=folders)
    rhythm.check()
    if rhythm != job.rhythm:
        job = change_rhythm(context, job, rhythm)
        _poke(context.here)
    due = Standings(context).next(job, count)
    if as_json:
        print_json(
            {
                "job": job.name,
                "words": rhythm.words(),
                "rules": list(rhythm.rules),
                "on_change": rhythm.on_change,
                "on_disk": rhythm.on_disk,
                "large_bytes": rhythm.large_bytes,
                "timed_only": list(rhythm.timed_only),
                "allowed": list(rhythm.allowed),
                "next": [iso(time) for time in due],
            }
        )
        return output.DONE
    say(tr("{name}: snapshots are taken {words}.").format(name=job.name, words=rhythm.words()))
    now = SystemClock().now()
    for time in due:
        say(f"    {time_words(time, now)}")
    return output.DONE


def _changed(
    rhythm: Rhythm,
    interval: str | None,
    times: tuple[str, ...],
    on_change: bool | None,
    on_disk: bool | None,
    by_hand: bool,
    allowed: tuple[str, ...],
) -> Rhythm:
    if by_hand:
        if interval or times or on_change or on_disk:
            raise PersonError(
                tr("Only by hand, and by itself, are two things"), tr("Leave --by-hand away, or the others")
            )
        return msgspec.structs.replace(rhythm, rules=(), on_change=False, on_disk=False)
    rules = (
        *((every(parse_every(interval)),) if interval else ()),
        *(rule for text in times for rule in parse_at(text, local_zone())),
    )
    fields: dict[str, Any] = {"rules": rules} if rules else {}
    if on_change is not None:
        fields["on_change"] = on_change
    if on_disk is not None:
        fields["on_disk"] = on_disk
    if allowed:
        fields["allowed"] = () if allowed == ("always",) else Hours.of(allowed).texts()
    return msgspec.structs.replace(rhythm, **fields)


_LONGEST_PAUSE = 365 * 86400


@click.command("pause")
@click.option(
    "--for", "length", default="1h", show_default=True, metavar="TIME", help=tr("Such as 30min, 2h, 3 days.")
)
@click.option("--until-tomorrow", is_flag=True, help=tr("Until six in the morning."))
@json_option
def pause_command(length: str, until_tomorrow: bool, as_json: bool) -> int:
    """Let nothing run by itself for a while. Snapshots by hand still work."""
    context = this_context()
    now = context.clock.now()
    until = tomorrow_morning(now) if until_tomorrow else now + _length(length) * SECOND
    pause(context, until)
    _poke(context.here)
    if as_json:
        print_json({"paused_until": iso(until)})
    else:
        say(tr("Paused until {until}. “good-tide resume” ends it.").format(until=time_words(until, now)))
    return output.DONE


def _length(text: str) -> int:
    found = re.fullmatch(r"(\d+)\s*([a-z]+)", text.strip().lower())
    units = {
        "m": 60,
        "min": 60,
        "minutes": 60,
        "h": 3600,
        "hour": 3600,
        "hours": 3600,
        "d": 86400,
        "day": 86400,
        "days": 86400,
    }
    if found is None or found[2] not in units or not int(found[1]):
        raise PersonError(
            tr("“{text}” is no length of time").format(text=text), tr("Write such as 30min, 2h or 3 days")
        )
    length = int(found[1][:12]) * units[found[2]]
    if length > _LONGEST_PAUSE:
        raise PersonError(
            tr("“{text}” is longer than a pause can be").format(text=text), tr("Write at most 365 days")
        )
    return length


@click.command("resume")
@json_option
def resume_command(as_json: bool) -> int:
    """End a pause."""
    context = this_context()
    pause(context, 0)
    _poke(context.here)
    if as_json:
        print_json({"paused_until": None})
    else:
        say(tr("Everything runs by itself again."))
    return output.DONE


@click.command("run-due")
@click.option(
    "--then",
    type=click.Choice(["suspend", "power-off"]),
    help=tr("What the machine does afterwards; there is a minute to stop it."),
)
@progress_option
@json_option
def run_due_command(then: Then | None, progress: str | None, as_json: bool) -> int:
    """Run everything that is due, one after the other: the last run of the day."""
    context = this_context()
    here = context.here
    with agent_client(_socket(here)) as agent:
        if agent is None:
            return _run_due_here(context, then, progress, as_json)
        agent.listen(Topic.WORK)
        agent.ask(RunDue(then))

        def stop(number: int, frame: FrameType | None) -> None:
            threading.Thread(target=_stop_work, args=(here,)).start()

        signal.signal(signal.SIGINT, stop)
        for note in agent.notes():
            if isinstance(note, WorkGoesOn) and progress == "json":
                sys.stderr.write(msgspec.json.encode(note.work).decode() + "\n")
            elif isinstance(note, WorkEnded) and note.what is WorkKind.RUN_DUE:
                return _say_became(EndOfDay(note.words, note.error), as_json)
    return output.STOPPED


def _stop_work(here: Workplace) -> None:
    with agent_client(_socket(here)) as agent:
        if agent is not None:
            agent.ask(StopWork())


def _say_became(became: EndOfDay, as_json: bool) -> int:
    if as_json:
        print_json({"words": became.words, "error": became.error or None})
    else:
        say(became.error or became.words)
    return output.NOT_USABLE if became.error else output.DONE


def _run_due_here(context: Context, then: Then | None, progress: str | None, as_json: bool) -> int:
    """Without an agent: this command does it."""
    jobs = [job for job in load_jobs(context.here.settings) if is_due(context, job)]

    def announce(words: str) -> None:
        if not as_json:
            say(tr("{words} Ctrl+C keeps it on.").format(words=words))

    with output.steered(progress, as_json) as steering:

        def run(job: Job) -> str:
            stores = job_stores(context, job, None)
            return run_words(run_job(context, stores, Steps(control=steering)))[1]

        became = run_all(context, jobs, run, then, Power(Bus("system")), announce, steering)
    return _say_became(became, as_json)


@click.command("eject", cls=StoreCommand)
@click.argument("store", type=STORE)
@json_option
def eject_command(store: str, as_json: bool) -> int:
    """Take the disk of a store away safely. STORE is its folder, or the disk's name in a job."""
    context = this_context()
    try:
        where = place_named(context, store)
    except PlaceError as error:
        raise PersonError(error.what, tr("There is nothing to eject")) from error
    users = users_at(context, where)
    with agent_client(_socket(context.here)) as agent:
        if agent is not None and users:
            job, ref = users[0]
            words = agent.ask(EjectDisk(job.id, ref.id))
        else:
            words = eject(context, where)
    if as_json:
        print_json({"ejected": where.called, "words": words})
    else:
        say(f"{words}.")
    return output.DONE
