"""Where a path lies that somebody names from outside, such as in a file manager: which job has it, and how it
would be covered where none has."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from good_tide.core.coverage import Coverage
from good_tide.core.covered_paths import PathIs
from good_tide.core.kinds import extended
from good_tide.core.rules import Rule
from good_tide.core.settings import Job
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.coverage.survey import why

_ORDER = (PathIs.IN, PathIs.RULED_OUT, PathIs.ABOVE)
_MEANS_SOMETHING = re.compile(r"([\\*?\[\]! ])")


class Placed(NamedTuple):
    """Where a path lies. ``path``: as the job's folders spell it; ``words``: why it is in or out."""

    job: Job | None
    path: str
    how: PathIs
    words: str = ""


def placed(jobs: Sequence[Job], path: str, now: int) -> Placed:
    """Find the job that has a path, the first of those that fit best.

    :param path: absolute. Where no job has it as it is written, it is followed to where links lead.
    :param now: nanoseconds since 1970 UTC; ages in rules count from it.
    """
    if not jobs:
        return Placed(None, path, PathIs.NO_JOB)
    found: dict[PathIs, Placed] = {}
    for spelled in dict.fromkeys(_spellings(path)):
        for job in jobs:
            one = _in_job(job, spelled, now)
            if one is not None:
                found.setdefault(one.how, one)
    return next((found[how] for how in _ORDER if how in found), Placed(None, path, PathIs.OUTSIDE))


def _spellings(path: str) -> Iterator[str]:
    """A path as it is written, with the folder followed to where links lead, and followed itself."""
    absolute = os.path.abspath(path)
    yield absolute
    yield os.path.join(os.path.realpath(os.path.dirname(absolute)), os.path.basename(absolute))
    yield os.path.realpath(absolute)


def _in_job(job: Job, path: str, now: int) -> Placed | None:
    if any(_inside(path, folder) for folder in job.folders):
        coverage = Coverage(job.parsed_rules(), job.home or home_folder(), now, extended(job.kinds))
        known = why([Path(folder) for folder in job.folders], coverage, Path(path))
        return Placed(job, path, PathIs.IN if known.is_in else PathIs.RULED_OUT, known.words)
    if any(_inside(folder, path) for folder in job.folders):
        return Placed(job, path, PathIs.ABOVE)
    return None


def _inside(path: str, folder: str) -> bool:
    return (path + "/").startswith(folder.rstrip("/") + "/")


def with_path(job: Job, path: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The folders and rules of a job that covers a path as well: its folder is one more, or where a rule
    leaves it out, another rule above takes it in. As they are where it is covered."""
    known = next((folder for folder in job.folders if _inside(path, folder)), None)
    if known is None:
        folder = path if os.path.isdir(path) else os.path.dirname(path)
        return (*(one for one in job.folders if not _inside(one, folder)), folder), job.rules
    if path == known or placed([job], path, 0).how is PathIs.IN:
        return job.folders, job.rules
    home = job.home or home_folder()
    from_home = _inside(path, home) and path != home
    inner = os.path.relpath(path, home if from_home else known)
    pattern = ("~/" if from_home else "/") + _MEANS_SOMETHING.sub(r"\\\1", inner)
    rule = Rule(include=True, path=pattern + ("/" if os.path.isdir(path) else ""))
    return job.folders, (rule.text, *job.rules)
