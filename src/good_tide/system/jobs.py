"""The job's settings on disk: ``job.toml`` in a settings folder."""

from __future__ import annotations

from pathlib import Path

import msgspec
import platformdirs
import tomli_w

from good_tide.core.errors import PersonError
from good_tide.core.settings import Job

JOB_FILE = "job.toml"


def settings_folder() -> Path:
    """The person's settings folder by the XDG base-directory standard."""
    return Path(platformdirs.user_config_dir("good-tide"))


def save_job(folder: Path, job: Job) -> None:
    """Write the job's settings."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    values = {key: value for key, value in msgspec.to_builtins(job).items() if value is not None}
    temporary = folder / f".{JOB_FILE}.new"
    temporary.write_text(tomli_w.dumps(values))
    temporary.replace(folder / JOB_FILE)


def load_job(folder: Path) -> Job | None:
    """The job's settings, None where there are none yet.

    Raises:
        PersonError: the file cannot be understood.
    """
    file = folder / JOB_FILE
    if not file.exists():
        return None
    try:
        return msgspec.toml.decode(file.read_bytes(), type=Job)
    except (msgspec.MsgspecError, UnicodeDecodeError, ValueError) as error:
        raise PersonError(f"{file} cannot be understood: {error}", "Correct it, or remove it to begin again") from error
