"""Copies of what was, to be dragged or pasted into other programs: they lie in the cache folder beside those
that are opened (``operations.history.copies``), and are cleared away with them after some days."""

from __future__ import annotations

import hashlib
import os
import shutil
import tempfile
from collections.abc import Sequence
from pathlib import Path

import msgspec

from good_tide.core.clock import Clock
from good_tide.core.progress import Control
from good_tide.core.restoring import Existing
from good_tide.core.translation import tr
from good_tide.core.words import moment_name
from good_tide.operations.history.copies import copies_folder
from good_tide.operations.restore.carry_out import carry_out
from good_tide.operations.restore.plan import Wish, plan_restore
from good_tide.storage.place import disk_errors
from good_tide.storage.store import Store

_FILES, _MADE = "files", "made"
"""In the folder of one set of copies: themselves, and a mark of when they were complete."""


class Handed(msgspec.Struct, frozen=True):
    """Copies, and what could not be copied, with why."""

    paths: tuple[Path, ...]
    problems: tuple[str, ...] = ()


def known_copies(cache: Path, wishes: Sequence[Wish]) -> Handed | None:
    """Copies that were made of exactly these things before, and are kept longer by that; None where there are
    none, or somebody changed or took something of them."""
    folder = _folder(cache, wishes)
    try:
        os.utime(folder)
        made = (folder / _MADE).stat().st_mtime_ns
        found = tuple(sorted((folder / _FILES).iterdir()))
        if len(found) == len(wishes) and not _changed_since(folder / _FILES, made):
            return Handed(found)
    except OSError:
        return None
    shutil.rmtree(folder, ignore_errors=True)
    return None


def _changed_since(top: Path, made: int) -> bool:
    """Whether anything below a folder was changed in any way after a time (``st_ctime``)."""
    waiting = [os.fspath(top)]
    while waiting:
        with os.scandir(waiting.pop()) as listing:
            for item in listing:
                if item.stat(follow_symlinks=False).st_ctime_ns > made:
                    return True
                if item.is_dir(follow_symlinks=False):
                    waiting.append(item.path)
    return False


def make_copies(store: Store, wishes: Sequence[Wish], cache: Path, clock: Clock, control: Control) -> Handed:
    """Copy some things as they were in snapshots, as their owner, with modes, times and attributes. One that
    is on the disk now under its name as well has the moment in its name: it may be dropped beside it.

    Raises:
        GoodTideError: there is no room, or a path is not in its snapshot. What was copied of it is removed.
    """
    folder = _folder(cache, wishes)
    with disk_errors(tr("Making a copy")):
        copies_folder(cache)
        inside = Path(tempfile.mkdtemp(prefix=f"{folder.name}.", dir=folder.parent))
    try:
        files = inside / _FILES
        files.mkdir()
        plan = plan_restore(store, wishes, files, Existing.KEEP_BOTH, control)
        report = carry_out(store, plan, clock, control)
        with disk_errors(tr("Making a copy")):
            _name_moments(files, wishes)
            (inside / _MADE).touch()
            try:
                inside.rename(folder)
            except OSError:  # another window made them meanwhile
                shutil.rmtree(inside, ignore_errors=True)
    except BaseException:
        shutil.rmtree(inside, ignore_errors=True)
        raise
    problems = tuple(f"{os.fsdecode(one.path)}: {one.reason}" for one in report.problems)
    return Handed(tuple(sorted((folder / _FILES).iterdir())), problems)


def _folder(cache: Path, wishes: Sequence[Wish]) -> Path:
    """Where copies of these things lie."""
    named = hashlib.blake2b(digest_size=12)
    for wish in sorted(wishes, key=lambda one: (one.snapshot.id, one.path)):
        there = b"there" if os.path.lexists(wish.path) else b"gone"
        named.update(wish.snapshot.id.encode() + b"\0" + wish.path + b"\0" + there + b"\0")
    return copies_folder(cache, make=False) / f"copy-{named.hexdigest()}"


def _name_moments(inside: Path, wishes: Sequence[Wish]) -> None:
    for wish in wishes:
        name = os.path.basename(wish.path)
        copy = os.path.join(os.fsencode(inside), name)
        if os.path.lexists(wish.path) and os.path.lexists(copy):
            os.rename(copy, os.path.join(os.fsencode(inside), moment_name(name, wish.snapshot.time)))
