"""What the agent and its clients say to each other about what happens by itself: rhythm, journal, room, the
panel's icon.

Times are nanoseconds since 1970 UTC, sizes bytes.
"""

from __future__ import annotations

import msgspec

from good_tide.core.forecast import Curve, FullIn
from good_tide.core.happenings import Event, LeftOutFile, Run
from good_tide.core.ladder import Ladder
from good_tide.core.rhythm import Rhythm
from good_tide.core.settings import Holding, MailServer, Noise, Reporting, Room
from good_tide.core.status import JobStanding


class LeftOutView(msgspec.Struct, frozen=True):
    """A file that the last runs left out; ``rule`` is offered for those that fail again and again."""

    file: LeftOutFile
    rule: str = ""


class JournalView(msgspec.Struct):
    """What happened, newest first: events that fit the filter, all runs of the job, and what they left
    out."""

    events: tuple[Event, ...]
    runs: tuple[Run, ...]
    left_out: tuple[LeftOutView, ...]


class RhythmView(msgspec.Struct):
    """When a job runs: its settings, in words, and the next due times with what moves them.

    :param zone: IANA name of the zone that new rules are written in.
    :param spread: seconds that this machine's runs begin later.
    :param paused_until: 0: not paused.
    :param watching: what continuous mode says of itself; empty: it is off.
    :param stays: whether an agent runs when no window is open; None: that is not for this job's agent to say.
    :param ladder: how dense history stays.
    :param agreed: the ladder that was last agreed to.
    :param pinned: labels by snapshots' names.
    :param precious: patterns of files whose every version stays.
    """

    rhythm: Rhythm
    holding: Holding
    noise: Noise
    reporting: Reporting
    words: str
    next: tuple[int, ...]
    zone: str
    spread: float = 0.0
    paused_until: int = 0
    holding_room: int = 0
    watching: str = ""
    stays: bool | None = None
    mail: str = ""
    ladder: Ladder = Ladder()
    agreed: Ladder = Ladder()
    pinned: dict[str, str] = {}
    precious: tuple[str, ...] = ()


class PanelView(msgspec.Struct):
    """What the panel's icon shows. ``ejectable``: disks with their stores' folders."""

    standings: tuple[JobStanding, ...]
    now: int
    working: bool = False
    paused_until: int = 0
    ejectable: tuple[tuple[str, str], ...] = ()


class MachineView(msgspec.Struct, frozen=True):
    """A machine's job as a store knows it. ``late`` in nanoseconds, 0 when it is in time; ``rhythm`` in
    words, empty where not known."""

    machine: str
    job: str
    last: int
    late: int
    snapshots: int
    rhythm: str = ""
    mine: bool = False


class RoomView(msgspec.Struct, frozen=True):
    """Room of a store. ``usable``: bytes that may still be added; ``curve`` by the end of each coming week;
    ``full`` in days.

    :param short: how much is missing to keep limit and reserve.
    """

    room: Room
    usable: int
    short: int = 0
    full: FullIn | None = None
    curve: Curve | None = None


class MailView(msgspec.Struct):
    """The mail server that this machine's reports go through; None while there is none."""

    server: MailServer | None
