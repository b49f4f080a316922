"""Going on with a job on another machine: whose histories a store has, and the job that one of them was
written by, with its folders, rules, rhythm and ladder."""

from __future__ import annotations

import os

import msgspec

from good_tide.core.errors import GoodTideError, PersonError
from good_tide.core.homes import home_of
from good_tide.core.jobfile import JobFile, expand_folder, parse_job_file, portable_folder
from good_tide.core.records import Machine, Snapshot, StoreHistory
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.jobs.making import job_of_file
from good_tide.operations.stores.disks import store_ref
from good_tide.operations.stores.furnishing import MadeStore
from good_tide.operations.stores.pinning import pinned
from good_tide.operations.workplace import add_job, load_jobs
from good_tide.storage.store import Store


def histories(store: Store) -> list[StoreHistory]:
    """Whose snapshots are in a store, those with the newest last."""
    found: dict[str, list[Snapshot]] = {}
    for snapshot in store.snapshots()[0]:
        found.setdefault(snapshot.machine.id, []).append(snapshot)
    return sorted((_history(store, those) for those in found.values()), key=lambda one: one.newest)


def _history(store: Store, snapshots: list[Snapshot]) -> StoreHistory:
    newest = snapshots[-1]
    complete = next((one for one in reversed(snapshots) if not one.record.missing), newest)
    roots = store.roots(newest.record)
    owners = (newest.record.owners.get(f"u{root.stat.uid}", "") for root in roots)
    file = _job_file(newest)
    return StoreHistory(
        newest.machine,
        file.name if file is not None else "",
        tuple(dict.fromkeys(one for one in owners if one)),
        tuple(root.name for root in roots),
        len(snapshots),
        newest.time,
        complete.id,
        complete.time,
        len(complete.record.missing),
    )


def _job_file(snapshot: Snapshot) -> JobFile | None:
    """The job that took a snapshot; None where it does not tell, or in a form that this version does not
    know."""
    if not snapshot.record.job:
        return None
    try:
        return parse_job_file(snapshot.record.job)
    except GoodTideError:
        return None


def taken_over(context: Context, store: Store, machine: Machine, name: str = "") -> tuple[Job, list[str]]:
    """The job that goes on with a machine's history here, without its store yet; and what was noticed, in
    sentences. Folders that are not here are left out and named.

    :param name: what it is called; empty: as it was.

    Raises:
        PersonError: there is no such history, it is written by a job here already, or none of its folders is
            here.
    """
    those = [one for one in store.snapshots()[0] if one.machine.id == machine.id]
    if not those:
        raise PersonError(
            tr("The store has no snapshot of {name}").format(name=machine.name), tr("Choose another history")
        )
    jobs = load_jobs(context.here.settings)
    for other in jobs:
        if (other.machine or context.here.machine).id == machine.id:
            raise PersonError(
                tr("The job {name} writes this history already").format(name=other.name),
                tr("Nothing needs to be taken over"),
            )
    newest = those[-1]
    file = _job_file(newest) or _plain_file(store, newest)
    there, notes = _folders_here(file)
    loaded = job_of_file(
        msgspec.structs.replace(file, folders=tuple(there), store=()),
        context.here.machine,
        context.whereabouts,
    )
    job = msgspec.structs.replace(loaded.job, name=_free_name(name or file.name, jobs), machine=machine)
    return job, notes + loaded.notes


def take_over(
    context: Context, store: Store, machine: Machine, name: str = ""
) -> tuple[Job, MadeStore, list[str]]:
    """Go on here with the job that wrote a machine's history into an open store: the job is made, with that
    store, and its next snapshot goes on with that history. What was noticed, in sentences.

    Raises:
        PersonError: as ``taken_over``.
    """
    job, notes = taken_over(context, store, machine, name)
    where = store.place.where
    ref = pinned(store_ref(context.disks, where), store)
    job = add_job(context.here.settings, msgspec.structs.replace(job, stores=(ref,)))
    words = tr("The job {name} goes on here with the history of {name_2}").format(
        name=job.name, name_2=machine.name
    )
    context.journal.add("note", job, words, tuple(notes))
    return job, MadeStore(ref, where, False), notes


def _plain_file(store: Store, newest: Snapshot) -> JobFile:
    """What can be told of a job by its snapshots alone."""
    name = newest.machine.name.rpartition(" · ")[2]
    roots = [root.name for root in store.roots(newest.record)]
    home = home_of(roots)
    folders = tuple(
        portable_folder(os.fsdecode(root), home, {}) if home else os.fsdecode(root) for root in roots
    )
    return JobFile(name=name, folders=folders, rules=newest.record.rules)


def _folders_here(file: JobFile) -> tuple[list[str], list[str]]:
    home = home_folder()
    folders = [expand_folder(folder, home, {}) for folder in file.folders]
    there = [folder for folder in folders if os.path.isdir(folder)]
    if not there:
        raise PersonError(
            tr("None of the folders of the job is here: {folders}").format(folders=", ".join(folders)),
            tr("Bring them back first, or make a job for the folders that are"),
        )
    notes = [
        tr("{folder} is not here, and not covered: add it in Coverage when it is").format(folder=folder)
        for folder in folders
        if folder not in there
    ]
    return there, notes


def _free_name(name: str, jobs: list[Job]) -> str:
    taken = {job.name.casefold() for job in jobs}
    number, free = 1, name
    while free.casefold() in taken:
        number += 1
        free = f"{name} {number}"
    return free
