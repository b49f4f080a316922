"""What is known of a job, from which its status is told, and what somebody should look at."""

from __future__ import annotations

import enum

import msgspec

from good_tide.core.health import StoreTrouble
from good_tide.core.planning import Wait
from good_tide.core.progress import WorkKind


class StoreState(enum.StrEnum):
    """What can be said of the store that a job's history is shown from; ``UNKNOWN`` before it was looked
    at."""

    UNKNOWN = "unknown"
    NO_JOB = "no-job"
    AWAY = "away"
    LOCKED = "locked"
    DAMAGED = "damaged"
    REPLACED = "replaced"
    CATCHING_UP = "catching-up"
    EMPTY = "empty"
    READY = "ready"


class Topic(enum.StrEnum):
    """What a trouble is about: the same topic is the same trouble, however its words change."""

    ALARM = "alarm"
    DAMAGE = "damage"
    LOCKED = "locked"
    FAILING = "failing"
    GAPS = "gaps"
    AWAY = "away"
    FIRST = "first"
    LATE = "late"
    FULL = "full"
    STORE = "store"


class Trouble(msgspec.Struct, frozen=True):
    """Something that somebody should look at: since when (nanoseconds since 1970 UTC), what, what to do, and
    what it is about."""

    since: int
    what: str
    todo: str
    topic: Topic


class JobFacts(msgspec.Struct, frozen=True, kw_only=True):
    """What is known of a job. Times in nanoseconds since 1970 UTC, 0: never or not.

    :param state: of its store.
    :param disk: what people call the disk.
    :param last: the newest snapshot, ``gaps`` files missing from it, some of them in ``gap_names``.
    :param next: when the next run begins by itself.
    :param due: since when one is due, and ``wait`` what it waits for, until ``wait_until``, at the very
        latest until ``wait_latest``. 0: not known.
    :param locked: what its stores are called that nobody can open by himself; ``name`` what the job is.
    :param working: what is being done, None: nothing.
    :param away_why: why its server cannot be used, in sentences; empty: it is a disk.
    :param held: snapshots in the holding area; ``holding`` whether it takes more.
    :param alarm: files were destroyed, as it seems, in words; ``alarm_since`` when.
    :param stores: what somebody should look at about each of the stores.
    :param strange: what is not as it should be with a store, each with what to do.
    :param free: room on the disk, None while not known; ``room_on`` what the disk is called, where that is
        not what the store is.
    :param full_in_days: ``forecast.days_left``.
    """

    state: StoreState
    disk: str = ""
    by_hand: bool = False
    last: int = 0
    gaps: int = 0
    gap_names: tuple[str, ...] = ()
    next: int = 0
    due: int = 0
    wait: Wait | None = None
    wait_until: int = 0
    wait_latest: int = 0
    battery: float | None = None
    paused_until: int = 0
    away_since: int = 0
    away_why: str = ""
    held: int = 0
    holding: bool = False
    failures: int = 0
    failing_since: int = 0
    error: str = ""
    advice: str = ""
    working: WorkKind | None = None
    work_paused: bool = False
    free: int | None = None
    room_on: str = ""
    full_in_days: float | None = None
    damage: tuple[str, ...] = ()
    alarm: str = ""
    alarm_since: int = 0
    stores: tuple[StoreTrouble, ...] = ()
    strange: tuple[tuple[str, str], ...] = ()
    locked: tuple[str, ...] = ()
    name: str = ""
