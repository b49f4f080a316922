"""The command about coverage, and the snapshots of jobs."""

from __future__ import annotations

import os
from pathlib import Path

import click

from good_tide.cli import output
from good_tide.cli.options import job_stores, json_option
from good_tide.cli.output import path_fields, print_json, say, show_path, table
from good_tide.cli.parameters import JOB
from good_tide.core.clock import SystemClock
from good_tide.core.coverage import Coverage
from good_tide.core.kinds import extended
from good_tide.core.rules import parse_rule
from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words
from good_tide.lines.mounts import network_devices
from good_tide.operations.alarm.watch import TODO as ALARM_TODO
from good_tide.operations.context import this_context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.coverage.survey import Survey, Weighing, why
from good_tide.operations.schedule.run import run_job
from good_tide.operations.snapshot.taking import Steps
from good_tide.operations.workplace import find_job, load_jobs, this_workplace


@click.command("coverage")
@click.argument("name", type=JOB)
@click.option("--why", "why_path", metavar="PATH", help=tr("Why a file or folder is in or out."))
@click.option(
    "--rule",
    "more",
    multiple=True,
    metavar="RULE",
    help=tr("As if this rule stood on top; may be given again."),
)
@click.option(
    "--largest", type=click.IntRange(1, 1000), metavar="N", help=tr("The N largest files that are in.")
)
@json_option
def coverage_command(
    name: str, why_path: str | None, more: tuple[str, ...], largest: int | None, as_json: bool
) -> int:
    """What a job covers now: files and bytes in and out, and what each rule catches."""
    job = find_job(this_workplace().settings, name)
    now = SystemClock().now()
    rules = (*(parse_rule(line, extended(job.kinds)) for line in more), *job.parsed_rules())
    coverage = Coverage(rules, job.home or home_folder(), now, extended(job.kinds))
    folders = [Path(folder) for folder in job.folders]
    if why_path is not None:
        answer = why(folders, coverage, Path(why_path))
        if as_json:
            rule = None if answer.rule is None else rules[answer.rule].text
            print_json(
                {
                    **path_fields(os.fsencode(os.path.abspath(why_path))),
                    "in": answer.is_in,
                    "rule": rule,
                    "words": answer.words,
                }
            )
        else:
            say(answer.words)
        return output.DONE
    survey = Survey(folders, network_devices())
    survey.look(float("inf"))
    weighing = Weighing(survey, coverage, now)
    weighing.weigh(float("inf"))
    total = weighing.total
    top = weighing.largest_in(largest) if largest is not None else []
    if as_json:
        print_json(
            {
                "files": total.files,
                "bytes": total.bytes,
                "excluded_files": total.out_files,
                "excluded_bytes": total.out_bytes,
                "rules": [
                    {"rule": rule.text, "files": catch.files, "bytes": catch.bytes}
                    for rule, catch in zip(rules, weighing.catches, strict=True)
                ],
                "largest": [{**path_fields(os.fsencode(path)), "size": size} for size, path in top],
                "missing": survey.missing,
            }
        )
    else:
        say(
            tr("In:  {files}, {bytes}").format(
                files=count_words(total.files, "file"), bytes=size_words(total.bytes)
            )
        )
        say(
            tr("Out: {out_files}, {out_bytes}").format(
                out_files=count_words(total.out_files, "file"), out_bytes=size_words(total.out_bytes)
            )
        )
        if rules:
            rows = [
                [rule.text, f"{catch.files:,}", size_words(catch.bytes)]
                for rule, catch in zip(rules, weighing.catches, strict=True)
            ]
            table([tr("Rule"), tr("Files"), tr("Size")], rows, right=(1, 2))
        for size, path in top:
            say(f"{size_words(size):>10}  {show_path(os.fsencode(path))}")
        for path in survey.missing:
            say(tr("Not there: {path}").format(path=path))
    return output.WITH_GAPS if survey.missing else output.DONE


def run_jobs(
    name: str | None, passphrase_file: Path | None, label: str, progress: str | None, as_json: bool
) -> int:
    """Take the snapshots of one job, or of all of them."""
    context = this_context()
    settings = context.here.settings
    jobs = [find_job(settings, name)] if name is not None else load_jobs(settings)
    if not jobs:
        find_job(settings, None)
    rows, gaps, failed = [], False, None
    for job in jobs:
        rang = context.alarms.of(job.id)
        stores = job_stores(context, job, passphrase_file)
        with output.steered(progress, as_json) as steering:
            steps = Steps(control=steering, label=label, warn=output.say_noticed)
            taken = run_job(context, stores, steps)
        for one in taken:
            if one.snapshot is not None:
                gaps = gaps or bool(one.snapshot.gaps)
                rows.append(
                    {
                        "job": job.name,
                        "store": one.ref.path,
                        "held": one.held,
                        "carried": one.carried,
                        **output.snapshot_fields(one.snapshot),
                    }
                )
                if not as_json:
                    where = one.ref.name or one.ref.path
                    if one.held:
                        where = (
                            tr("the holding area, as the server is away")
                            if one.ref.on_server
                            else tr("the holding area, as the disk is away")
                        )
                    say(tr("{name}, into {where}:").format(name=job.name, where=where))
                    if one.carried:
                        say(
                            tr("{carried} carried over from the holding area.").format(
                                carried=count_words(one.carried, "snapshot")
                            )
                        )
                    output.say_snapshot(one.snapshot)
            elif one.error is not None:
                failed = failed or one.error
                output.print_error(one.error, as_json)
        alarm = context.alarms.of(job.id)
        if alarm is not None:
            gaps = True
            if alarm != rang:
                output.say_noticed(alarm.words(context.clock.now()), ALARM_TODO)
    if as_json:
        first = (
            {key: value for key, value in rows[0].items() if key not in ("job", "store", "held", "carried")}
            if rows
            else {}
        )
        print_json({**first, "snapshots": rows})
    if failed is not None and not rows:
        return output.exit_code(failed)
    return output.WITH_GAPS if gaps or failed is not None else output.DONE
