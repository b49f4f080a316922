"""Jobs on disk: one TOML file each, in the folder ``jobs`` of a settings folder."""

from __future__ import annotations

import contextlib
import fcntl
import itertools
import os
import re
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec
import platformdirs
import tomli_w

from good_tide.core.errors import PersonError
from good_tide.core.settings import Job, StoreRef

_FOLDER = "jobs"
_LONGEST_NAME = 80


SETTINGS_VARIABLE = "GOOD_TIDE_SETTINGS"
"""Names another settings folder than the person's own."""


def own_settings_folder() -> Path:
    """The person's settings folder by the XDG base-directory standard."""
    return Path(platformdirs.user_config_dir("good-tide"))


def settings_folder() -> Path:
    """The settings folder in use: the person's own, or the one that the environment names."""
    named = os.environ.get(SETTINGS_VARIABLE)
    return Path(os.path.abspath(named)) if named else own_settings_folder()


def use_settings(settings: Path) -> None:
    """Let this process, and those that it starts, use other settings."""
    os.environ[SETTINGS_VARIABLE] = os.path.abspath(settings)


def settings_stamp(settings: Path) -> tuple[tuple[str, int, int], ...]:
    """Name, modification time and number of each job's file: changes when a job was changed, made or
    removed."""
    found = []
    for file in sorted((settings / _FOLDER).glob("*.toml")):
        with contextlib.suppress(OSError):
            info = file.stat()
            found.append((file.name, info.st_mtime_ns, info.st_ino))
    return tuple(found)


def _file_of(settings: Path, name: str) -> Path | None:
    """The file of the job of a name; None if there is none."""
    for file in sorted((settings / _FOLDER).glob("*.toml")):
        with contextlib.suppress(PersonError):
            if _read(file).name.casefold() == name.casefold():
                return file
    return None


@contextlib.contextmanager
def _alone(settings: Path) -> Iterator[None]:
    """One change of the jobs' files at a time, on all of this machine."""
    folder = settings / _FOLDER
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    handle = os.open(folder / ".lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX)
        yield
    finally:
        os.close(handle)


def save_job(settings: Path, job: Job) -> None:
    """Write a job's settings, in place of a job of the same name and of no other."""
    with _alone(settings):
        file = _file_of(settings, job.name)
        _write(
            file or _free_file(settings, job.name),
            job if file is None else _knowing_its_stores(job, _read(file)),
        )


def _knowing_its_stores(job: Job, before: Job) -> Job:
    """A job that goes on knowing what it knew of its stores, where it says nothing else of them."""
    known = {ref.place: ref for ref in before.stores}

    def knowing(ref: StoreRef) -> StoreRef:
        old = known.get(ref.place)
        if ref.store or old is None:
            return ref
        return msgspec.structs.replace(ref, store=old.store, encrypted=old.encrypted, keys=old.keys)

    return msgspec.structs.replace(job, stores=tuple(map(knowing, job.stores)))


def update_job(settings: Path, name: str, change: Callable[[Job], Job]) -> None:
    """Change a job's settings as they are at this moment; nothing if there is none of that name.

    Raises:
        PersonError: they cannot be understood.
    """
    with _alone(settings):
        file = _file_of(settings, name)
        if file is not None:
            before = _read(file)
            after = change(before)
            if after != before:
                _write(file, after)


def add_job(settings: Path, job: Job) -> None:
    """Write the settings of a new job.

    Raises:
        PersonError: there is a job of this name.
    """
    with _alone(settings):
        if _file_of(settings, job.name) is not None:
            raise taken(job.name)
        _write(_free_file(settings, job.name), job)


def rename_job(settings: Path, before: str, job: Job) -> None:
    """Write a job's settings in place of those under another name.

    Raises:
        PersonError: another job has the new name.
    """
    with _alone(settings):
        old, other = _file_of(settings, before), _file_of(settings, job.name)
        if other is not None and other != old:
            raise taken(job.name)
        _write(old or _free_file(settings, job.name), job)


def taken(name: str) -> PersonError:
    """The error for a name that another job has."""
    return PersonError(
        f"There is a job {name} already",
        "Give this one another name, or change that one with “good-tide job change”",
    )


def _free_file(settings: Path, name: str) -> Path:
    """A file that no job has, called as the job is as far as that goes."""
    plain = re.sub(r"[^\w-]+", "-", name.casefold()).strip("-")[:_LONGEST_NAME] or "job"
    names = itertools.chain((plain,), (f"{plain}-{number}" for number in itertools.count(2)))
    return next(file for one in names if not (file := settings / _FOLDER / f"{one}.toml").exists())


def _write(file: Path, job: Job) -> None:
    new = file.with_suffix(".new")
    try:
        new.write_text(tomli_w.dumps(msgspec.to_builtins(job)))
        new.replace(file)
    except OSError as error:
        with contextlib.suppress(OSError):
            new.unlink()
        raise OSError(error.errno, error.strerror, str(file)) from error


def remove_job(settings: Path, name: str) -> None:
    """Remove a job's settings; its stores stay as they are."""
    with _alone(settings):
        file = _file_of(settings, name)
        if file is not None:
            file.unlink()


def _read(file: Path) -> Job:
    try:
        return msgspec.toml.decode(file.read_bytes(), type=Job)
    except (msgspec.MsgspecError, UnicodeDecodeError, ValueError) as error:
        raise PersonError(
            f"{file} cannot be understood: {error}", "Correct it, or move it away to set the job up again"
        ) from error


def load_jobs(settings: Path) -> list[Job]:
    """All jobs in the order of their names.

    Raises:
        PersonError: a file cannot be understood, or two set up a job of the same name.
    """
    jobs: dict[str, Job] = {}
    for file in sorted((settings / _FOLDER).glob("*.toml")):
        job = _read(file)
        if job.name.casefold() in jobs:
            raise PersonError(
                f"{file} sets up a second job {job.name}",
                "Give one of them another name in it, or move one away",
            )
        jobs[job.name.casefold()] = job
    return [jobs[name] for name in sorted(jobs)]
