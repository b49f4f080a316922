"""An agent's surroundings for tests: nothing of the machine that the tests run on."""

from __future__ import annotations

from pathlib import Path

from good_tide.agent.upkeep import Around
from good_tide.operations.stores.disks import disks_for
from good_tide.system.stand_in_desktop import StandInNotices, StandInPower, StandInSurroundings


def quiet(
    settings: Path,
    notices: StandInNotices | None = None,
    power: StandInPower | None = None,
    surroundings: StandInSurroundings | None = None,
) -> Around:
    """Surroundings in which nothing hinders and nobody is told."""
    return Around(
        disks=disks_for(settings),
        surroundings=surroundings or StandInSurroundings(),
        power=power or StandInPower(),
        notices=notices or StandInNotices(),
        show=lambda job, place: None,
    )
