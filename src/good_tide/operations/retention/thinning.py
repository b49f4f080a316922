"""Releasing snapshots: along the ladder, by hand, and giving back the room of what nothing needs."""

from __future__ import annotations

import contextlib
import enum
from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec

from good_tide.core.clock import Clock
from good_tide.core.errors import PersonError, PlaceFullError
from good_tide.core.identifiers import MachineId, SnapshotId, local_name
from good_tide.core.ladder import Ladder
from good_tide.core.ladder_keeping import keeps
from good_tide.core.progress import Control
from good_tide.core.records import Snapshot
from good_tide.core.settings import Job
from good_tide.core.translation import noted, tr
from good_tide.core.words import count_words, time_words
from good_tide.operations.context import Context
from good_tide.operations.stores.opening import open_ledger
from good_tide.storage.folders import SNAPSHOT_FOLDER
from good_tide.storage.pins import Pin, pin, read_pins, unpin
from good_tide.storage.reserve import give_up_reserve, keep_reserve
from good_tide.storage.runs import RunLock
from good_tide.storage.store import Store
from good_tide.storage.summaries import known_snapshots
from good_tide.storage.sweep import Sweep, SweepReport, Watched

__all__ = [
    "Pin",
    "SweepReport",
    "ThinPlan",
    "always_kept",
    "named",
    "pin",
    "pinned",
    "plan_release",
    "plan_thinning",
    "release",
    "sweep",
    "unpin",
]

AGREE_PART = 0.1
"""A changed ladder that would release more than this part of history waits for a yes."""
_MARKS_FILE = "marks"


class ThinPlan(msgspec.Struct, frozen=True):
    """What stays and what goes, oldest first. ``gives_back``: stored bytes that only the released ones need;
    None: not worked out."""

    keeps: tuple[Snapshot, ...]
    releases: tuple[Snapshot, ...]
    gives_back: int | None = None

    @property
    def needs_yes(self) -> bool:
        """Whether it would release so much at once that a person has to agree."""
        return len(self.releases) > AGREE_PART * (len(self.keeps) + len(self.releases))


def pinned(store: Store) -> dict[SnapshotId, str]:
    """Labels of pinned snapshots, by the snapshots' names.

    Raises:
        DamageError: a pin cannot be read.
    """
    return {known.snapshot: known.label for known in read_pins(store).values()}


class KeptBecause(enum.Enum):
    """Why a snapshot is never released."""

    PRECIOUS = noted("is the last with a version of a precious file")
    COMPLETE = noted("is the newest complete one of its machine")
    NEWEST = noted("is the newest of its machine")
    PINNED = "is pinned"


class AlwaysKept(NamedTuple):
    """Why a snapshot is never released; for a pinned one with its label."""

    why: KeptBecause
    label: str = ""

    @property
    def words(self) -> str:
        """In words, as the rest of a sentence about it."""
        why = tr(self.why.value)
        return f"{why} ({self.label})" if self.label else why


def always_kept(
    found: Sequence[Snapshot], pins: Mapping[SnapshotId, str], precious: Collection[SnapshotId] = ()
) -> dict[SnapshotId, AlwaysKept]:
    """The snapshots that are never released, and why.

    :param found: of all machines, in order of time.
    :param pins: labels of pinned ones.
    :param precious: those that are the last to hold a version of a precious file.
    """
    newest = {snapshot.machine.id: snapshot.id for snapshot in found}
    complete = {snapshot.machine.id: snapshot.id for snapshot in found if not snapshot.gaps}
    return {
        **dict.fromkeys(precious, AlwaysKept(KeptBecause.PRECIOUS)),
        **dict.fromkeys(complete.values(), AlwaysKept(KeptBecause.COMPLETE)),
        **dict.fromkeys(newest.values(), AlwaysKept(KeptBecause.NEWEST)),
        **{name: AlwaysKept(KeptBecause.PINNED, text) for name, text in pins.items()},
    }


def plan_thinning(
    store: Store,
    ladder: Ladder,
    machine: MachineId,
    zone: str,
    now: int,
    control: Control,
    cache: Path | None = None,
    precious: Collection[SnapshotId] = (),
) -> ThinPlan:
    """Which snapshots of a machine a ladder would release now.

    :param zone: IANA name of the zone whose days and weeks count.
    :param cache: where the local ledgers are, to work out what that would give back; None: it is not wanted.
    :param precious: names of snapshots that stay for what they hold.

    Raises:
        DamageError: a pin cannot be read.
    """
    found = known_snapshots(store)[0]
    own = [snapshot for snapshot in found if snapshot.machine.id == machine]
    fast = always_kept(own, pinned(store), precious)
    held = {number for number, snapshot in enumerate(own) if snapshot.id in fast}
    stays = keeps(ladder, [snapshot.time for snapshot in own], now, zone, held).stays
    goes = {snapshot.id for snapshot, kept in zip(own, stays, strict=True) if not kept}
    return _plan(store, own, goes, control, cache)


def plan_release(
    store: Store,
    names: Collection[SnapshotId],
    control: Control,
    cache: Path | None,
    lenient: bool = False,
    precious: Collection[SnapshotId] = (),
) -> ThinPlan:
    """What releasing some snapshots by hand would do.

    :param lenient: those among them that stay do so without a word, as is wanted for all of a range of time.
    :param precious: names of snapshots that stay for what they hold.

    Raises:
        PersonError: one of them always stays.
        DamageError: a pin cannot be read.
    """
    found = known_snapshots(store)[0]
    fast = always_kept(found, pinned(store), precious)
    stays = sorted(set(names) & set(fast))
    if stays and not lenient:
        why = fast[stays[0]]
        pinned_out = tr("Take the pin away first, with “good-tide pin … --off”")
        way_out = pinned_out if why.why is KeptBecause.PINNED else tr("Such snapshots always stay")
        raise PersonError(
            tr("The snapshot {stays} {words}").format(stays=stays[0][:12], words=why.words), way_out
        )
    return _plan(store, found, set(names) - set(stays), control, cache)


def _plan(
    store: Store, own: Sequence[Snapshot], goes: Collection[SnapshotId], control: Control, cache: Path | None
) -> ThinPlan:
    kept = tuple(snapshot for snapshot in own if snapshot.id not in goes)
    gone = tuple(snapshot for snapshot in own if snapshot.id in goes)
    gives_back = None
    if cache is not None:
        gives_back = open_ledger(store, cache, control).gain(goes) if gone else 0
    return ThinPlan(kept, gone, gives_back)


def release(
    context: Context, store: Store, plan: ThinPlan, why: str, job: Job | None, control: Control
) -> int:
    """Release what a plan says, oldest first; each is gone at once, its room comes back with the next sweep.
    How many were released.

    Raises:
        PlaceError: the disk does not let go. StoppedError: the person stopped it; those that were released
            are.
    """
    done = 0
    try:
        for snapshot in plan.releases:
            control.checkpoint()
            store.place.remove(f"{SNAPSHOT_FOLDER}/{snapshot.id}")
            done += 1
    finally:
        if done:
            context.records.note_released(store.header.store)
            words = tr("{done} released {why}").format(done=count_words(done, "snapshot"), why=why)
            detail = named(plan.releases[:done], context.clock.now())
            context.journal.add("good", job, words, detail, tr("The room comes back with the next sweep."))
    return done


def named(snapshots: Sequence[Snapshot], now: int) -> tuple[str, ...]:
    """Snapshots as the journal names them, a line each."""
    return tuple(f"{snapshot.machine.name}, {time_words(snapshot.time, now)}" for snapshot in snapshots)


def sweep(
    store: Store,
    state: Path,
    clock: Clock,
    control: Control,
    only_plan: bool = False,
    heed: Callable[[], None] | None = None,
    thorough: bool = False,
) -> SweepReport:
    """Give back the room of what no snapshot needs; or only say how much that would be.

    :param thorough: leave no trace of anything that is not needed, however much is copied for it.
    :param heed: lets this machine's own holding area give up what is doomed, so that it is not waited for.
    :param state: a local folder for the lock that keeps two sweeps of this machine apart, and for what it
        remembers of others' marks.

    Raises:
        PlaceError: another sweep is at work. StoppedError: the person stopped it; what was done is done.
    """
    identity = store.header.store
    file = state / _MARKS_FILE / f"{local_name(identity)}.json"
    with RunLock.for_work(state, identity, "sweep") as owner:
        watched = _read_marks(file)
        one = Sweep(store, owner, watched, clock.now(), control, thorough=thorough)
        if only_plan:
            return one.plan()
        try:
            try:
                report = one.run()
            except PlaceFullError:
                if not give_up_reserve(store.place):
                    raise
                report = Sweep(store, owner, watched, clock.now(), control, thorough=thorough).run()
            if report.waits and heed is not None:
                heed()
                report = Sweep(store, owner, watched, clock.now(), control, report, thorough).run()
            keep_reserve(store.place, owner, store.index.packs())
            return report
        finally:
            with contextlib.suppress(
                OSError
            ):  # without it the next sweep waits for others as long as the first
                file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
                file.write_bytes(msgspec.json.encode(watched))


def _read_marks(file: Path) -> Watched:
    try:
        return msgspec.json.decode(file.read_bytes(), type=Watched)
    except (OSError, msgspec.MsgspecError):
        return Watched()
