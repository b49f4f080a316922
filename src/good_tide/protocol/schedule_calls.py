"""What happens by itself: the rhythm, the ladder, pauses, the last run of the day, and how everything
stands."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.core.identifiers import JobId, SnapshotId, StoreId
from good_tide.core.ladder import Ladder
from good_tide.core.planning import Then
from good_tide.core.rhythm import Rhythm
from good_tide.core.settings import Holding, LineLimit, Noise, Reporting
from good_tide.core.standing import JobStanding
from good_tide.protocol.contract import Call, JobCall


class TakeSnapshot(JobCall[None], frozen=True):
    """Begin a snapshot of the job."""

    may_block: ClassVar[bool] = True


class ReadStandings(Call[list[JobStanding]], frozen=True):
    """How all jobs stand."""

    may_block: ClassVar[bool] = True


class EjectableDisk(msgspec.Struct, frozen=True):
    """A disk that can be taken away, with a store on it that leads to it."""

    name: str
    job: JobId
    store: StoreId


class PanelView(msgspec.Struct, frozen=True):
    """What the panel's icon shows."""

    standings: tuple[JobStanding, ...]
    now: int
    working: bool = False
    paused_until: int = 0
    ejectable: tuple[EjectableDisk, ...] = ()


class ReadPanel(Call[PanelView], frozen=True):
    """What the panel's icon shows."""

    may_block: ClassVar[bool] = True


class RhythmView(msgspec.Struct, frozen=True):
    """When a job runs: its settings, in words, and the next due times with what moves them.

    :param zone: IANA name of the zone that new rules are written in.
    :param spread: seconds that this machine's runs begin later.
    :param paused_until: 0: not paused.
    :param watching: what continuous mode says of itself; empty: it is off.
    :param stays: whether an agent runs when no window is open; None: that is not for this job's agent to say.
    :param ladder: how dense history stays.
    :param agreed: the ladder that was last agreed to.
    :param pinned: labels by snapshots.
    :param precious: patterns of files whose every version stays.
    :param on_server: whether a store of it is on a server or a share, so that the limits of the line
        (``line``) hold.
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
    pinned: dict[SnapshotId, str] = {}
    precious: tuple[str, ...] = ()
    line: LineLimit = LineLimit()
    on_server: bool = False


class ReadRhythm(JobCall[RhythmView], frozen=True):
    """When the job runs."""


class RhythmChange(msgspec.Struct, frozen=True):
    """When a job runs from now on, and what goes with it."""

    rhythm: Rhythm
    holding: Holding
    noise: Noise
    reporting: Reporting
    line: LineLimit


class TryRhythm(JobCall[RhythmView], frozen=True):
    """How it would be with other settings; nothing is kept."""

    change: RhythmChange


class KeepRhythm(JobCall[RhythmView], frozen=True):
    """Keep when the job runs."""

    change: RhythmChange


class KeepLadder(JobCall[None], frozen=True):
    """Another ladder for the job; ``agreed``: the person saw what it releases. ``precious``: patterns; None:
    as they are."""

    ladder: Ladder
    agreed: bool = False
    precious: tuple[str, ...] | None = None


class PauseRhythm(Call[None], frozen=True):
    """Let nothing run by itself until a moment; 0: go on."""

    until: int


class LookNow(Call[None], frozen=True):
    """Something was changed: look at everything now."""


class RunDue(Call[None], frozen=True):
    """Run everything that is due, then let the machine sleep; None: it stays on."""

    may_block: ClassVar[bool] = True
    then: Then | None = None
