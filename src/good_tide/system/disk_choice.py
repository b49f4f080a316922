"""Which disks there are: those of this machine, or stand-ins that its settings name."""

from __future__ import annotations

import os
from pathlib import Path

from good_tide.system.disks import Disks, SystemDisks
from good_tide.system.stand_in_disks import StandInDisks

STAND_IN_FILE = "stand-in-disks"
"""A file in the settings folder that names the rack of stand-in disks to use in place of the real ones."""


def disks_for(settings: Path) -> Disks:
    """The disks of this machine, or the stand-ins that its settings name."""
    named = settings / STAND_IN_FILE
    if os.path.isfile(named):
        return StandInDisks(Path(named.read_text(encoding="utf-8").strip()))
    return SystemDisks()
