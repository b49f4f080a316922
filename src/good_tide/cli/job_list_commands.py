"""The list of jobs. Loads little, as it is asked often."""

from __future__ import annotations

from typing import Any

import click

from good_tide.cli import output
from good_tide.cli.output import print_json, say, table
from good_tide.cli.parameters import json_option
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.operations.workplace import load_jobs, this_workplace


@click.command("list")
@json_option
def list_command(as_json: bool) -> int:
    """All jobs of this person on this machine."""
    jobs = load_jobs(this_workplace().settings)
    if as_json:
        print_json({"jobs": [job_fields(job) for job in jobs]})
    elif jobs:
        table(
            [tr("Job"), tr("Folders"), tr("Rules"), tr("Stores")],
            [
                [
                    job.name,
                    str(len(job.folders)),
                    str(len(job.rules)),
                    ", ".join(ref.name or ref.path for ref in job.stores),
                ]
                for job in jobs
            ],
            right=(1, 2),
        )
    else:
        say(tr("There is no job yet. “good-tide job add” makes one."))
    return output.DONE


def job_fields(job: Job) -> dict[str, Any]:
    """What is said of a job in JSON."""
    return {
        "name": job.name,
        "folders": list(job.folders),
        "rules": list(job.rules),
        "stores": [{"name": ref.name, "path": ref.path, "disk": ref.disk or None} for ref in job.stores],
        "store_use": job.store_use,
        "rhythm": job.rhythm.words(),
        "precious": list(job.precious),
    }
