"""What the agent has around it; stand-ins in tests and in the demo."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec

from good_tide.core.identifiers import JobId
from good_tide.system.announced import AnnouncedServers
from good_tide.system.bus import Bus
from good_tide.system.choosing import ProgramChoice
from good_tide.system.disks import Disks
from good_tide.system.notices import DesktopNotices, Notices
from good_tide.system.power import Power
from good_tide.system.surroundings import Surroundings, SystemSurroundings


class Environment(msgspec.Struct, kw_only=True, frozen=True):
    """Everything that the agent asks of its machine.

    :param disks: which disks there are.
    :param notices: where people are told.
    :param show: opens the window at a view of a job.
    :param open_with: lets a person choose the program for a file.
    :param announced: addresses of servers that announce themselves in the network.
    """

    disks: Disks
    surroundings: Surroundings
    power: Power
    notices: Notices
    show: Callable[[JobId, str], None]
    open_with: Callable[[Path], None]
    announced: Callable[[], list[str]]


def system_environment(disks: Disks, show: Callable[[JobId, str], None]) -> Environment:
    """This machine itself."""
    system, session = Bus("system"), Bus("session")
    return Environment(
        disks=disks,
        surroundings=SystemSurroundings(system, session),
        power=Power(system),
        notices=DesktopNotices(session),
        show=show,
        open_with=ProgramChoice(session).open_with,
        announced=AnnouncedServers(system).addresses,
    )
