"""What the agent is and does: its version, what it works on, everything a window shows before anything is
chosen."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.core.history import KnownHistory
from good_tide.core.identifiers import HistoryId, JobId, SnapshotId, StoreId
from good_tide.core.job_facts import StoreState
from good_tide.core.progress import Progress, WorkKind
from good_tide.core.settings import StoreUse
from good_tide.core.standing import JobStanding
from good_tide.core.tide import NO_TIDE, Tide
from good_tide.protocol.contract import Call, Note, Topic


class AgentFacts(msgspec.Struct, frozen=True):
    """What the agent says of itself."""

    version: str
    protocol: int
    process: int


class Hello(Call[AgentFacts], frozen=True):
    """Who is there."""


class Work(msgspec.Struct, frozen=True):
    """What the agent is doing; ``easy``: with rests."""

    what: WorkKind
    paused: bool
    progress: Progress
    seconds: float
    easy: bool = False


class StoreView(msgspec.Struct, frozen=True):
    """A store and the disk it is on.

    :param where: how its place is called: its folder, on a disk.
    :param by_age: stored bytes added in each of the past weeks, oldest first; of the store that is looked
        into.
    :param shown: whether history is shown from this store.
    :param replaced: its disk was replaced or emptied: another store is in its place, or none.
    :param why: why its server cannot be used now; empty for disks.
    :param left: snapshots that waited for the disk before, and could not be carried into this store.
    """

    id: StoreId
    where: str
    disk: str
    present: bool
    encrypted: bool
    hint: str = ""
    stored: int = 0
    disk_total: int = 0
    disk_free: int = 0
    file_system: str = ""
    by_age: tuple[tuple[int, int], ...] = ()
    snapshots: int = 0
    shown: bool = False
    trouble: str = ""
    removable: bool = False
    replaced: bool = False
    left: int = 0
    why: str = ""


class JobName(msgspec.Struct, frozen=True):
    """A job, and what it is called."""

    id: JobId
    name: str


class Overview(msgspec.Struct, frozen=True):
    """Everything that a window shows before anything is chosen.

    :param history_read: while catching up: snapshots read, and in all.
    :param trouble: what is wrong, with what to do, in sentences.
    :param history: stands for the snapshots of the job: answers with another one are of another history.
    :param kept: so many of the snapshots that the asker knows are the first of it; ``tide`` are those after
        them.
    :param reading: another machine's store, opened only to read.
    :param kinds: what the job adds to the kinds of files.
    :param pinned: labels of pinned snapshots.
    :param lost: how many versions have lost content, by what is known.
    """

    state: StoreState
    job: JobId = JobId("")
    name: str = ""
    machine: str = ""
    now: int = 0
    standing: JobStanding | None = None
    trouble: tuple[str, ...] = ()
    stores: tuple[StoreView, ...] = ()
    store_use: StoreUse = "both"
    rules: tuple[str, ...] = ()
    kinds: dict[str, tuple[str, ...]] = {}
    jobs: tuple[JobName, ...] = ()
    reading: bool = False
    history_read: tuple[int, int] = (0, 0)
    covered: tuple[str, ...] = ()
    home: str = ""
    history: HistoryId = HistoryId("")
    kept: int = 0
    tide: Tide = NO_TIDE
    pinned: dict[SnapshotId, str] = {}
    lost: int = 0
    work: Work | None = None

    @property
    def store(self) -> StoreView | None:
        """The store that is looked into; the first while none is."""
        return next((store for store in self.stores if store.shown), self.stores[0] if self.stores else None)


class ReadOverview(Call[Overview], frozen=True):
    """Everything a window shows of a job; of the first one there is, if there is none with this identity.

    :param known: what the asker knows of the job's history, longest first, so that only what it does not know
        is sent.
    """

    may_block: ClassVar[bool] = True
    job: JobId
    known: tuple[KnownHistory, ...] = ()


class PauseWork(Call[None], frozen=True):
    """Let what the agent does wait."""


class ResumeWork(Call[None], frozen=True):
    """Let what the agent does go on."""


class StopWork(Call[None], frozen=True):
    """End what the agent does soon; what was finished is kept."""


class TakeItEasy(Call[None], frozen=True):
    """Let what the agent does rest between stretches, or go at full speed."""

    on: bool


class StayRunning(Call[None], frozen=True):
    """Start the agent with every session from now on, or no longer."""

    may_block: ClassVar[bool] = True
    on: bool


class RestoreResult(msgspec.Struct, frozen=True):
    """What a restore did. ``undo``: the folders by which all of it is undone; ``targets``: where what
    it brought is."""

    created: int
    replaced: int
    identical: int
    skipped: int
    bytes: int
    set_aside: tuple[str, ...]
    problems: tuple[str, ...]
    strange: int = 0
    checked: int = 0
    undo: tuple[str, ...] = ()
    targets: tuple[str, ...] = ()


class WorkGoesOn(Note, frozen=True):
    """How far the agent's work has come; None: it does nothing."""

    topic: ClassVar[Topic] = Topic.WORK
    work: Work | None


class WorkEnded(Note, frozen=True):
    """The agent ended some work. ``error`` is a sentence, empty when it went well; ``problems`` what is not
    there, in sentences; ``place`` the folder in which what it made can be seen."""

    topic: ClassVar[Topic] = Topic.WORK
    what: WorkKind
    error: str = ""
    restore: RestoreResult | None = None
    words: str = ""
    problems: tuple[str, ...] = ()
    place: str = ""


class HistoryChanged(Note, frozen=True):
    """A job's history, or the job itself, is another one than before; every job's where none is named."""

    topic: ClassVar[Topic] = Topic.HISTORY
    job: JobId = JobId("")


class StandingsChanged(Note, frozen=True):
    """How all jobs stand now."""

    topic: ClassVar[Topic] = Topic.STANDINGS
    standings: tuple[JobStanding, ...]


class DisksChanged(Note, frozen=True):
    """A disk came or went."""

    topic: ClassVar[Topic] = Topic.DISKS
