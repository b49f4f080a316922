"""What the agent does next for a job, decided from facts and a rhythm; nothing is remembered here.

Everything due up to ``JobRecord.served`` has been run. A due time after that, however many there are, is one
run. The moment a run begins becomes ``served`` when it ends well, so that nothing is lost by a crash, and
nothing runs twice.
"""

from __future__ import annotations

import enum
from typing import Literal

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.hours import Hours
from good_tide.core.rhythm import SHORTEST_MINUTES, Considerate, Rhythm

_MINUTE = 60 * SECOND
CLOCK_SLACK = 10 * _MINUTE
"""A clock set back by less is waited for; by more, the rhythm begins again from the new time."""
_FIRST_RETRY, _LAST_RETRY = 5 * _MINUTE, 60 * _MINUTE
_BUSY_LOAD = 1.5
"""Runnable processes for each processor, above which the machine is busy."""
LOOK_AGAIN = 60 * SECOND
"""How soon something that is waited for is looked at again, if nothing tells of it."""


Then = Literal["suspend", "power-off"]
"""What the machine does after the last run of the day."""


class Occasion(enum.StrEnum):
    """Why a run begins."""

    TIME = "time"
    DISK = "disk"
    CHANGE = "change"
    HAND = "hand"


class Wait(enum.StrEnum):
    """What a due run waits for. Ordered as they are told: the first that holds."""

    PAUSED = "paused"
    DISK = "disk"
    SETTLING = "settling"
    RETRY = "retry"
    HOURS = "hours"
    BATTERY = "battery"
    METERED = "metered"
    PRESENTING = "presenting"
    BUSY = "busy"


class JobRecord(msgspec.Struct, frozen=True, omit_defaults=True):
    """What is remembered of a job's runs. Times in nanoseconds since 1970 UTC, 0: never.

    :param failures: runs in a row that failed, the last ``failed`` at with ``error``; ``failing_since`` the
        first of them.
    :param begun: when a run began that has not ended yet.
    :param last_disk: when the last run into a disk began.
    """

    served: int = 0
    failures: int = 0
    failed: int = 0
    failing_since: int = 0
    error: str = ""
    advice: str = ""
    begun: int = 0
    last_disk: int = 0


class Conditions(msgspec.Struct, frozen=True):
    """What the machine is doing besides. ``battery`` in percent while it runs on battery, None on mains or
    where it is not known."""

    battery: float | None = None
    metered: bool = False
    presenting: bool = False
    load: float = 0.0


class Facts(msgspec.Struct, frozen=True):
    """One job now.

    :param disk_here: whether a store can take the snapshot.
    :param disk_came: when its disk came while the agent ran, 0: before.
    :param holding: whether the holding area takes it while the disk is away.
    :param held: whether snapshots wait in the holding area of a store that is here.
    :param changed: when the newest change was seen that no snapshot has yet, 0: none.
    :param paused_until: 0: not paused.
    :param unwatched: the folders cannot be watched though the rhythm wants it: changes are supposed as often
        as runs may be.
    """

    disk_here: bool
    disk_came: int = 0
    holding: bool = False
    changed: int = 0
    paused_until: int = 0
    conditions: Conditions = Conditions()
    unwatched: bool = False
    held: bool = False


class Decision(msgspec.Struct, frozen=True):
    """What to do now.

    :param run: the occasion of a run that begins now. :param wait: what a due run waits for.
    :param due: since when a run is due. :param look: when to decide anew, None: only when something happens.
    :param latest: when it runs though it would have to wait, where that is bounded.
    """

    run: Occasion | None = None
    wait: Wait | None = None
    due: int | None = None
    look: int | None = None
    latest: int | None = None


def after_clock(record: JobRecord, now: int) -> JobRecord:
    """The record with times that a clock set back has put far into the future brought to now."""
    if record.served <= now + CLOCK_SLACK and record.failed <= now + CLOCK_SLACK:
        return record
    return msgspec.structs.replace(record, served=min(record.served, now), failed=min(record.failed, now))


def decide(rhythm: Rhythm, record: JobRecord, facts: Facts, now: int, spread: int, zone: str) -> Decision:
    """What to do now for a job whose record is ``after_clock``.

    :param spread: this machine's share of the spread, nanoseconds.
    :param zone: IANA name of the time zone that hours are meant in.
    """
    occasion, due = _due(rhythm, record, facts, now, spread)
    if occasion is None or due is None:
        return Decision(look=_next_look(rhythm, record, facts, now, spread, zone))
    wait, until = _hindrance(rhythm, record, facts, now, zone)
    latest = due + rhythm.considerate.load_at_most_minutes * _MINUTE if wait is Wait.BUSY else None
    if wait is None or (latest is not None and latest <= now):
        return Decision(run=occasion, due=due)
    if latest is not None and until is not None:
        return Decision(wait=wait, due=due, look=min(until, latest), latest=latest)
    return Decision(wait=wait, due=due, look=until)


def _due(
    rhythm: Rhythm, record: JobRecord, facts: Facts, now: int, spread: int
) -> tuple[Occasion | None, int | None]:
    """Since when a run is due, and on which occasion; of several the longest due."""
    found: list[tuple[int, Occasion]] = []
    last = rhythm.last_due(now - spread)
    if last is not None and last + spread > record.served:
        first = rhythm.next_due(record.served - spread) if record.served else last
        found.append(((last if first is None else first) + spread, Occasion.TIME))
    at_once = rhythm.on_disk or (facts.held and not rhythm.by_hand)
    if at_once and facts.disk_here and facts.disk_came > record.served:
        found.append((facts.disk_came, Occasion.DISK))
    rest = _rest_time(rhythm, record, facts)
    if rest is not None and rest <= now:
        found.append((rest, Occasion.CHANGE))
    if not found:
        return None, None
    due, occasion = min(found)
    return occasion, due


def _rest_time(rhythm: Rhythm, record: JobRecord, facts: Facts) -> int | None:
    """When files will have come to rest if nothing more changes."""
    if not rhythm.on_change:
        return None
    if facts.unwatched:
        return record.served + max(rhythm.at_most_minutes, SHORTEST_MINUTES) * _MINUTE
    if not facts.changed:
        return None
    return max(
        facts.changed + rhythm.quiet_seconds * SECOND, record.served + rhythm.at_most_minutes * _MINUTE
    )


def _hindrance(
    rhythm: Rhythm, record: JobRecord, facts: Facts, now: int, zone: str
) -> tuple[Wait | None, int | None]:
    """What a due run waits for, and when to look again."""
    if facts.paused_until > now:
        return Wait.PAUSED, facts.paused_until
    if not facts.disk_here and not facts.holding:
        return Wait.DISK, None
    settled = facts.disk_came + rhythm.settle_seconds * SECOND
    if facts.disk_here and facts.disk_came and facts.disk_came <= now < settled:
        return Wait.SETTLING, settled
    retry = retry_at(record)
    if retry > now and facts.disk_came <= record.failed:
        return Wait.RETRY, retry
    hours = Hours.of(rhythm.allowed)
    if not hours.is_open(now, zone):
        return Wait.HOURS, hours.next_open(now, zone)
    wait = hindered_by(rhythm.considerate, facts.conditions)
    return wait, now + LOOK_AGAIN if wait is not None else None


def hindered_by(considerate: Considerate, conditions: Conditions) -> Wait | None:
    """Which of the chosen considerations speaks against an automatic run now."""
    if conditions.battery is not None and conditions.battery < considerate.battery_below:
        return Wait.BATTERY
    if considerate.metered and conditions.metered:
        return Wait.METERED
    if considerate.presenting and conditions.presenting:
        return Wait.PRESENTING
    if considerate.load and conditions.load > _BUSY_LOAD:
        return Wait.BUSY
    return None


def retry_at(record: JobRecord) -> int:
    """When a run that failed is tried again: 5 minutes later, then twice as long each time, up to an hour."""
    if not record.failures:
        return 0
    return record.failed + min(_FIRST_RETRY << min(record.failures - 1, 10), _LAST_RETRY)


def _next_look(
    rhythm: Rhythm, record: JobRecord, facts: Facts, now: int, spread: int, zone: str
) -> int | None:
    """When something will be due by itself."""
    times = [
        next_start(rhythm, max(now, record.served), spread, zone, facts.paused_until),
        _rest_time(rhythm, record, facts),
    ]
    return min((time for time in times if time is not None), default=None)


def next_start(rhythm: Rhythm, after: int, spread: int, zone: str, paused_until: int = 0) -> int | None:
    """When the next timed run begins."""
    start = next(rhythm.starts(after, spread, zone), None)
    return None if start is None else max(start, paused_until)


def began(record: JobRecord, now: int) -> JobRecord:
    """The record when a run begins."""
    return msgspec.structs.replace(record, begun=now)


def cut_off(record: JobRecord) -> JobRecord:
    """The record after a run that ended with the agent: what was due stays due."""
    return msgspec.structs.replace(record, begun=0)


def ended(record: JobRecord, begun: int, into_disk: bool) -> JobRecord:
    """The record after a run that went well."""
    return JobRecord(served=begun, last_disk=begun if into_disk else record.last_disk)


def failed(record: JobRecord, now: int, error: str, advice: str) -> JobRecord:
    """The record after a run that failed: what was due stays due."""
    return msgspec.structs.replace(
        record,
        failures=record.failures + 1,
        failed=now,
        failing_since=record.failing_since or now,
        error=error,
        advice=advice,
        begun=0,
    )
