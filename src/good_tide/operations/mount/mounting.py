"""Beginning and ending mounts, and what mounts there are."""

from __future__ import annotations

import contextlib
import ctypes.util
import errno
import os
import shutil
import subprocess
import sys
import threading
from pathlib import Path

import msgspec

from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.identifiers import MachineId
from good_tide.core.translation import tr
from good_tide.lines.mounts import OWN_TYPE, read_mounts
from good_tide.operations.workplace import load_jobs

_HELPER = "fusermount3"
_BEGIN_SECONDS = 300.0
"""A long history that was never looked into is read first."""
_STAT_SECONDS = 2.0
IDLE_SECONDS = 3600.0


class MountWish(msgspec.Struct, frozen=True):
    """What is to be mounted.

    :param named: the store, as a person names it. :param machine: whose history.
    :param folder: where. :param made: it was made for this, and goes afterwards.
    :param stays: it outlives whoever began it.
    :param idle_seconds: it is unmounted when nothing was asked for so long.
    """

    named: str
    machine: MachineId
    folder: str
    passphrase: str | None = None
    settings: str = ""
    made: bool = False
    stays: bool = False
    idle_seconds: float = IDLE_SECONDS


class Begun(msgspec.Struct, frozen=True):
    """What a mount's process says: what the store is called, or what is wrong, and what to do."""

    called: str = ""
    what: str = ""
    todo: str = ""


class Mounted(msgspec.Struct, frozen=True):
    """A mount of this program. ``answers``: its process is there."""

    folder: str
    store: str
    answers: bool


def check_possible() -> None:
    """Whether an ordinary user can mount here.

    Raises:
        PlaceError: not; restoring into a folder is offered instead.
    """
    missing = [
        what
        for what, there in (
            ("/dev/fuse", os.access("/dev/fuse", os.R_OK | os.W_OK)),
            (_HELPER, shutil.which(_HELPER) is not None),
            ("libfuse3", ctypes.util.find_library("fuse3") is not None),
        )
        if not there
    ]
    if missing:
        raise PlaceError(
            tr("Earlier versions cannot be shown as folders here: {missing} is missing").format(
                missing=", ".join(missing)
            ),
            tr("Install the package fuse3; in a container use “good-tide restore … --into FOLDER”"),
        )


def begin(wish: MountWish) -> tuple[Begun, subprocess.Popen[bytes]]:
    """Mount, by a process of its own.

    Raises:
        PersonError: the folder cannot be taken for it. PlaceError: it cannot be mounted.
    """
    check_possible()
    wish = _with_folder(wish)
    process = subprocess.Popen(
        [sys.executable, "-m", "good_tide.operations.mount.process"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )
    assert process.stdin is not None and process.stdout is not None
    with contextlib.suppress(BrokenPipeError):
        process.stdin.write(msgspec.json.encode(wish) + b"\n")
        process.stdin.flush()
    timer = threading.Timer(_BEGIN_SECONDS, process.kill)
    timer.start()
    try:
        line = process.stdout.readline()
    except BaseException:
        process.kill()
        raise
    finally:
        timer.cancel()
    begun = (
        msgspec.json.decode(line, type=Begun) if line else Begun(what=tr("The process of the mount ended"))
    )
    if begun.what:
        process.stdin.close()
        process.stdout.close()
        process.wait()
        raise PlaceError(begun.what, begun.todo)
    return begun, process


def _with_folder(wish: MountWish) -> MountWish:
    """The wish with a folder that can be mounted on, which is made if it is not there."""
    folder = os.path.realpath(wish.folder)  # as the mount table has it
    for one in mounted():
        if one.folder == folder and not one.answers:
            unmounted(folder, lazily=True)  # left by a process that was killed
    for job in load_jobs(Path(wish.settings)) if wish.settings else ():
        if job.rhythm.on_change and any(_is_in(folder, covered) for covered in job.folders):
            raise PersonError(
                tr("{folder} lies in a folder that is watched for changes").format(folder=folder),
                tr("Name a folder outside the covered ones"),
            )
    if folder in {mount.point for mount in read_mounts()}:
        raise PersonError(
            tr("Something is mounted in {folder} already").format(folder=folder),
            tr("Name another folder, or unmount that first"),
        )
    try:
        os.mkdir(folder, 0o700)
        made = True
    except FileExistsError:
        made = False
    except OSError as error:
        raise PersonError(
            tr("The folder {folder} cannot be made ({strerror})").format(
                folder=folder, strerror=os.strerror(error.errno or 0)
            ),
            tr("Name one in your home folder"),
        ) from None
    try:
        if os.listdir(folder):
            raise PersonError(
                tr("{folder} is not empty").format(folder=folder),
                tr("Name an empty folder, or one that is not there yet"),
            )
    except NotADirectoryError:
        raise PersonError(
            tr("{folder} is no folder").format(folder=folder), tr("Name an empty folder")
        ) from None
    return msgspec.structs.replace(wish, folder=folder, made=made)


def _is_in(path: str, folder: str) -> bool:
    return (path + "/").startswith(folder.rstrip("/") + "/")


def mounted() -> list[Mounted]:
    """The mounts of this program that this person sees."""
    return [
        Mounted(mount.point, mount.source, _answers(mount.point))
        for mount in read_mounts()
        if mount.type == OWN_TYPE
    ]


def _answers(folder: str) -> bool:
    """Whether the process of a mount is there; one that is busy counts as there."""
    found: list[int] = []

    def look() -> None:
        try:
            os.stat(folder)
            found.append(0)
        except OSError as error:
            found.append(error.errno or 0)

    thread = threading.Thread(target=look, daemon=True)
    thread.start()
    thread.join(_STAT_SECONDS)
    return not found or found[0] != errno.ENOTCONN


def end(folder: Path, by_force: bool = False) -> None:
    """Unmount.

    :param by_force: at once, whoever has something open in it.

    Raises:
        PersonError: it is no mount of this program, or somebody uses it.
    """
    where = os.path.realpath(folder)
    if where not in {one.folder for one in mounted()}:
        raise PersonError(
            tr("No earlier versions are mounted in {folder}").format(folder=folder),
            tr("“good-tide mounts” says where they are"),
        )
    if not unmounted(where, lazily=by_force):
        raise PersonError(
            tr("{folder} is in use").format(folder=folder),
            tr("Close what is open in it and leave it, or use --force"),
        )


def clear_dead() -> int:
    """Unmount what processes left that were killed. How many there were."""
    dead = [one.folder for one in mounted() if not one.answers]
    return sum(unmounted(folder, lazily=True) for folder in dead)


def unmounted(folder: str, lazily: bool = False) -> bool:
    """Unmount; whether it worked. Lazily: nobody sees it from now on, and it goes when nobody uses it."""
    command = [_HELPER, "-u", *(["-z"] if lazily else []), "--", folder]
    with contextlib.suppress(OSError):
        return subprocess.run(command, capture_output=True, check=False).returncode == 0
    return False
