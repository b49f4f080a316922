"""Copies of versions to be opened in the program that usually opens such files: they can be read only, lie in
the cache folder, and are cleared away."""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from pathlib import Path

from good_tide.core.records import Snapshot
from good_tide.core.translation import tr
from good_tide.core.words import moment_name
from good_tide.operations.history.browse import entry_at, parts_of_file
from good_tide.storage.place import disk_errors
from good_tide.storage.store import Store

_FOLDER, _BEGINS = "opened", "copy-"
_KEPT_SECONDS = 3 * 86400


def copies_folder(cache: Path, make: bool = True) -> Path:
    """The folder that copies lie in, which nobody else can look into."""
    folder = cache / _FOLDER
    if make:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    return folder


def make_copy(store: Store, snapshot: Snapshot, path: bytes, cache: Path) -> Path:
    """A copy of a file in a snapshot that can be read only, with the moment in its name.

    Raises:
        PersonError: it is no file, or not there. DamageError: it is lost. PlaceError: there is no room.
    """
    entry = entry_at(store, snapshot, path)
    parts = parts_of_file(store, entry)
    with disk_errors(tr("Making a copy")):
        folder = copies_folder(cache)
        inside = Path(tempfile.mkdtemp(prefix=_BEGINS, dir=folder))
        name = moment_name(os.path.basename(path), snapshot.time)
        target = inside / os.fsdecode(name)
        try:
            with target.open("xb") as file:
                for part in parts:
                    file.write(part)
            target.chmod(0o400)
        except BaseException:
            shutil.rmtree(inside, ignore_errors=True)
            raise
    return target


def clear_copies(cache: Path, now: int) -> int:
    """Clear away copies that were made more than three days ago. Returns how many.

    :param now: nanoseconds since 1970 UTC.
    """
    cleared = 0
    with contextlib.suppress(OSError), os.scandir(cache / _FOLDER) as listing:
        for item in listing:
            ours = item.name.startswith(_BEGINS) and item.is_dir(follow_symlinks=False)
            if ours and item.stat(follow_symlinks=False).st_mtime + _KEPT_SECONDS < now / 1e9:
                shutil.rmtree(item.path, ignore_errors=True)
                cleared += 1
    return cleared
