"""Earlier versions in the menus of this person's file managers (``system.file_managers``)."""

from __future__ import annotations

from good_tide.operations.workplace import Workplace, load_jobs
from good_tide.system import service
from good_tide.system.file_managers import FileManagers, Standing
from good_tide.system.jobs import own_settings_folder


def file_managers(here: Workplace) -> FileManagers:
    """The file managers of the person."""
    return FileManagers(here.state / "shared-files.json")


def put_into_menus(here: Workplace) -> list[Standing]:
    """Put it into the menus of all file managers that are here; how it stands with these.

    Raises:
        PlaceError: something cannot be written. PersonError: a file of a manager's cannot be understood.
    """
    found = file_managers(here)
    found.install(
        service.own_command()[0], [folder for job in load_jobs(here.settings) for folder in job.folders]
    )
    return [one for one in found.standings() if one.there]


def may_be_offered(here: Workplace) -> list[str]:
    """The file managers that are here and do not show it yet; none where it is in one already, for a person
    who wanted it has it, and for settings that are not the person's own."""
    if here.settings != own_settings_folder():
        return []
    there = [one for one in file_managers(here).standings() if one.there]
    return [] if any(one.installed for one in there) else [one.name for one in there]
