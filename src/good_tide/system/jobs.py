"""Jobs on disk: one TOML file each, in the folder ``jobs`` of a settings folder."""

from __future__ import annotations

import contextlib
import os
import re
from pathlib import Path

import msgspec
import platformdirs
import tomli_w

from good_tide.core.errors import PersonError
from good_tide.core.settings import Job

_FOLDER = "jobs"


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
    """Name, modification time and number of each job's file: changes when a job was changed, made or removed."""
    found = []
    for file in sorted((settings / _FOLDER).glob("*.toml")):
        with contextlib.suppress(OSError):
            info = file.stat()
            found.append((file.name, info.st_mtime_ns, info.st_ino))
    return tuple(found)


def _file(settings: Path, name: str) -> Path:
    plain = re.sub(r"[^\w-]+", "-", name.casefold()).strip("-") or "job"
    return settings / _FOLDER / f"{plain}.toml"


def save_job(settings: Path, job: Job) -> None:
    """Write a job's settings, in place of a job of the same name."""
    file = _file(settings, job.name)
    file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    new = file.with_suffix(".new")
    new.write_text(tomli_w.dumps(msgspec.to_builtins(job)))
    new.replace(file)


def remove_job(settings: Path, name: str) -> None:
    """Remove a job's settings; its stores stay as they are."""
    _file(settings, name).unlink(missing_ok=True)


def load_jobs(settings: Path) -> list[Job]:
    """All jobs in the order of their names.

    Raises:
        PersonError: a file cannot be understood.
    """
    jobs = []
    for file in sorted((settings / _FOLDER).glob("*.toml")):
        try:
            jobs.append(msgspec.toml.decode(file.read_bytes(), type=Job))
        except (msgspec.MsgspecError, UnicodeDecodeError, ValueError) as error:
            raise PersonError(f"{file} cannot be understood: {error}", "Correct it, or move it away to set the job up again") from error
    return sorted(jobs, key=lambda job: job.name.casefold())
