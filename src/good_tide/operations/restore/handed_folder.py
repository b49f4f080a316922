"""Handing things out as a folder: what a restore into a new one brings, with the sums of its files."""

from __future__ import annotations

import contextlib
import hashlib
import os
from pathlib import Path
from typing import IO

from good_tide.core.errors import PersonError
from good_tide.core.identifiers import JobId
from good_tide.core.progress import Control
from good_tide.core.restoring import Existing, RestoreRequest, Wished
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.restore.archive import ArchiveReport, new_file, sum_line
from good_tide.operations.restore.restoring import plan_request, restore
from good_tide.storage.place import disk_errors
from good_tide.storage.store import Store


def write_folder(
    context: Context,
    store: Store,
    wished: tuple[Wished, ...],
    target: Path,
    control: Control,
    sums: Path | None = None,
) -> ArchiveReport:
    """Copy some things into a folder that is new or empty, read them again and compare them with the store.
    It is remembered as a restore, and can be undone as one.

    :param sums: a file, which is not there yet, for the SHA-256 of each file, as ``sha256sum -c`` reads them
        in the folder.

    Raises:
        PersonError: something is in the folder, or ``sums`` is there. PlaceError: it cannot be written.
    """
    with disk_errors(tr("Writing {path}").format(path=target)):
        target.mkdir(parents=True, exist_ok=True)
        if any(target.iterdir()):
            raise PersonError(
                tr("Something is in {target} already").format(target=target),
                tr("Name a folder that is new or empty"),
            )
    request = RestoreRequest(wished, str(target), Existing.SKIP)
    plan = plan_request(context, store, request, None, control)
    place = store.place.title
    done = restore(context, store, plan, request, control, job=JobId(""), place=place, check=True)
    report = ArchiveReport(problems=[(one.path, one.reason) for one in done.problems])
    with contextlib.ExitStack() as files:
        out = files.enter_context(new_file(sums)) if sums is not None else None
        with disk_errors(tr("Reading {path}").format(path=target)):
            _look_through(target, report, out)
    return report


def _look_through(target: Path, report: ArchiveReport, sums: IO[bytes] | None) -> None:
    """Count what is in a folder now, and note the sums of its files."""
    for above, folders, files in os.walk(target):
        folders.sort()
        for name in sorted([*folders, *files]):
            path = os.path.join(above, name)
            if os.path.islink(path):
                report.links += 1
            elif os.path.isdir(path):
                report.folders += 1
            elif os.path.isfile(path):
                report.files += 1
                report.size += os.path.getsize(path)
                if sums is not None:
                    sums.write(sum_line(os.path.relpath(path, target), _digest(path)))


def _digest(path: str) -> str:
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
