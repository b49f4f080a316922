"""Carrying out a restore plan."""

from __future__ import annotations

import contextlib
import errno
import os
from collections.abc import Callable, Collection, Mapping
from pathlib import Path

from good_tide.core.clock import Clock
from good_tide.core.entries import Kind
from good_tide.core.errors import DamageError, PlaceError, PlaceFullError
from good_tide.core.progress import Control, Progress
from good_tide.core.restoring import Action
from good_tide.core.selection import no_longer_kept
from good_tide.core.translation import tr
from good_tide.core.words import size_words
from good_tide.operations.restore.plan import Plan
from good_tide.operations.restore.read_ahead import ReadAhead
from good_tide.operations.restore.report import Problem, RestoreReport
from good_tide.operations.restore.set_aside import Keeping
from good_tide.operations.restore.steps import Step
from good_tide.operations.restore.target import Target
from good_tide.storage.place import disk_errors
from good_tide.storage.store import Store
from good_tide.storage.summaries import known_snapshots


def carry_out(
    store: Store,
    plan: Plan,
    clock: Clock,
    control: Control,
    records: Path | None = None,
    check: bool = False,
    began: Callable[[Path, Path], None] | None = None,
    unfinished: Collection[bytes] = (),
) -> RestoreReport:
    """Do what the plan says.

    A damaged or refused item is reported and the others go on.

    :param records: where a restore that replaces nothing keeps the record by which it is undone; None: it
        keeps none.
    :param began: told of each folder in which things are set aside or a record begins, before anything is
        done that it speaks of, and of the folder restored to.
    :param unfinished: folders that a part of this restore before has made, which have no times and
        permissions yet.
    :param check: what was restored is read again from the disk, and compared with the store.

    Raises:
        PersonError: a snapshot has gone since the plan was made; nothing is done.
        PlaceFullError: no room left in the target.
        StoppedError: the person stopped it; finished items stay.
    """
    _check_still_kept(store, plan, clock.now())
    _check_room(plan)
    report = RestoreReport(problems=[], metadata_notes=[])
    steps, size = len(plan.steps), plan.payload
    with contextlib.ExitStack() as stack:
        ahead = stack.enter_context(ReadAhead(store, plan.steps.written_chunks()))
        targets: dict[Path, Target] = {}
        try:
            for step in plan.steps:
                if step.target not in targets:
                    targets[step.target] = stack.enter_context(
                        Target(step.target, clock, report, plan.owners, Keeping(records, began))
                    )
                control.checkpoint()
                done = report.created + report.replaced
                control.report(
                    Progress(tr("Restoring"), done, steps, report.bytes, size, os.fsdecode(step.source))
                )
                if step.action is Action.IDENTICAL and unfinished and step.shown in unfinished:
                    targets[step.target].finish_later(step)
                _do(step, targets[step.target], ahead, report)
        finally:
            with contextlib.suppress(PlaceError):
                store.damage.keep()
            for target in targets.values():
                target.finish()
            report.set_aside = tuple(
                target.aside.path for target in targets.values() if target.aside.path is not None
            )
            report.records = tuple(
                target.aside.record for target in targets.values() if target.aside.record is not None
            )
        if check:
            _check(store, plan, targets, report, control)
    return report


def _check(
    store: Store, plan: Plan, targets: Mapping[Path, Target], report: RestoreReport, control: Control
) -> None:
    """Read what was restored from the disk again."""
    failed = {problem.path for problem in report.problems}
    written = (Action.CREATE, Action.REPLACE)
    count = sum(plan.count(action) for action in written)
    for number, step in enumerate(plan.steps.having(*written)):
        if step.entry.kind is Kind.FOLDER or step.source in failed:
            continue
        control.checkpoint()
        control.report(Progress(tr("Checking"), number, count, current=os.fsdecode(step.source)))
        try:
            same = targets[step.target].is_there(store, step)
        except OSError as error:
            report.problems.append(
                Problem(
                    step.source,
                    tr("Cannot be checked: {strerror}").format(strerror=os.strerror(error.errno or 0)),
                )
            )
            continue
        report.checked += same
        if not same:
            words = tr(
                "What is on the disk now is not what the store has: restore it again, and check the disk"
            )
            report.problems.append(Problem(step.source, words))


def _check_still_kept(store: Store, plan: Plan, now: int) -> None:
    present = set(store.snapshot_ids())
    for snapshot in plan.steps.snapshots():
        if snapshot.id not in present:
            raise no_longer_kept(snapshot.time, [one.time for one in known_snapshots(store)[0]], now)


def _check_room(plan: Plan) -> None:
    """Refuse a restore that would not fit: what is replaced stays as well, set aside.

    Raises:
        PlaceFullError: it would not; nothing is done.
    """
    needed: dict[int, int] = {}
    free: dict[int, tuple[Path, int]] = {}
    for target, size in plan.steps.needed.items():
        above = target
        while not above.exists() and above != above.parent:
            above = above.parent
        room, device = os.statvfs(above), above.stat().st_dev
        free[device] = above, room.f_bavail * room.f_frsize
        needed[device] = needed.get(device, 0) + size
    for device, size in needed.items():
        where, room_left = free[device]
        if size > room_left:
            raise PlaceFullError(
                tr(
                    "{size} are to be restored, and the disk of {where} has {room_left} free; nothing was"
                    " done"
                ).format(size=size_words(size), where=where, room_left=size_words(room_left)),
                tr("Make room, restore less, or restore to another disk"),
            )


def _do(step: Step, target: Target, ahead: ReadAhead, report: RestoreReport) -> None:
    if step.action is Action.IDENTICAL:
        report.identical += 1
    elif step.action is Action.SKIP:
        report.skipped += 1
    elif step.action is Action.ASIDE:
        _put_aside(step, target, report)
    elif step.action is Action.BLOCKED:
        report.problems.append(Problem(step.source, step.note))
    else:
        try:
            target.place(step, ahead)
        except DamageError as error:
            report.problems.append(Problem(step.source, error.what))
        except OSError as error:
            _raise_if_full(error)
            report.problems.append(Problem(step.source, os.strerror(error.errno or 0)))


def _put_aside(step: Step, target: Target, report: RestoreReport) -> None:
    try:
        target.put_aside(step.relative)
        report.strange += 1
    except FileNotFoundError:  # it has gone meanwhile
        return
    except OSError as error:
        _raise_if_full(error)
        report.problems.append(Problem(step.source, os.strerror(error.errno or 0)))


def _raise_if_full(error: OSError) -> None:
    """No room concerns the whole restore, not one item (``PlaceFullError``)."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        with disk_errors(tr("Restoring")):
            raise error
