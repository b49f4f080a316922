"""The workstation the program runs on: its own folders, its identity, its job."""

from __future__ import annotations

import contextlib
import hashlib
from functools import partial
from pathlib import Path

import msgspec

from good_tide.core.clock import SystemClock
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import JobId, MachineId
from good_tide.core.records import Machine
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.run_records import RunRecords
from good_tide.source.own_places import OwnPlaces, own_places
from good_tide.system import folders, jobs, service
from good_tide.system.machine import NewIdentity, become_another, news_of_machine, this_machine


class Workplace(msgspec.Struct, frozen=True):
    """Folders that the program uses, and who this machine is."""

    cache: Path
    state: Path
    data: Path
    settings: Path
    runtime: Path
    machine: Machine

    @property
    def foreign(self) -> bool:
        """Whether other settings than the person's own are used, such as the demo's; their records are kept
        beside them."""
        return self.settings != jobs.own_settings_folder()

    @property
    def records(self) -> Path:
        """Where the journal and the records of the settings' jobs are kept."""
        return self.settings / "records" if self.foreign else self.state

    @property
    def own_places(self) -> OwnPlaces:
        """The folders of this program's own records. Settings are a person's own."""
        return own_places((self.cache, self.state, self.records, self.holdings / "holding"))

    @property
    def restores(self) -> Path:
        """Where restores that replace nothing keep the records by which they are undone."""
        return self.records / "restores"

    @property
    def holdings(self) -> Path:
        """Where the holding areas of the settings' jobs are kept."""
        return self.settings / "records" if self.foreign else self.data


def this_workplace(settings: Path | None = None) -> Workplace:
    """The workplace of the person who runs the program; with other settings than their own, if given."""
    state = folders.state_folder()
    here = Workplace(
        folders.cache_folder(),
        state,
        folders.data_folder(),
        settings or jobs.settings_folder(),
        folders.runtime_folder(),
        this_machine(state),
    )
    take_over_names(here)
    become = news_of_machine(state)
    if become is not None:
        _take_own_history(here, become)
    return here


def take_over_names(here: Workplace) -> None:
    """Give jobs whose settings are of a time when they had only names the identities that these stand for,
    and what was kept of them under their names with it. Settings that cannot be written go on without."""
    for job in jobs.without_identity(here.settings):
        RunRecords(here.records).take_over(job.name, job.id)
        journal = Journal(here.records, SystemClock())
        journal.take_over(job.name, job.id)
        journal.close()
        with contextlib.suppress(OSError):
            jobs.keep_identity(here.settings, job.id)


def own_history_from_now_on(here: Workplace) -> Machine:
    """Give this machine histories of its own, as a person says that it is a copy of another."""
    become = become_another(here.state)
    _take_own_history(here, become)
    return become.machine


def _take_own_history(here: Workplace, become: NewIdentity) -> None:
    """This machine is a copy of another: each of its jobs gets a history of its own. It is said in the
    journal."""
    for job in [] if here.foreign else jobs.load_jobs(here.settings):
        if job.machine is not None:
            identity = hashlib.sha256(
                f"good-tide copy {job.machine.id} {become.machine.id}".encode()
            ).hexdigest()[:32]
            fresh = Machine(MachineId(identity), f"{become.machine.name} · {job.name}")
            jobs.update_job(here.settings, job.id, partial(_taken_as, fresh))
    journal = Journal(here.records, SystemClock())
    journal.add(
        "trouble",
        None,
        tr("This machine was made from an image of another one: it is called {name} from now on").format(
            name=become.machine.name
        ),
        (),
        tr("It has a history of its own in every store; the one of before belongs to the other machine."),
        tr(
            "If this is no copy, but has new hardware: its earlier snapshots are still there under the old"
            " name."
        ),
    )
    journal.close()


def _taken_as(machine: Machine, job: Job) -> Job:
    return msgspec.structs.replace(job, machine=machine)


def use_settings(settings: Path) -> None:
    """Let this process, and those that it starts, use other settings (``jobs.use_settings``)."""
    jobs.use_settings(settings)


def stays_installed(here: Workplace) -> bool | None:
    """Whether an agent is started with every session; None for settings that are not the person's own, which
    have none."""
    return None if here.foreign else service.state().by != "nothing"


def settings_stamp(settings: Path) -> tuple[tuple[str, int, int], ...]:
    """Changes when a job in a settings folder was changed (``jobs.settings_stamp``)."""
    return jobs.settings_stamp(settings)


def tell_file_managers(settings: Path) -> None:
    """Let file managers know which folders are covered now."""
    jobs.tell_file_managers(settings)


def load_jobs(settings: Path) -> list[Job]:
    """The jobs in a settings folder (``jobs.load_jobs``)."""
    return jobs.load_jobs(settings)


def save_job(settings: Path, job: Job) -> Job:
    """Write a job into a settings folder (``jobs.save_job``)."""
    return jobs.save_job(settings, job)


def add_job(settings: Path, job: Job) -> Job:
    """Write a new job into a settings folder (``jobs.add_job``)."""
    return jobs.add_job(settings, job)


def remove_job(settings: Path, job: JobId) -> None:
    """Remove a job from a settings folder; its stores stay as they are."""
    jobs.remove_job(settings, job)


def find_job(settings: Path, name: str | None) -> Job:
    """The job of a name, or the only one there is.

    Raises:
        PersonError: there is none, or it is not clear which.
    """
    known = load_jobs(settings)
    names = ", ".join(job.name for job in known)
    if not known:
        raise PersonError(
            tr("There is no job on this machine yet"),
            tr("Make one with “good-tide job add”, or in the window"),
        )
    if name is None:
        if len(known) > 1:
            raise PersonError(tr("There are several jobs"), tr("Name one of {names}").format(names=names))
        return known[0]
    found = next((job for job in known if job.name.casefold() == name.casefold()), None)
    if found is None:
        raise PersonError(
            tr("There is no job {name}").format(name=name), tr("There are {names}").format(names=names)
        )
    return found
