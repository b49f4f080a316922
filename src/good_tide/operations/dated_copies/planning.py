"""What would become of dated copies: which there are, of when, and what is in them."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.dated_names import moment_in
from good_tide.core.entries import Kind
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import Nanoseconds
from good_tide.core.progress import Control, Progress
from good_tide.core.records import Machine, Snapshot, Tally
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.dated_copies.members import ENDINGS, below, is_archive, members_of
from good_tide.operations.stores.users import users_of
from good_tide.operations.workplace import find_job
from good_tide.source.folders import Measured, measure, open_folder
from good_tide.storage.store import Store

_COUNT_TICK = 200


class Copy(msgspec.Struct, frozen=True):
    """A dated copy.

    :param path: a folder, or an archive. :param moment: of when it is, nanoseconds since 1970 UTC.
    :param top: the folder in it, relative to it, that is taken for the covered one; empty: it itself.
    :param tally: files, folders and bytes in that folder.
    :param is_there: the history has a snapshot of just that moment: it was brought in before, and is not
        looked into again.
    """

    path: Path
    moment: Nanoseconds
    top: bytes
    tally: Tally
    is_there: bool

    @property
    def is_archive(self) -> bool:
        """Whether it is an archive."""
        return is_archive(self.path)


class Plan(msgspec.Struct, frozen=True):
    """What is to be brought in.

    :param into: the path that the copies are copies of. :param copies: the oldest first.
    :param undated: what lies beside them, and whose name says no date.
    """

    into: bytes
    copies: tuple[Copy, ...]
    undated: tuple[Path, ...]

    @property
    def new(self) -> tuple[Copy, ...]:
        """Those that are not in the history yet."""
        return tuple(one for one in self.copies if not one.is_there)


def dated(named: Sequence[Path], at: Nanoseconds | None) -> tuple[list[tuple[Nanoseconds, Path]], list[Path]]:
    """The copies that are named, with their moments, the oldest first; and what has no date. A folder whose
    own name has none is a folder of copies.

    :param at: the moment of the one that is named.

    Raises:
        PersonError: something is not there, or nothing has a date.
    """
    for one in named:
        if not one.is_dir() and not (one.is_file() and is_archive(one)):
            raise PersonError(
                tr("{one} is neither a folder nor an archive").format(one=one),
                tr("Name a folder, or a file that ends with {endings}").format(endings=", ".join(ENDINGS)),
            )
    if at is not None:
        if len(named) != 1:
            raise PersonError(
                tr("One time is given for {named} copies").format(named=len(named)),
                tr("Give one copy with --at, or let the dates in their names say it"),
            )
        return [(at, named[0])], []
    found: list[tuple[Nanoseconds, Path]] = []
    undated: list[Path] = []
    for one in named:
        candidates = [one]
        if one.is_dir() and moment_in(one.name) is None:
            candidates = sorted(item for item in one.iterdir() if item.is_dir() or is_archive(item))
        for candidate in candidates:
            moment = moment_in(candidate.name)
            if moment is None or candidate.is_symlink():
                undated.append(candidate)
            else:
                found.append((moment, candidate))
    if not found:
        raise PersonError(
            tr("No date is in these names"),
            tr("Say the time of one copy with --at, or name folders and archives like 2024-03-01"),
        )
    return _apart(sorted(found)), undated


def _apart(found: list[tuple[Nanoseconds, Path]]) -> list[tuple[Nanoseconds, Path]]:
    """Copies of one moment a second apart, in the order of their names."""
    last = Nanoseconds(0)
    apart: list[tuple[Nanoseconds, Path]] = []
    for moment, path in found:
        last = Nanoseconds(max(moment, last + SECOND))
        apart.append((last, path))
    return apart


def covered_path(store: Store, own: Sequence[Snapshot], said: bytes | None) -> bytes:
    """The path that the copies are copies of: the one that was said, or the only covered folder.

    Raises:
        PersonError: it has to be said.
    """
    if said is not None:
        return said
    roots = [root.name for root in store.roots(own[-1].record)] if own else []
    if len(roots) == 1:
        return roots[0]
    shown = ", ".join(os.fsdecode(root) for root in roots)
    raise PersonError(
        tr("Of which folder these are copies is not clear"),
        tr("Say it with --as: {shown}").format(shown=shown)
        if roots
        else tr("Say it with --as, such as --as /home/ada/Office"),
    )


def whose_history(context: Context, store: Store, job_name: str) -> Machine:
    """The history of this machine that copies become part of: that of a job, the only one in the store, or
    the machine's own where no job uses the store.

    Raises:
        PersonError: several jobs use it, and none was named; or there is none of that name.
    """
    if job_name:
        return context.machine_of(find_job(context.here.settings, job_name))
    jobs = [job for job, _ in users_of(context, store)]
    found = {context.machine_of(job).id: context.machine_of(job) for job in jobs}
    if len(found) > 1:
        names = ", ".join(job.name for job in jobs)
        raise PersonError(
            tr("Several jobs of this machine use this store"),
            tr("Say into whose history with --job: {names}").format(names=names),
        )
    return next(iter(found.values()), context.here.machine)


def planned(
    store: Store,
    own: Sequence[Snapshot],
    named: Sequence[Path],
    said: bytes | None,
    at: Nanoseconds | None,
    now: int,
    control: Control,
) -> Plan:
    """What bringing in the copies that are named would do.

    :param own: the history that they are to become part of. :param said: the path that they are copies of.
    :param at: the moment of the only one.

    Raises:
        PersonError: something of it cannot be meant, read or is damaged. StoppedError: the person stopped it.
    """
    into = covered_path(store, own, said)
    found, undated = dated(named, at)
    return Plan(into, tuple(looked_into(own, into, found, now, control)), tuple(undated))


def looked_into(
    own: Sequence[Snapshot],
    into: bytes,
    found: Iterable[tuple[Nanoseconds, Path]],
    now: int,
    control: Control,
) -> list[Copy]:
    """Look into copies: what is in each, and which folder of it is meant.

    :param own: the history that they are to become part of. :param into: the path that they are copies of.
    :param now: nanoseconds since 1970 UTC.

    Raises:
        PersonError: one cannot be read, is damaged, or says a time that has not been.
        StoppedError: the person stopped it.
    """
    there = {snapshot.time for snapshot in own}
    copies = []
    for moment, path in found:
        if moment > now:
            raise PersonError(
                tr("{path} is of a time that has not been").format(path=path), tr("Say another with --at")
            )
        counted = _Counted(path, control)
        look = counted.archive if is_archive(path) and path.is_file() else counted.folder
        top, tally = (b"", Tally()) if moment in there else look(into)
        copies.append(Copy(path, moment, top, tally, moment in there))
    return copies


class _Counted:
    """Counts what is in a copy, as far as it lies in the folder that is meant."""

    def __init__(self, path: Path, control: Control) -> None:
        self._path, self._control = path, control
        self._seen = self._bytes = 0

    def _add(self, things: int, size: int) -> None:
        self._seen, self._bytes = self._seen + things, self._bytes + size
        self._control.checkpoint()
        self._control.report(Progress(tr("Looking"), self._seen, 0, self._bytes, 0, str(self._path)))

    def folder(self, into: bytes) -> tuple[bytes, Tally]:
        """Of a folder."""
        top = next((one for one in _ends_of(into) if self._is_meant(one, into)), b"")
        files = folders = size = 0
        waiting = [os.path.join(os.fsencode(self._path), top)]
        try:
            while waiting:
                found = self._measured(waiting[-1], whole=not folders)
                inside = waiting.pop()
                waiting += [os.path.join(inside, os.fsencode(name)) for name in found.folders]
                folders += 1
                files, size = files + len(found.sizes), size + sum(found.sizes)
                self._add(len(found.sizes) + 1, sum(found.sizes))
        except OSError as error:
            raise PersonError(
                tr("{path} cannot be read: {error}").format(path=self._path, error=error.strerror or error),
                tr("Check who may read it, and whether its disk is connected"),
            ) from None
        return top, Tally(files, folders, size)

    def _measured(self, folder: bytes, whole: bool) -> Measured:
        """What is in a folder; one inside that cannot be read is a gap when it is brought in.

        Raises:
            OSError: ``whole``, and it cannot be read.
        """
        handle = -1
        try:
            handle = open_folder(folder)
            return measure(handle)
        except OSError:
            if whole:
                raise
            return Measured([], [], [], [])
        finally:
            if handle >= 0:
                os.close(handle)

    def _is_meant(self, top: bytes, into: bytes) -> bool:
        at = self._path
        for part in top.split(b"/"):
            try:
                if top != into.strip(b"/") and [one.name for one in os.scandir(at)] != [os.fsdecode(part)]:
                    return False
            except OSError:
                return False
            at = at / os.fsdecode(part)
        return at.is_dir() and not at.is_symlink()

    def archive(self, into: bytes) -> tuple[bytes, Tally]:
        """Of an archive, which is read to its end for that."""
        tops = [*_ends_of(into), b""]
        files, folders, sizes, things, above = ([0] * len(tops) for _ in range(5))
        total = size = 0
        for member in members_of(self._path):
            total, size = total + 1, size + member.stat.size
            for number, top in enumerate(tops):
                if below(member.path, top) is not None:
                    things[number] += 1
                    files[number] += member.kind is Kind.FILE
                    folders[number] += member.kind is Kind.FOLDER
                    sizes[number] += member.stat.size
                else:
                    above[number] += member.path == b"" or top.startswith(member.path + b"/")
            if total % _COUNT_TICK == 0:
                self._add(_COUNT_TICK, size)
                size = 0
        for number, top in enumerate(tops):
            if not things[number] and top:
                continue
            only = things[number] + above[number] >= total
            if only or top == into.strip(b"/") or not top:
                return top, Tally(files[number], max(1, folders[number]), sizes[number])
        raise AssertionError("the last is the archive itself")


def _ends_of(path: bytes) -> list[bytes]:
    """How a copy of a folder may be called within what is copied: by its whole path, or by an end of it. The
    whole path counts wherever it is; a shorter one only where nothing else is beside it."""
    parts = path.strip(b"/").split(b"/")
    return [b"/".join(parts[at:]) for at in range(len(parts))] if parts != [b""] else []
