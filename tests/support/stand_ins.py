"""An agent's surroundings for tests: nothing of the machine that the tests run on."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from good_tide.agent.environment import Environment
from good_tide.system.disk_choice import disks_for
from good_tide.system.stand_in_desktop import StandInNotices, StandInPower, StandInSurroundings


def quiet(
    settings: Path,
    notices: StandInNotices | None = None,
    power: StandInPower | None = None,
    surroundings: StandInSurroundings | None = None,
    open_with: Callable[[Path], None] = lambda file: None,
) -> Environment:
    """Surroundings in which nothing hinders and nobody is told."""
    return Environment(
        disks=disks_for(settings),
        surroundings=surroundings or StandInSurroundings(),
        power=power or StandInPower(),
        notices=notices or StandInNotices(),
        show=lambda job, view: None,
        open_with=open_with,
        announced=lambda: ["smb://pier.local/"],
    )
