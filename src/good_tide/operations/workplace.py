"""The workstation the program runs on: its own folders, its identity, its job."""

from __future__ import annotations

from pathlib import Path

import msgspec

from good_tide.core.records import Machine
from good_tide.core.settings import Job
from good_tide.system import folders, jobs
from good_tide.system.machine import this_machine


class Workplace(msgspec.Struct, frozen=True):
    """Folders that the program uses, and who this machine is."""

    cache: Path
    state: Path
    data: Path
    settings: Path
    runtime: Path
    machine: Machine


def this_workplace() -> Workplace:
    """The workplace of the person who runs the program."""
    state = folders.state_folder()
    return Workplace(
        folders.cache_folder(), state, folders.data_folder(), jobs.settings_folder(), folders.runtime_folder(), this_machine(state)
    )


def load_job(settings: Path) -> Job | None:
    """The job in a settings folder, None where there is none yet (``jobs.load_job``)."""
    return jobs.load_job(settings)


def save_job(settings: Path, job: Job) -> None:
    """Write the job of a settings folder (``jobs.save_job``)."""
    jobs.save_job(settings, job)
