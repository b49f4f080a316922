"""Thinning a job's history by its ladder: what would go, who has to agree, and letting it go."""

from __future__ import annotations

import msgspec

from good_tide.core.ladder import Ladder
from good_tide.core.progress import Control
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words
from good_tide.operations.context import Context
from good_tide.operations.jobs.changing import keep
from good_tide.operations.records.store_memory import refuse_mixed
from good_tide.operations.retention.precious import precious_now
from good_tide.operations.retention.thinning import ThinPlan, named, plan_thinning, release
from good_tide.operations.stores.opening import Store
from good_tide.system.machine import local_zone


class Thinned(msgspec.Struct, frozen=True):
    """What a ladder releases; ``waits``: it was changed and releases much, so that a person has to agree
    first."""

    plan: ThinPlan
    waits: bool


def plan_by_ladder(
    context: Context, job: Job, store: Store, control: Control, ladder: Ladder, moment: int, with_room: bool
) -> ThinPlan:
    """What a ladder would release of a job's history at a moment.

    :param with_room: work out what that gives back too.

    Raises:
        DamageError: a snapshot, a pin or a listing cannot be read.
    """
    machine, cache = context.machine_of(job).id, context.here.cache
    precious = precious_now(store, job, machine, cache)
    room_from = cache if with_room else None
    return plan_thinning(store, ladder, machine, local_zone(), moment, control, room_from, precious)


def thin_by_ladder(
    context: Context,
    job: Job,
    store: Store,
    control: Control,
    agreed: bool = False,
    only_plan: bool = False,
    with_room: bool = False,
) -> Thinned:
    """Release what a job's ladder does not keep. A changed ladder that releases much waits until a person
    agrees; that it waits is noted.

    :param agreed: a person agrees now.
    :param only_plan: say what would be released, and release nothing.

    Raises:
        PlaceError: another machine writes this one's history, or nobody has looked at an alarm. DamageError:
            a snapshot, a pin or a listing cannot be read.
    """
    refuse_mixed(context.here.state, store, context.machine_of(job))
    now = context.clock.now()
    context.alarms.refuse_release(job, now)
    plan = plan_by_ladder(context, job, store, control, job.ladder, now, with_room)
    may = agreed or job.agreed == job.ladder or not plan.needs_yes
    if only_plan or not plan.releases:
        return Thinned(plan, plan.needs_yes and not may)
    if not may:
        if context.journal.is_news(f"ladder/{job.id}"):
            total = len(plan.keeps) + len(plan.releases)
            context.journal.add(
                "note",
                job,
                tr("The changed ladder would release {releases} of {total}").format(
                    releases=count_words(len(plan.releases), "snapshot"), total=number_words(total)
                ),
                named(plan.releases, now),
                tr("Nothing is released before somebody agrees."),
                tr("See Rhythm, and agree there."),
            )
        return Thinned(plan, True)
    release(context, store, plan, tr("by the ladder"), job, control)
    return Thinned(plan, False)


def agree(context: Context, job: Job) -> Job:
    """The ladder that a job has was thinned by, or a person agreed to it."""
    return job if job.agreed == job.ladder else keep(context, msgspec.structs.replace(job, agreed=job.ladder))
