"""Judging each snapshot as it is taken; and the alarm: told at once, nothing released, the last moment before
pinned, until a person has looked."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence

import msgspec

from good_tide.core.alarm import Alarm, Judged, rings
from good_tide.core.errors import GoodTideError
from good_tide.core.identifiers import SnapshotId
from good_tide.core.progress import Control
from good_tide.core.records import Snapshot
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.core.words import exact_words, printable
from good_tide.operations.alarm.judging import judge
from good_tide.operations.context import Context
from good_tide.storage.pins import pin, read_pins, unpin
from good_tide.storage.store import Store
from good_tide.storage.summaries import known_snapshots

_NAMED = 20
TODO = tr(
    "Look at it: “good-tide alarm show” says what changed and how everything comes back as it was before"
)


def look_at_snapshot(
    context: Context, job: Job, store: Store, taken: Snapshot, before: Snapshot | None, control: Control
) -> Alarm | None:
    """Judge a snapshot that was just taken; the alarm, if it rings now.

    :param before: its machine's last one before it; None: it is looked for.

    Raises:
        PlaceError: the disk gives nothing any more. StoppedError: the person stopped it.
    """
    if before is None or before.time >= taken.time:
        earlier = (one for one in reversed(_own(store, taken)) if one.time < taken.time)
        before = next(earlier, None)
    if before is None:
        return None
    judged = judge(store, before, taken, control)
    if not judged.strange:
        return None
    known = context.alarms.of(job.id)
    found = rings([*context.alarms.lately(job.id), judged], store.header.store)
    context.alarms.note(job.id, judged)
    if found is None or known is not None:
        return None
    alarm, first = found
    own = _own(store, taken)
    return _ring(context, job, store, own, msgspec.structs.replace(alarm, paths=judged.paths), first)


def _own(store: Store, taken: Snapshot) -> list[Snapshot]:
    """All snapshots of a snapshot's machine, oldest first."""
    return [one for one in known_snapshots(store)[0] if one.machine.id == taken.machine.id]


def _ring(
    context: Context, job: Job, store: Store, own: Sequence[Snapshot], found: Alarm, first: Judged
) -> Alarm:
    """Keep an alarm, pin the last moment before it, and note it."""
    now = context.clock.now()
    good = next((one for one in own if one.id == first.before), None) or _last_before(own, first.snapshot)
    alarm = found
    if good is not None:
        label = tr("The last moment before {exact_words}, when files were destroyed").format(
            exact_words=exact_words(first.time)
        )
        alarm = msgspec.structs.replace(found, before=good.id, before_time=good.time, label=label)
        with contextlib.suppress(
            GoodTideError
        ):  # held or read-only: nothing is released anyway while it stands
            if all(known.snapshot != good.id for known in read_pins(store).values()):
                pin(store, good.id, label)
    context.alarms.ring(job.id, alarm)
    context.journal.add(
        "trouble",
        job,
        alarm.words(now),
        tuple(printable(path) for path in list(alarm.paths)[:_NAMED]),
        tr("Nothing is released until somebody has looked; the last moment before is pinned."),
        f"{TODO}.",
    )
    return alarm


def _last_before(own: Sequence[Snapshot], snapshot: SnapshotId) -> Snapshot | None:
    for number, one in enumerate(own):
        if one.id == snapshot and number:
            return own[number - 1]
    return None


def dismiss(context: Context, job: Job, store: Store | None) -> Alarm | None:
    """A person has looked: what changed was meant, or has been put right. The alarm that there was.

    :param store: the store with the pinned moment, whose pin goes; None while it cannot be opened.
    """
    alarm = context.alarms.dismiss(job.id)
    if alarm is None:
        return None
    if store is not None and alarm.label:
        with contextlib.suppress(GoodTideError):
            known = next((one for one in read_pins(store).values() if one.snapshot == alarm.before), None)
            if known is not None and known.label == alarm.label:
                unpin(store, alarm.before)
    context.journal.add(
        "note",
        job,
        tr("Somebody has looked at the alarm: {words}").format(words=alarm.words(context.clock.now())),
    )
    return alarm
