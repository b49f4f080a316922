"""Commands about what happens by itself: status, rhythm, pauses, the end of the day, ejecting."""

from __future__ import annotations

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
from good_tide.cli.coverage_commands import openers
from good_tide.cli.options import json_option, progress_option
from good_tide.cli.output import print_json, say
from good_tide.core.clock import SECOND, SystemClock
from good_tide.core.errors import GoodTideError, PersonError
from good_tide.core.hours import Hours
from good_tide.core.rhythm import Rhythm, every, parse_at, parse_every
from good_tide.core.rules import parse_size
from good_tide.core.settings import Job
from good_tide.core.status import JobStanding, Topic, Trouble
from good_tide.core.words import duration_words, iso, size_words, time_words, tomorrow_morning
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.run_records import Books
from good_tide.operations.schedule.standing import Standings
from good_tide.operations.snapshot.job_run import Hands, run_kept
from good_tide.operations.stores.disks import disks_for, locate
from good_tide.operations.workplace import Workplace, find_job, load_jobs, save_job, this_workplace
from good_tide.protocol.client import agent_client
from good_tide.protocol.messages import Finished
from good_tide.protocol.sockets import agent_socket
from good_tide.system.bus import Bus
from good_tide.system.machine import local_zone
from good_tide.system.power import Power, Then

_GRACE_SECONDS = 60


def standings_of(here: Workplace) -> Standings:
    """How jobs stand, gathered by this command itself."""
    clock = SystemClock()
    return Standings(here, disks_for(here.settings), clock, Books(here.records), Journal(here.records, clock))


def _socket(here: Workplace) -> Path:
    return agent_socket(here.runtime, here.settings)


def _poke(here: Workplace) -> None:
    """Let a running agent notice a change at once; it would by itself within half a minute."""
    with agent_client(_socket(here)) as agent:
        if agent is not None:
            agent.ask("look")


@click.command("status")
@click.argument("name", required=False)
@json_option
def status_command(name: str | None, as_json: bool) -> int:
    """How the jobs stand. Ends with 0 when all is well, with 1 when something needs a look."""
    here = this_workplace()
    jobs = [find_job(here.settings, name)] if name is not None else load_jobs(here.settings)
    if not jobs:
        find_job(here.settings, None)
    with agent_client(_socket(here)) as agent:
        if agent is not None:
            known = {one.job: one for one in agent.ask("status", None, list[JobStanding])}
            found = [known[job.name] for job in jobs if job.name in known]
        else:
            now, standings = SystemClock().now(), standings_of(here)
            found = [_without_agent(standings.standing(job), job, now) for job in jobs]
    if as_json:
        print_json({"jobs": [_standing_fields(one) for one in found]})
    else:
        for one in found:
            _say_standing(one)
    return output.DONE if all(one.status.well for one in found) else output.WITH_GAPS


def _without_agent(standing: JobStanding, job: Job, now: int) -> JobStanding:
    """A job's standing while no agent runs: nothing happens by itself, which is trouble unless that is
    meant."""
    if job.rhythm.by_hand:
        return standing
    trouble = Trouble(
        now,
        "The agent is not running: no snapshot is taken by itself",
        "Run “good-tide agent install”",
        Topic.LATE,
    )
    status = msgspec.structs.replace(standing.status, trouble=(trouble, *standing.status.trouble))
    return msgspec.structs.replace(standing, status=status, next=0)


def _standing_fields(one: JobStanding) -> dict[str, Any]:
    return {
        "name": one.job,
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
            }
            for store in one.stores
        ],
        "trouble": [
            {"since": iso(trouble.since), "what": trouble.what, "todo": trouble.todo}
            for trouble in one.status.trouble
        ],
    }


def _say_standing(one: JobStanding) -> None:
    say(f"{one.job}: {one.status.sentence}")
    if one.status.detail:
        say(f"    {one.status.detail}")
    for store in one.stores:
        room = f", {size_words(store.free)} free" if store.free is not None else ""
        say(f"    {store.name}: {'here' if store.present else 'away'}{room}")
    now = SystemClock().now()
    for trouble in one.status.trouble:
        say(f"    Trouble since {time_words(trouble.since, now)}: {trouble.what}. {trouble.todo}.")


@click.command("rhythm")
@click.argument("name")
@click.option(
    "--every", "interval", metavar="TIME", help="Such as 30min, 1h, 2h; ten minutes at the shortest."
)
@click.option(
    "--at",
    "times",
    multiple=True,
    metavar="WHEN",
    help="Such as “weekdays 12:30” or “mon,thu 09:00,17:00”; may be given again.",
)
@click.option("--on-change/--not-on-change", default=None, help="Also when files came to rest after changes.")
@click.option("--large", metavar="SIZE", help="Changes of files above it are left to the timed runs.")
@click.option(
    "--timed-only",
    multiple=True,
    metavar="FOLDER",
    help="Changes in it are left to the timed runs; “none”; may be given again.",
)
@click.option("--on-disk/--not-on-disk", default=None, help="Also when the job's disk comes.")
@click.option("--by-hand", is_flag=True, help="Only by hand from now on.")
@click.option(
    "--allowed",
    multiple=True,
    metavar="HOURS",
    help="Such as “mon-fri 08:00-20:00”, or “always”; may be given again.",
)
@click.option(
    "--next",
    "count",
    type=click.IntRange(0, 1000),
    default=3,
    show_default=True,
    metavar="N",
    help="How many of the next due times to show.",
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
    here = this_workplace()
    job = find_job(here.settings, name)
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
        job = msgspec.structs.replace(job, rhythm=rhythm)
        save_job(here.settings, job)
        Journal(here.records, SystemClock()).add("good", job.name, f"Snapshots are taken {rhythm.words()}")
        _poke(here)
    due = standings_of(here).next(job, count)
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
    say(f"{job.name}: snapshots are taken {rhythm.words()}.")
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
                "Only by hand, and by itself, are two things", "Leave --by-hand away, or the others"
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


@click.command("pause")
@click.option(
    "--for", "length", default="1h", show_default=True, metavar="TIME", help="Such as 30min, 2h, 3 days."
)
@click.option("--until-tomorrow", is_flag=True, help="Until six in the morning.")
@json_option
def pause_command(length: str, until_tomorrow: bool, as_json: bool) -> int:
    """Let nothing run by itself for a while. Snapshots by hand still work."""
    here, now = this_workplace(), SystemClock().now()
    until = tomorrow_morning(now) if until_tomorrow else now + _length(length) * SECOND
    Books(here.records).pause(until)
    Journal(here.records, SystemClock()).add("note", "", "Everything was paused by hand")
    _poke(here)
    if as_json:
        print_json({"paused_until": iso(until)})
    else:
        say(f"Paused until {time_words(until, now)}. “good-tide resume” ends it.")
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
        raise PersonError(f"“{text}” is no length of time", "Write such as 30min, 2h or 3 days")
    return int(found[1]) * units[found[2]]


@click.command("resume")
@json_option
def resume_command(as_json: bool) -> int:
    """End a pause."""
    here = this_workplace()
    Books(here.records).pause(0)
    _poke(here)
    if as_json:
        print_json({"paused_until": None})
    else:
        say("Everything runs by itself again.")
    return output.DONE


@click.command("run-due")
@click.option(
    "--then",
    type=click.Choice(["suspend", "power-off"]),
    help="What the machine does afterwards; there is a minute to stop it.",
)
@progress_option
@json_option
def run_due_command(then: Then | None, progress: str | None, as_json: bool) -> int:
    """Run everything that is due, one after the other: the last run of the day."""
    here = this_workplace()
    with agent_client(_socket(here)) as agent:
        if agent is None:
            return _run_due_here(here, then, progress, as_json)
        agent.ask("run-due", {"then": then})

        def stop(number: int, frame: FrameType | None) -> None:
            threading.Thread(target=_stop_work, args=(here,)).start()

        signal.signal(signal.SIGINT, stop)
        for method, content in agent.notes():
            if method == "progress" and progress == "json":
                sys.stderr.write(content.decode() + "\n")
            elif method == "finished":
                finished = msgspec.json.decode(content, type=Finished)
                if finished.what == "run-due":
                    return _say_finished(finished, as_json)
    return output.STOPPED


def _stop_work(here: Workplace) -> None:
    with agent_client(_socket(here)) as agent:
        if agent is not None:
            agent.ask("stop")


def _say_finished(finished: Finished, as_json: bool) -> int:
    if as_json:
        print_json({"words": finished.words, "error": finished.error or None})
    else:
        say(finished.error or finished.words)
    return output.NOT_USABLE if finished.error else output.DONE


def _run_due_here(here: Workplace, then: Then | None, progress: str | None, as_json: bool) -> int:
    """Without an agent: this command does it."""
    clock, disks, standings = SystemClock(), disks_for(here.settings), standings_of(here)
    journal, books = Journal(here.records, clock), Books(here.records)
    run, failed = 0, []
    for job in load_jobs(here.settings):
        facts = msgspec.structs.replace(standings.plain_facts(job), paused_until=0)
        if standings.decision(job, facts).due is None:
            continue
        hands = Hands(here=here, disks=disks, clock=clock, journal=journal, **openers(job, here, None))
        try:
            with output.steered(progress, as_json) as steering:
                run_kept(job, hands, books, standings.book(job), steering)
            run += 1
        except GoodTideError as error:
            failed.append(f"{job.name}: {error}")
    words = f"{run} of the jobs run" if run else "Nothing was due"
    if failed or then is None:
        return _say_finished(Finished("run-due", error="; ".join(failed), words=words), as_json)
    if not as_json:
        say(
            f"{words}. The machine will {then.replace('-', ' ')} in {duration_words(_GRACE_SECONDS)}; Ctrl+C"
            " keeps it on."
        )
    with output.steered(None, True) as steering:
        for _ in range(_GRACE_SECONDS):
            steering.rest(1.0)
            steering.checkpoint()
    Power(Bus("system")).end_of_day(then)
    return _say_finished(Finished("run-due", words=words), as_json)


@click.command("eject")
@click.argument("store")
@json_option
def eject_command(store: str, as_json: bool) -> int:
    """Take the disk of a store away safely. STORE is its folder, or the disk's name in a job."""
    here = this_workplace()
    disks = disks_for(here.settings)
    folder = Path(store)
    if not os.path.isdir(folder):
        refs = [
            ref for job in load_jobs(here.settings) for ref in job.stores if store in (ref.name, ref.path)
        ]
        if not refs:
            raise PersonError(f"There is no store {store}", "Give its folder, or the name of its disk")
        found = locate(refs[0], disks)
        if found is None:
            raise PersonError(f"The disk {refs[0].name or store} is not here", "There is nothing to eject")
        folder = found
    with agent_client(_socket(here)) as agent:
        words = (
            agent.ask("eject", {"words": str(folder.absolute())}, str)
            if agent is not None
            else f"{folder} is {disks.eject(folder)}"
        )
    if as_json:
        print_json({"ejected": str(folder), "words": words})
    else:
        say(f"{words}.")
    return output.DONE
