"""Carrying out a restore plan.

Everything is written relative to open directory handles, to a temporary name first, and renamed when it is
whole.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import secrets
from collections.abc import Mapping
from pathlib import Path
from types import TracebackType
from typing import Self

import msgspec

from good_tide.core.clock import Clock
from good_tide.core.entries import Kind
from good_tide.core.errors import DamageError, PlaceError, PlaceFullError
from good_tide.core.progress import Control, Progress
from good_tide.core.restoring import Action
from good_tide.core.selection import no_longer_kept
from good_tide.core.words import size_words
from good_tide.operations.history.same_content import is_identical
from good_tide.operations.restore.metadata import Metadata
from good_tide.operations.restore.plan import Plan, Relative, Step
from good_tide.operations.restore.read_ahead import ReadAhead
from good_tide.operations.restore.set_aside import SetAside
from good_tide.source.folders import open_file, open_folder
from good_tide.source.ways import open_way
from good_tide.storage.place import disk_errors
from good_tide.storage.store import Store

_TEMPORARY = ".good-tide-"
_libc = ctypes.CDLL(None, use_errno=True)


class Problem(msgspec.Struct, frozen=True):
    """Something that could not be restored."""

    path: bytes
    reason: str


class RestoreReport(msgspec.Struct):
    """What a restore did. ``strange`` things were set aside that were not there then; ``bytes`` were written;
    ``records`` are folders by which what only created is undone; ``checked`` things were read again from the
    disk and are what the store has;
    ``set_aside`` holds what was replaced, None if nothing was."""

    created: int = 0
    replaced: int = 0
    identical: int = 0
    skipped: int = 0
    strange: int = 0
    bytes: int = 0
    set_aside: tuple[Path, ...] = ()
    records: tuple[Path, ...] = ()
    checked: int = 0
    problems: list[Problem] = []
    metadata_notes: list[Problem] = []


def carry_out(
    store: Store,
    plan: Plan,
    clock: Clock,
    control: Control,
    records: Path | None = None,
    check: bool = False,
) -> RestoreReport:
    """Do what the plan says.

    A damaged or refused item is reported and the others go on.

    :param records: where a restore that replaces nothing keeps the record by which it is undone; None: it
        keeps none.
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
        ahead = stack.enter_context(ReadAhead(store, plan.steps))
        targets: dict[Path, _Target] = {}
        try:
            for step in plan.steps:
                if step.target not in targets:
                    targets[step.target] = stack.enter_context(
                        _Target(step.target, clock, report, records, plan.owners)
                    )
                control.checkpoint()
                done = report.created + report.replaced
                control.report(
                    Progress("Restoring", done, steps, report.bytes, size, os.fsdecode(step.source))
                )
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
    store: Store, plan: Plan, targets: Mapping[Path, _Target], report: RestoreReport, control: Control
) -> None:
    """Read what was restored from the disk again."""
    failed = {problem.path for problem in report.problems}
    steps = [step for step in plan.steps if step.action in (Action.CREATE, Action.REPLACE)]
    for number, step in enumerate(steps):
        if step.entry.kind is Kind.FOLDER or step.source in failed:
            continue
        control.checkpoint()
        control.report(Progress("Checking", number, len(steps), current=os.fsdecode(step.source)))
        try:
            same = targets[step.target].is_there(store, step)
        except OSError as error:
            report.problems.append(
                Problem(step.source, f"Cannot be checked: {os.strerror(error.errno or 0)}")
            )
            continue
        report.checked += same
        if not same:
            words = "What is on the disk now is not what the store has: restore it again, and check the disk"
            report.problems.append(Problem(step.source, words))


def _check_still_kept(store: Store, plan: Plan, now: int) -> None:
    present = set(store.snapshot_ids())
    for snapshot in {step.snapshot.id: step.snapshot for step in plan.steps}.values():
        if snapshot.id not in present:
            raise no_longer_kept(snapshot.record.time, [one.record.time for one in store.snapshots()[0]], now)


def _check_room(plan: Plan) -> None:
    """Refuse a restore that would not fit: what is replaced stays as well, set aside.

    Raises:
        PlaceFullError: it would not; nothing is done.
    """
    needed: dict[int, int] = {}
    free: dict[int, tuple[Path, int]] = {}
    devices: dict[Path, int] = {}
    links: set[tuple[int, int, int]] = set()
    for step in plan.steps:
        group = step.entry.extra.link_group
        known = group is not None and (id(step.snapshot), *group) in links
        written = step.entry.kind is Kind.FILE and step.action in (Action.CREATE, Action.REPLACE)
        if not written or known:
            continue
        links |= {(id(step.snapshot), *group)} if group is not None else set()
        if step.target not in devices:
            above = step.target
            while not above.exists() and above != above.parent:
                above = above.parent
            room, device = os.statvfs(above), above.stat().st_dev
            devices[step.target], free[device] = device, (above, room.f_bavail * room.f_frsize)
        stored = sum(extent.length for extent in step.entry.extents if extent.chunk is not None)
        device = devices[step.target]
        needed[device] = needed.get(device, 0) + stored
    for device, size in needed.items():
        where, room_left = free[device]
        if size > room_left:
            raise PlaceFullError(
                f"{size_words(size)} are to be restored, and the disk of {where} has {size_words(room_left)}"
                " free; nothing was done",
                "Make room, restore less, or restore to another disk",
            )


def _do(step: Step, target: _Target, ahead: ReadAhead, report: RestoreReport) -> None:
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


def _put_aside(step: Step, target: _Target, report: RestoreReport) -> None:
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
        with disk_errors("Restoring"):
            raise error


class _Target:
    """One folder that things are restored below."""

    def __init__(
        self,
        path: Path,
        clock: Clock,
        report: RestoreReport,
        records: Path | None,
        owners: Mapping[str, str],
    ) -> None:
        self.path = path
        self._report = report
        with disk_errors(f"Restoring to {path}"):
            self._root, self._made_root = open_way(path, make=True)
        self.aside = SetAside(path, self._root, clock, records)
        self._open: list[tuple[bytes, int]] = []
        self._folders: list[tuple[Step, Relative]] = []
        self._links: dict[tuple[int, int, int], Relative] = {}
        self._metadata = Metadata(owners)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._leave(0)
        self.aside.close()
        os.close(self._root)

    def _leave(self, depth: int) -> None:
        while len(self._open) > depth:
            os.close(self._open.pop()[1])

    def _folder(self, relative: Relative) -> int:
        """A handle of a folder below the root, each level opened in the one above and never through a
        link."""
        depth = 0
        while depth < min(len(relative), len(self._open)) and self._open[depth][0] == relative[depth]:
            depth += 1
        self._leave(depth)
        for name in relative[depth:]:
            inside = self._open[-1][1] if self._open else self._root
            try:
                handle = open_folder(name, inside)
            except FileNotFoundError:
                os.mkdir(name, 0o700, dir_fd=inside)
                self.aside.created((*[part for part, _ in self._open], name), inside)
                handle = open_folder(name, inside)
            self._open.append((name, handle))
        return self._open[-1][1] if self._open else self._root

    def place(self, step: Step, ahead: ReadAhead) -> None:
        """Create or replace one item."""
        entry, relative = step.entry, step.relative
        if not relative:
            if self._made_root:
                self._folders.append((step, relative))
                self._report.created += 1
            return
        folder = self._folder(relative[:-1])
        if entry.kind is Kind.FOLDER:
            if step.action is Action.REPLACE:
                self.aside.take(relative, folder)
            os.mkdir(relative[-1], 0o700, dir_fd=folder)
            self._folders.append((step, relative))
        else:
            self._put(step, folder, ahead)
        if step.action is Action.REPLACE:
            self._report.replaced += 1
            self.aside.replaced_by(relative, folder)
        else:
            self._report.created += 1
            self.aside.created(relative, folder)

    def is_there(self, store: Store, step: Step) -> bool:
        """Whether what was restored is on the disk as the store has it."""
        folder, name = self._folder(step.relative[:-1]), os.fsdecode(step.relative[-1])
        info = os.stat(name, dir_fd=folder, follow_symlinks=False)
        if step.entry.kind is Kind.FILE:
            with contextlib.suppress(OSError):
                handle = open_file(name, folder)
                try:  # or it would be read from memory
                    os.posix_fadvise(handle, 0, 0, os.POSIX_FADV_DONTNEED)
                finally:
                    os.close(handle)
        return is_identical(store, step.entry, name, folder, info)

    def put_aside(self, relative: Relative) -> None:
        """Set something aside that was not there at that moment."""
        folder = self._folder(relative[:-1])
        os.stat(relative[-1], dir_fd=folder, follow_symlinks=False)
        self.aside.take(relative, folder)

    def _put(self, step: Step, folder: int, ahead: ReadAhead) -> None:
        """Write a file or link under a temporary name, then give it its own."""
        entry, name = step.entry, step.relative[-1]
        temporary = f"{_TEMPORARY}{secrets.token_hex(6)}".encode()
        try:
            if not self._link_again(step, folder, temporary):
                if entry.kind is Kind.LINK:
                    os.symlink(entry.extra.target, temporary, dir_fd=folder)
                    self._metadata.of_link(step, temporary, folder)
                else:
                    self._write(step, folder, temporary, ahead)
            if step.action is Action.REPLACE:
                self.aside.take(step.relative, folder)
                os.rename(temporary, name, src_dir_fd=folder, dst_dir_fd=folder)
            else:
                _rename_without_replacing(temporary, name, folder)
        except BaseException:
            with contextlib.suppress(OSError):
                os.unlink(temporary, dir_fd=folder)
            raise
        group = entry.extra.link_group
        if group is not None:
            self._links[(id(step.snapshot), *group)] = step.relative

    def _link_again(self, step: Step, folder: int, temporary: bytes) -> bool:
        """Make a further hard link of something restored before; False where there is nothing to link to."""
        group = step.entry.extra.link_group
        first = self._links.get((id(step.snapshot), *group)) if group is not None else None
        if first is None:
            return False
        handle = os.dup(self._root)
        try:
            for name in first[:-1]:
                outer, handle = handle, open_folder(name, handle)
                os.close(outer)
            os.link(first[-1], temporary, src_dir_fd=handle, dst_dir_fd=folder, follow_symlinks=False)
        finally:
            os.close(handle)
        return True

    def _write(self, step: Step, folder: int, temporary: bytes, ahead: ReadAhead) -> None:
        entry = step.entry
        handle = os.open(
            temporary, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600, dir_fd=folder
        )
        try:
            at = 0
            for extent in entry.extents:
                if extent.chunk is not None:
                    piece = memoryview(ahead.get(extent.chunk))[extent.offset : extent.offset + extent.length]
                    if len(piece) != extent.length:
                        raise DamageError("A chunk is shorter than the file needs")
                    while piece:
                        written = os.pwrite(handle, piece, at)
                        piece, at = piece[written:], at + written
                else:
                    at += extent.length
            if at != entry.stat.size:
                raise DamageError("The stored parts do not add up to the file")
            os.ftruncate(handle, at)
            self._metadata.of_open(step, handle)
            if step.action is Action.REPLACE:
                os.fsync(handle)
        finally:
            os.close(handle)
        self._report.bytes += at

    def finish(self) -> None:
        """Give the new folders their metadata, innermost first, and make everything durable."""
        self._leave(0)
        for step, relative in reversed(self._folders):
            with contextlib.suppress(FileNotFoundError):
                handle = (
                    open_folder(relative[-1], self._folder(relative[:-1])) if relative else os.dup(self._root)
                )
                try:
                    self._metadata.of_open(step, handle)
                finally:
                    os.close(handle)
        self._report.metadata_notes += [Problem(path, words) for path, words in self._metadata.refused()]
        _sync_file_system(self._root)


def _rename_without_replacing(temporary: bytes, name: bytes, folder: int) -> None:
    """Give a file its name unless something has got there since the plan was made (``FileExistsError``)."""
    try:
        os.link(temporary, name, src_dir_fd=folder, dst_dir_fd=folder, follow_symlinks=False)
        os.unlink(temporary, dir_fd=folder)
    except OSError as error:
        if error.errno not in (errno.EPERM, errno.ENOTSUP, errno.ENOSYS, errno.EMLINK):
            raise
        with contextlib.suppress(FileNotFoundError):
            os.stat(name, dir_fd=folder, follow_symlinks=False)
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST)) from None
        os.rename(temporary, name, src_dir_fd=folder, dst_dir_fd=folder)


def _sync_file_system(handle: int) -> None:
    """Make all that was written to a file system durable (syncfs, Linux)."""
    if _libc.syncfs(handle) != 0:
        number = ctypes.get_errno()
        with disk_errors("Writing what was restored to the disk"):
            raise OSError(number, os.strerror(number))
