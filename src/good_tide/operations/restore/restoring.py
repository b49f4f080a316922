"""Bringing back with its bookkeeping: planned, carried out, gone on with, undone, let go."""

from __future__ import annotations

import contextlib
import os
import shutil
import stat
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from good_tide.core.errors import GoodTideError, PersonError, StoppedError
from good_tide.core.identifiers import JobId
from good_tide.core.progress import Control
from good_tide.core.restoring import RestoreNote, RestoreRequest, RestoreState
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.core.words import printable
from good_tide.operations.context import Context
from good_tide.operations.coverage.selecting import job_selector
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Elsewhere, Plan, Wish, plan_restore
from good_tide.operations.restore.report import RestoreReport
from good_tide.operations.restore.set_aside import RECORD_FILE, UndoReport, folders_created, undo
from good_tide.operations.stores.opened import id_of, snapshot_of
from good_tide.operations.workplace import load_jobs
from good_tide.storage.place import disk_errors
from good_tide.storage.store import Store

_MOST_COUNTED = 200_000


class Aside(msgspec.Struct, frozen=True):
    """What a restore has set aside and is still there: so many files and bytes; ``more``: not all were
    counted."""

    files: int = 0
    bytes: int = 0
    more: bool = False


def plan_request(
    context: Context, store: Store, request: RestoreRequest, job: Job | None, control: Control
) -> Plan:
    """Work out what a restore would do.

    :param job: whose rules say what is strange to no moment; None: there is none.

    Raises:
        GoodTideError: a snapshot is not there any more, or a path is not in it.
    """
    wishes = [Wish(snapshot_of(store, one.snapshot), one.path) for one in request.wished]
    selector = job_selector(job, context.clock.now()) if job is not None else None
    plan = plan_restore(
        store,
        wishes,
        Path(request.into) if request.into else None,
        request.existing,
        control,
        request.extent,
        selector,
        Elsewhere(request.homes, request.owners),
        context.here.own_places,
    )
    return plan.without(request.without)


def restore(
    context: Context,
    store: Store,
    plan: Plan,
    request: RestoreRequest,
    control: Control,
    *,
    job: JobId,
    place: str,
    check: bool = False,
    note: str | None = None,
) -> RestoreReport:
    """Carry a plan out, and remember it, so that it can be gone on with, and undone.

    :param place: where the store is, as the person named it.
    :param note: the identity of a restore that was cut off and goes on; None: it is a new one.

    Raises:
        GoodTideError: as ``carry_out`` does; what it had brought stays, and it is remembered as cut off.
    """
    notes, clock = context.restores, context.clock
    earlier = notes.find(note) if note is not None else None
    unfinished: set[bytes] = set()
    for folder in earlier.folders if earlier is not None else ():
        unfinished |= folders_created(Path(folder))
    if note is None:
        note = notes.begin(job, id_of(store), place, request, clock.now())
    else:
        notes.go_on(note)
    identity = note

    def began(folder: Path, target: Path) -> None:
        notes.folder(identity, str(folder), str(target))

    try:
        report = carry_out(store, plan, clock, control, context.here.restores, check, began, unfinished)
    except GoodTideError as error:
        why = tr("It was stopped") if isinstance(error, StoppedError) else error.what
        notes.change(identity, state=RestoreState.CUT_OFF, why=why, ended=clock.now())
        raise
    before = notes.find(identity)
    done = before or RestoreNote(identity, job, id_of(store), place, clock.now(), request)
    notes.change(
        identity,
        state=RestoreState.DONE,
        ended=clock.now(),
        created=done.created + report.created,
        replaced=done.replaced + report.replaced,
        strange=done.strange + report.strange,
        folders=tuple(folder for folder in done.folders if os.path.isdir(folder)),
        targets=done.targets or tuple(str(target) for target in plan.steps.targets()),
    )
    return report


def note_cut_off(context: Context) -> None:
    """After a crash: note in the journal which restores were cut off, and how they go on."""
    for note in context.restores.cut_off():
        job = next((one for one in load_jobs(context.here.settings) if one.id == note.job), None)
        context.journal.add(
            "trouble",
            job,
            tr("A restore was cut off"),
            tuple(printable(one.path) for one in note.request.wished[:20]),
            tr("What it had brought is there. Nothing is half written."),
            tr("Go on with it: Journal, Restores; or “good-tide restores go-on {id}”").format(id=note.id),
        )


def undo_restore(context: Context, folders: Sequence[Path]) -> UndoReport:
    """Undo a restore by the folders in which it set things aside or has its records, the newest first.

    Raises:
        PersonError: one of them is none. PlaceError: the disk does not allow it.
    """
    report = UndoReport(kept=[])
    for folder in reversed(folders):
        done = undo(folder)
        report.put_back += done.put_back
        report.removed += done.removed
        report.kept += done.kept
    undone = {str(folder) for folder in folders}
    for note in context.restores.all():
        if note.folders and undone.issuperset(note.folders):
            context.restores.change(note.id, state=RestoreState.UNDONE)
    return report


def undo_note(context: Context, note: RestoreNote) -> UndoReport:
    """Undo a restore that is remembered.

    Raises:
        PersonError: there is nothing of it to undo.
    """
    there = [Path(folder) for folder in note.folders if os.path.isdir(folder)]
    if not there:
        raise PersonError(
            tr("There is nothing left by which this restore could be undone"), tr("See what is there now")
        )
    report = undo_restore(context, there)
    context.restores.change(note.id, state=RestoreState.UNDONE)
    return report


def let_go(context: Context, note: RestoreNote) -> Aside:
    """Delete what a restore set aside, and its records. It cannot be undone after. What was deleted.

    Raises:
        PersonError: it runs, or a folder is none in which a restore set things aside. PlaceError: the disk
            does not allow it.
    """
    if note.state is RestoreState.RUNNING:
        raise PersonError(tr("This restore is not done yet"), tr("Wait until it is"))
    there = [Path(folder) for folder in note.folders if os.path.isdir(folder)]
    for folder in there:
        if folder.is_symlink() or not (folder / RECORD_FILE).is_file():
            raise PersonError(
                tr("{folder} holds no {RECORD_FILE}: it is not touched").format(
                    folder=folder, RECORD_FILE=RECORD_FILE
                ),
                tr("Look at what is in it"),
            )
    gone = aside_of(note)
    for folder in there:
        with disk_errors(tr("Deleting {folder}").format(folder=folder)):
            shutil.rmtree(folder)
    context.restores.change(note.id, state=RestoreState.LET_GO)
    return gone


def aside_of(note: RestoreNote) -> Aside:
    """What a restore has set aside and is still there."""
    files = size = 0
    for folder in note.folders:
        for info in _files(folder):
            files += 1
            size += info.st_size
            if files >= _MOST_COUNTED:
                return Aside(files, size, True)
    return Aside(files, size)


def _files(folder: str) -> Iterator[os.stat_result]:
    """The files in a set-aside folder, without its record."""
    waiting = [folder]
    while waiting:
        above = waiting.pop()
        with contextlib.suppress(OSError), os.scandir(above) as listing:
            for item in listing:
                info = item.stat(follow_symlinks=False)
                if stat.S_ISDIR(info.st_mode):
                    waiting.append(item.path)
                elif above != folder or item.name != RECORD_FILE:
                    yield info
