"""Drills: files by lot, of all machines, new and old, small and large, restored into a scratch place and
compared with what they were; now and then all listings of a snapshot."""

from __future__ import annotations

import contextlib
import os
import random
import shutil
import stat
import tempfile
from collections.abc import Sequence
from pathlib import Path

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import DamageError, GoodTideError, StoppedError
from good_tide.core.health import Drill, StoreHealth
from good_tide.core.progress import Control, Progress, Silent
from good_tide.core.records import Snapshot
from good_tide.core.restoring import Existing
from good_tide.core.translation import tr
from good_tide.core.words import number_words, printable
from good_tide.operations.context import Context
from good_tide.operations.history.browse import check_depth, readable_children
from good_tide.operations.history.same_content import is_identical
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Wish, plan_restore
from good_tide.storage.store import Store

EVERY = 7 * 86400 * SECOND
"""So often a drill is due."""
_LISTINGS_EVERY = 91 * 86400 * SECOND
FILES = 24
_TRIES = 10
"""So many ways down are tried for each file."""
_LARGEST = 256 * 1024 * 1024
_MOST_BYTES = 1024 * 1024 * 1024
"""Bytes that are restored at most in one drill."""
_LARGE_SHARE = 3
"""For one in so many files, the largest of its folder is taken."""


class DrillReport(msgspec.Struct):
    """What a drill tried: files restored and compared, with their live selves too where those are unchanged;
    files of a snapshot whose listings were all read; and what failed, by path, with what was wrong."""

    files: int = 0
    bytes: int = 0
    live: int = 0
    listed: int = 0
    failed: list[tuple[str, str]] = []


def drill_due(health: StoreHealth, now: int) -> bool:
    """Whether a drill is due."""
    return not 0 <= now - health.drill.when < EVERY


def drill(context: Context, store: Store, control: Control, lot: random.Random | None = None) -> DrillReport:
    """Restore files by lot, and compare them.

    :param lot: draws; anew each time if not given.

    Raises:
        PlaceError: the disk cannot be read, or there is no room for the trial. StoppedError: it was stopped.
    """
    store.forget_recent()
    with store.read_back():
        return _drilled(context, store, control, lot or random.Random())


def _drilled(context: Context, store: Store, control: Control, lot: random.Random) -> DrillReport:
    report, now = DrillReport(failed=[]), context.clock.now()
    snapshots = _chosen(store.snapshots()[0], lot)
    scratch = _scratch(context)
    try:
        for number in range(FILES if snapshots else 0):
            control.checkpoint()
            control.report(Progress(tr("Restoring for a trial"), number, FILES))
            if report.bytes < _MOST_BYTES:
                _try_one(store, snapshots[number % len(snapshots)], scratch, context, report, lot)
        last = context.health.of(store.header.store).listed
        if snapshots and not 0 <= now - last < _LISTINGS_EVERY:
            _listings(store, lot.choice(snapshots), report, control)
    finally:
        shutil.rmtree(scratch, ignore_errors=True)
    _keep(context, store, report, now)
    return report


def _scratch(context: Context) -> Path:
    with contextlib.suppress(OSError):
        context.here.cache.mkdir(parents=True, exist_ok=True, mode=0o700)
        return Path(tempfile.mkdtemp(prefix="trial-", dir=context.here.cache))
    return Path(tempfile.mkdtemp(prefix="good-tide-trial-"))


def _chosen(snapshots: Sequence[Snapshot], lot: random.Random) -> list[Snapshot]:
    """Of each machine the newest, the oldest, and two between; in turns."""
    by_machine: dict[str, list[Snapshot]] = {}
    for snapshot in snapshots:
        by_machine.setdefault(snapshot.machine.id, []).append(snapshot)
    turns = [[own[-1], own[0], *(lot.choice(own) for _ in range(2))] for own in by_machine.values()]
    return [one for turn in zip(*turns, strict=True) for one in turn] if turns else []


def _try_one(
    store: Store, snapshot: Snapshot, scratch: Path, context: Context, report: DrillReport, lot: random.Random
) -> None:
    """Restore one file of a snapshot, and compare it."""
    found = None
    for _ in range(_TRIES):
        try:
            found = _drawn(store, snapshot, lot)
        except DamageError as error:
            report.failed.append((tr("a listing of {id}").format(id=snapshot.id[:12]), error.what))
            report.files += 1
            return
        if found is not None:
            break
    if found is None:
        return
    path, entry = found
    report.files += 1
    report.bytes += entry.stat.size
    into = Path(tempfile.mkdtemp(dir=scratch))
    try:
        _restore_and_compare(store, snapshot, path, entry, into, context, report)
    except StoppedError:
        raise
    except DamageError as error:
        report.failed.append((printable(path), error.what))
    finally:
        shutil.rmtree(into, ignore_errors=True)


def _drawn(store: Store, snapshot: Snapshot, lot: random.Random) -> tuple[bytes, Entry] | None:
    """A file of a snapshot, drawn on the way down its folders; None where the way ends without one."""
    roots = store.roots(snapshot.record)
    if not roots:
        return None
    entry = lot.choice(roots)
    path, depth = entry.name, 0
    while entry.kind is Kind.FOLDER:
        check_depth(depth)
        listing, damage = readable_children(store, entry)
        if damage:
            raise damage[0]
        below = [one for one in listing if one.kind in (Kind.FOLDER, Kind.FILE) and one.stat.size <= _LARGEST]
        if not below:
            return None
        files = [one for one in below if one.kind is Kind.FILE]
        largest = files and not lot.randrange(_LARGE_SHARE)
        entry = max(files, key=lambda one: one.stat.size) if largest else lot.choice(below)
        path, depth = path.rstrip(b"/") + b"/" + entry.name, depth + 1
    return (path, entry) if entry.kind is Kind.FILE else None


def _restore_and_compare(
    store: Store,
    snapshot: Snapshot,
    path: bytes,
    entry: Entry,
    into: Path,
    context: Context,
    report: DrillReport,
) -> None:
    quiet = Silent()
    plan = plan_restore(store, [Wish(snapshot, path)], into, Existing.SKIP, quiet)
    done = carry_out(store, plan, context.clock, quiet)
    if done.problems:
        report.failed.append((printable(path), done.problems[0].reason))
        return
    folder = os.open(into, os.O_RDONLY | os.O_DIRECTORY)
    try:
        (name,) = os.listdir(folder)
        info = os.stat(name, dir_fd=folder, follow_symlinks=False)
        if not is_identical(store, entry, name, folder, info):
            report.failed.append((printable(path), tr("What was restored is not what was stored")))
            return
    finally:
        os.close(folder)
    live = _same_as_live(path, entry, snapshot.time, into / name)
    if live is False:
        report.failed.append(
            (printable(path), tr("What was restored differs from the file, unchanged since"))
        )
    report.live += live is not None


def _same_as_live(path: bytes, entry: Entry, taken: int, restored: Path) -> bool | None:
    """Whether a restored file is the live one byte for byte; None where that changed since its snapshot was
    ``taken`` (ns since 1970 UTC), or is gone."""
    try:
        info = os.stat(path, follow_symlinks=False)
        as_it_was = (info.st_size, info.st_mtime_ns) == (entry.stat.size, entry.stat.modified)
        if not stat.S_ISREG(info.st_mode) or not as_it_was or info.st_ctime_ns >= taken:
            return None
        with open(path, "rb") as one, restored.open("rb") as other:
            while piece := one.read(1 << 20):
                if piece != other.read(len(piece)):
                    return False
            return not other.read(1)
    except OSError:
        return None


def _listings(store: Store, snapshot: Snapshot, report: DrillReport, control: Control) -> None:
    """Read all listings of a snapshot, and count its files."""
    waiting = [(root.name, root) for root in store.roots(snapshot.record)]
    files = 0
    while waiting:
        control.checkpoint()
        path, entry = waiting.pop()
        if entry.kind is Kind.FILE:
            files += 1
        elif entry.kind is Kind.FOLDER:
            listing, damage = readable_children(store, entry)
            report.failed += [(printable(path), error.what) for error in damage]
            waiting += [(path + b"/" + one.name, one) for one in listing]
    report.listed = files
    if files != snapshot.tally.files and not report.failed:
        report.failed.append(
            (
                snapshot.id[:12],
                tr("It has {files} files, and says {files_2}").format(
                    files=number_words(files), files_2=number_words(snapshot.tally.files)
                ),
            )
        )


def _keep(context: Context, store: Store, report: DrillReport, now: int) -> None:
    made = Drill(now, report.files, tuple(path for path, _ in report.failed))

    def drilled(known: StoreHealth) -> StoreHealth:
        listed = now if report.listed else known.listed
        return msgspec.structs.replace(known, drill=made, listed=listed)

    context.health.change(store.header.store, drilled)
    with contextlib.suppress(GoodTideError):
        store.damage.keep()
