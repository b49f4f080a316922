"""How a job stands: the facts that its status is computed from, gathered from this machine without any
passphrase."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.errors import GoodTideError
from good_tide.core.health import StoreHealth, StoreTrouble, left_trouble, proven_words, store_troubles
from good_tide.core.job_facts import JobFacts, StoreState, Topic, Trouble
from good_tide.core.places import DiskFacts
from good_tide.core.planning import Decision, Facts, JobRecord, after_clock, decide, next_start
from good_tide.core.progress import WorkKind
from good_tide.core.rhythm import spread_share
from good_tide.core.settings import Job, StoreRef
from good_tide.core.standing import JobStanding, StoreStanding
from good_tide.core.status import status
from good_tide.core.tide import NO_TIDE, Tide
from good_tide.core.translation import tr
from good_tide.core.words import printable
from good_tide.operations.context import Context, open_context
from good_tide.operations.records.store_memory import StoreMemory, others_write
from good_tide.operations.retention.room import PAST_DAYS, daily, room_facts
from good_tide.operations.stores import holding_area as areas
from good_tide.operations.stores.job_stores import JobStores, NobodyToAsk
from good_tide.operations.stores.left_behind import aside, left_count, left_since
from good_tide.operations.stores.opening import StorePlace, known_tide, store_id
from good_tide.operations.stores.passphrases import read_by_others
from good_tide.operations.stores.sizes import StoreSizes
from good_tide.operations.workplace import Workplace
from good_tide.system.machine import local_zone

_SHARE_SPREAD_SECONDS = 240
_DAY = 86400 * SECOND
_GAP_NAMES = 3


class Doing(msgspec.Struct, frozen=True, kw_only=True):
    """What the agent knows besides of a job; a command without the agent knows nothing of it.

    :param state: of the store that is looked into; unknown: not looked into.
    """

    state: StoreState = StoreState.UNKNOWN
    damage: tuple[str, ...] = ()
    working: WorkKind | None = None
    work_paused: bool = False
    battery: float | None = None
    decision: Decision | None = None
    locked: tuple[str, ...] = ()
    """What its stores are called that nobody can open by himself."""


def _state(doing: Doing, last: int) -> StoreState:
    if doing.state is not StoreState.UNKNOWN:
        return doing.state
    return StoreState.READY if last else StoreState.EMPTY


class Standings:
    """Gathers how jobs stand."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._here, self._disks, self._clock = context.here, context.disks, context.clock
        self._records, self._journal = context.records, context.journal
        self._sizes = StoreSizes()

    def spread(self, job: Job) -> int:
        """This machine's share of the job's spread, in nanoseconds."""
        shared = any(ref.over_network for ref in job.stores)
        seconds = (
            job.rhythm.spread_seconds
            if job.rhythm.spread_seconds is not None
            else _SHARE_SPREAD_SECONDS * shared
        )
        return spread_share((job.machine or self._here.machine).id, job.name, seconds)

    def record(self, job: Job) -> JobRecord:
        """The job's record; a new job's begins with its newest snapshot, so that an hour that was served is
        not served again."""
        known, now = self._records.record(job.id), self._clock.now()
        first = known if known is not None else JobRecord(served=self._last(job)[0])
        if known is not None and after_clock(known, now) == known:
            return known
        return self._records.update(job.id, lambda known: after_clock(known or first, now))

    def place_now(self, ref: StoreRef) -> StorePlace | None:
        """Where a store is now, None while its disk is away."""
        return self._context.whereabouts.of(ref)

    def holds(self, job: Job) -> bool:
        """Whether the holding area takes the job's snapshots while its disks are away."""
        return job.holding.on and any(areas.has_area(self._here.holdings, ref) for ref in job.stores)

    def held(self, ref: StoreRef) -> int:
        """How many snapshots wait in the holding area of a store."""
        return areas.held_count(self._here.holdings, ref)

    def decision(self, job: Job, facts: Facts) -> Decision:
        """What is to be done now (``planning.decide``)."""
        return decide(job.rhythm, self.record(job), facts, self._clock.now(), self.spread(job), local_zone())

    def plain_facts(self, job: Job) -> Facts:
        """What is known of a job without the agent."""
        here = any(self.place_now(ref) is not None for ref in job.stores)
        return Facts(here, holding=self.holds(job), paused_until=self._records.paused_until)

    def next(self, job: Job, count: int = 1) -> list[int]:
        """When the next timed runs begin."""
        now = self._clock.now()
        starts = job.rhythm.starts(max(now, self.record(job).served), self.spread(job), local_zone())
        found = [start for start, _ in zip(starts, range(count), strict=False)]
        paused = self._records.paused_until
        return (
            [start for start in found if start >= paused] or [paused] * bool(found) if paused > now else found
        )

    def standing(self, job: Job, doing: Doing | None = None) -> JobStanding:
        """How a job stands now."""
        now, record, doing = self._clock.now(), self.record(job), doing or Doing()
        decision = doing.decision or self.decision(job, self.plain_facts(job))
        last, gaps, names = self._last(job)
        troubles, alarm = self._troubles(job, now), self._context.alarms.of(job.id)
        stores = tuple(self._store(job, ref, one) for ref, one in zip(job.stores, troubles, strict=True))
        first = next((one for one in stores if one.present), stores[0] if stores else None)
        away_since = (
            self._records.away_since(job.id) if stores and not any(one.present for one in stores) else 0
        )
        upcoming = next_start(
            job.rhythm, max(now, record.served), self.spread(job), local_zone(), self._records.paused_until
        )
        facts = JobFacts(
            state=_state(doing, last),
            disk=first.name if first is not None else "",
            by_hand=job.rhythm.by_hand,
            last=last,
            gaps=gaps,
            gap_names=names,
            next=upcoming or 0,
            due=decision.due or 0,
            wait=decision.wait,
            wait_until=decision.look or 0,
            wait_latest=decision.latest or 0,
            battery=doing.battery,
            paused_until=self._records.paused_until,
            away_since=away_since,
            away_why=first.why if first is not None and not first.present else "",
            held=sum(map(self.held, job.stores)),
            holding=self.holds(job),
            failures=record.failures,
            failing_since=record.failing_since,
            error=record.error,
            advice=record.advice,
            working=doing.working,
            work_paused=doing.work_paused,
            free=first.free if first is not None else None,
            room_on=first.disk if first is not None else "",
            full_in_days=first.full_in_days if first is not None else None,
            damage=doing.damage,
            alarm=alarm.words(now) if alarm is not None else "",
            alarm_since=alarm.since if alarm is not None else 0,
            stores=tuple(one for own in troubles for one in own),
            strange=self._strange(job),
            locked=() if job.rhythm.by_hand else doing.locked,
            name=job.name,
        )
        return JobStanding(job.id, job.name, status(facts, now), last, upcoming or 0, stores)

    def _troubles(self, job: Job, now: int) -> list[list[StoreTrouble]]:
        """What somebody should look at about each of a job's stores."""
        known = [self._context.health.of(ref.store) if ref.store else StoreHealth() for ref in job.stores]
        newest = max((one.written for one in known), default=0)
        return [
            [*store_troubles(ref.called, one, newest, now), *self._left(ref)]
            for ref, one in zip(job.stores, known, strict=True)
        ]

    def _left(self, ref: StoreRef) -> list[StoreTrouble]:
        """What an earlier store in the same place left behind. While it is not known that it was replaced,
        nothing was."""
        count = left_count(self._here.holdings, ref)
        if not count or aside(self._here.holdings, ref).exists():
            return []
        return [left_trouble(ref.called, count, left_since(self._here.holdings, ref))]

    def _strange(self, job: Job) -> tuple[tuple[str, str], ...]:
        """What is not as it should be with a job's stores."""
        machine = job.machine or self._here.machine
        identities = {ref.store for ref in job.stores if ref.store}
        mixed = any(StoreMemory(self._here.state, one).is_mixed(machine.id) for one in identities)
        found = (others_write(machine.name) if mixed else None, read_by_others(job))
        return tuple((one.what, one.todo) for one in found if one is not None)

    def _last(self, job: Job) -> tuple[int, int, tuple[str, ...]]:
        """The newest snapshot's time, its gaps, and some of their names: by the journal of this machine, or
        by a store's catalog."""
        run = self._journal.last_done(job.id)
        found = (run.began, run.gaps) if run is not None else (0, 0)
        for ref in job.stores:
            tide = self._tide(job, ref)
            if tide and tide[-1].time > found[0]:
                found = tide[-1].time, tide[-1].gaps
        names = (
            tuple(printable(one.path) for one in self._journal.left_out(job.id)[:_GAP_NAMES])
            if found[1]
            else ()
        )
        return *found, names

    def _tide(self, job: Job, ref: StoreRef) -> Tide:
        identity = ref.store
        if not identity:  # it was never opened by a version that keeps it
            where, holdings = self.place_now(ref), self._here.holdings
            try:
                identity = store_id(where) if where is not None else areas.store_of_area(holdings, ref)
            except GoodTideError:
                return NO_TIDE
        since = self._clock.now() - (PAST_DAYS + 1) * _DAY
        return known_tide(self._here.cache, identity, (job.machine or self._here.machine).id, since)

    def _store(self, job: Job, ref: StoreRef, troubles: Sequence[StoreTrouble]) -> StoreStanding:
        where, name = self.place_now(ref), ref.name or Path(ref.path).name
        health = self._context.health.of(ref.store) if ref.store else StoreHealth()
        known = StoreStanding(
            name,
            where is not None,
            last=health.written,
            proven=proven_words(health, self._clock.now()) if health != StoreHealth() else "",
            trouble=tuple((one.what, one.todo) for one in troubles),
            why=str(self._context.whereabouts.away(ref)) if where is None and ref.on_server else "",
        )
        disk = self._context.disk_of(where) if where is not None else None
        if where is None or disk is None or not disk.total:
            return known
        from good_tide.core.forecast import days_left  # loads NumPy, and a young store has no forecast

        days = days_left(
            tuple(daily(self._tide(job, ref), self._clock.now())), self._usable(job, where, disk)
        )
        return msgspec.structs.replace(known, free=disk.free, full_in_days=days, disk=disk.name)

    def _usable(self, job: Job, where: StorePlace, disk: DiskFacts) -> int:
        """How much may still be added to a store, rounded to a hundredth, so that a forecast is not drawn
        anew for every few bytes."""
        stored = 0
        if job.room.limit_bytes or job.room.limit_part:
            stored = self._sizes.bytes_in(where) or 0
        usable = room_facts(stored, job.room, NO_TIDE, self._clock.now(), (disk.free, disk.total)).usable
        step = int(10 ** max(0, len(str(usable)) - 3))
        return usable // step * step


def locked_stores(context: Context, job: Job) -> tuple[str, ...]:
    """What the stores of a job are called that no agent could open by itself."""
    return tuple(ref.called for ref in JobStores(context, job, NobodyToAsk()).locked())


def without_agent(standing: JobStanding, job: Job, now: int) -> JobStanding:
    """A job's standing while no agent runs: nothing happens by itself, which is trouble unless that is
    meant."""
    if job.rhythm.by_hand:
        return standing
    trouble = Trouble(
        now,
        tr("The agent is not running: no snapshot is taken by itself"),
        tr("Run “good-tide agent install”"),
        Topic.LATE,
    )
    status = msgspec.structs.replace(standing.status, trouble=(trouble, *standing.status.trouble))
    return msgspec.structs.replace(standing, status=status, next=0)


def standings_without_agent(here: Workplace, jobs: Sequence[Job]) -> list[JobStanding]:
    """How some jobs stand, found without an agent, which is a trouble of those that are to run by
    themselves."""
    context = open_context(here)
    now, standings = context.clock.now(), Standings(context)
    found = []
    for job in jobs:
        doing = Doing(locked=locked_stores(context, job))
        found.append(without_agent(standings.standing(job, doing), job, now))
    return found
