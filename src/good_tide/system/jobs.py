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

from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.identifiers import JobId, job_id_of_name, new_job_id
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.system.file_managers import take_covered

JOBS_FOLDER = "jobs"
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
    for file in _files(settings):
        with contextlib.suppress(OSError):
            info = file.stat()
            found.append((file.name, info.st_mtime_ns, info.st_ino))
    return tuple(found)


def _files(settings: Path) -> list[Path]:
    return sorted((settings / JOBS_FOLDER).glob("*.toml"))


def _file_of(settings: Path, job: JobId) -> Path | None:
    """The file of a job; None if there is none."""
    for file in _files(settings):
        with contextlib.suppress(PersonError):
            if _read(file).id == job:
                return file
    return None


def _file_called(settings: Path, name: str) -> Path | None:
    """The file of the job of a name; None if there is none."""
    for file in _files(settings):
        with contextlib.suppress(PersonError):
            if _read(file).name.casefold() == name.casefold():
                return file
    return None


@contextlib.contextmanager
def _alone(settings: Path) -> Iterator[None]:
    """One change of the jobs' files at a time, on all of this machine."""
    folder = settings / JOBS_FOLDER
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    handle = os.open(folder / ".lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX)
        yield
        tell_file_managers(settings)
    finally:
        os.close(handle)


def tell_file_managers(settings: Path) -> None:
    """Let file managers know which folders are covered now; where that fails, they go by what they knew."""
    if settings == own_settings_folder():
        with contextlib.suppress(PersonError, PlaceError, OSError):
            take_covered(folder for job in load_jobs(settings) for folder in job.folders)


def save_job(settings: Path, job: Job) -> Job:
    """Write a job's settings in place of those it had, and of no other job's. Returns it with its identity:
    one without takes that of the job of its name, or gets one.

    Raises:
        PersonError: another job has its name.
    """
    with _alone(settings):
        called = _file_called(settings, job.name)
        file = _file_of(settings, job.id) if job.id else called
        if called is not None and called != file:
            raise taken(job.name)
        if file is None:
            return _write_new(settings, job)
        before = _read(file)
        kept = msgspec.structs.replace(_knowing_its_stores(job, before), id=before.id)
        _write(file, kept)
        return kept


def _knowing_its_stores(job: Job, before: Job) -> Job:
    """A job that goes on knowing what it knew of its stores, where it says nothing else of them."""
    known = {ref.place: ref for ref in before.stores}

    def knowing(ref: StoreRef) -> StoreRef:
        old = known.get(ref.place)
        if ref.store or old is None:
            return ref
        return msgspec.structs.replace(ref, store=old.store, encrypted=old.encrypted, keys=old.keys)

    return msgspec.structs.replace(job, stores=tuple(map(knowing, job.stores)))


def update_job(settings: Path, job: JobId, change: Callable[[Job], Job]) -> None:
    """Change a job's settings as they are at this moment; nothing if it is no longer there.

    Raises:
        PersonError: they cannot be understood.
    """
    with _alone(settings):
        file = _file_of(settings, job)
        if file is not None:
            before = _read(file)
            after = change(before)
            if after != before:
                _write(file, after)


def add_job(settings: Path, job: Job) -> Job:
    """Write the settings of a new job. Returns it with its identity.

    Raises:
        PersonError: there is a job of this name.
    """
    with _alone(settings):
        if _file_called(settings, job.name) is not None:
            raise taken(job.name)
        return _write_new(settings, job)


def _write_new(settings: Path, job: Job) -> Job:
    made = job if job.id else msgspec.structs.replace(job, id=new_job_id())
    _write(_free_file(settings, made.name), made)
    return made


def without_identity(settings: Path) -> list[Job]:
    """Jobs whose files are of a time when jobs had only names, with the identities that these stand for."""
    found = []
    for file in _files(settings):
        with contextlib.suppress(PersonError, OSError):
            if not msgspec.toml.decode(file.read_bytes(), type=_Identity).id:
                found.append(_read(file))
    return found


def keep_identity(settings: Path, job: JobId) -> None:
    """Write into a job's file the identity that its name stood for; everything else in it stays as it is."""
    with _alone(settings):
        file = _file_of(settings, job)
        if file is not None:
            _write_text(file, f'id = "{job}"\n{file.read_text(encoding="utf-8")}')


def taken(name: str) -> PersonError:
    """The error for a name that another job has."""
    return PersonError(
        tr("There is a job {name} already").format(name=name),
        tr("Give this one another name, or change that one with “good-tide job change”"),
    )


def _free_file(settings: Path, name: str) -> Path:
    """A file that no job has, called as the job is as far as that goes."""
    plain = re.sub(r"[^\w-]+", "-", name.casefold()).strip("-")[:_LONGEST_NAME] or "job"
    names = itertools.chain((plain,), (f"{plain}-{number}" for number in itertools.count(2)))
    return next(file for one in names if not (file := settings / JOBS_FOLDER / f"{one}.toml").exists())


def _write(file: Path, job: Job) -> None:
    _write_text(file, tomli_w.dumps(msgspec.to_builtins(job)))


def _write_text(file: Path, text: str) -> None:
    new = file.with_suffix(".new")
    try:
        new.write_text(text, encoding="utf-8")
        new.replace(file)
    except OSError as error:
        with contextlib.suppress(OSError):
            new.unlink()
        raise OSError(error.errno, error.strerror, str(file)) from error


def remove_job(settings: Path, job: JobId) -> None:
    """Remove a job's settings; its stores stay as they are."""
    with _alone(settings):
        file = _file_of(settings, job)
        if file is not None:
            file.unlink()


class _Identity(msgspec.Struct):
    id: str = ""


def _read(file: Path) -> Job:
    try:
        job = msgspec.toml.decode(file.read_bytes(), type=Job)
    except (msgspec.MsgspecError, UnicodeDecodeError, ValueError) as error:
        raise PersonError(
            tr("{file} cannot be understood: {error}").format(file=file, error=error),
            tr("Correct it, or move it away to set the job up again"),
        ) from error
    return job if job.id else msgspec.structs.replace(job, id=job_id_of_name(job.name))


def load_jobs(settings: Path) -> list[Job]:
    """All jobs in the order of their names.

    Raises:
        PersonError: a file cannot be understood, or two set up the same job, or jobs of the same name.
    """
    jobs: dict[str, Job] = {}
    identities: dict[JobId, Path] = {}
    for file in _files(settings):
        job = _read(file)
        if job.name.casefold() in jobs:
            raise PersonError(
                tr("{file} sets up a second job {name}").format(file=file, name=job.name),
                tr("Give one of them another name in it, or move one away"),
            )
        if job.id in identities:
            raise PersonError(
                tr("{file} has the same id as {identities}, as a copy of it has").format(
                    file=file, identities=identities[job.id]
                ),
                tr(
                    "Take the line with “id” out of the copy, so that it becomes a job of its own, or move it"
                    " away"
                ),
            )
        jobs[job.name.casefold()] = job
        identities[job.id] = file
    return [jobs[name] for name in sorted(jobs)]
