"""The last run of the day: everything that is due, one after the other; then the machine sleeps, with a
minute to stop it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from good_tide.core.errors import GoodTideError, StoppedError
from good_tide.core.planning import Then
from good_tide.core.progress import Progress, Stage, Steering
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.schedule.standing import Standings
from good_tide.system.power import Power

GRACE_SECONDS = 60
"""How long everybody has to keep the machine from sleeping."""
_SECOND = 1.0

RunOne = Callable[[Job], str]
"""Runs a job; a sentence why it failed, empty when it went well."""


class EndOfDay(msgspec.Struct, frozen=True):
    """What became of it; ``error`` is a sentence, empty when all went well."""

    words: str
    error: str = ""


def is_due(context: Context, job: Job, changed: bool = False) -> bool:
    """Whether a job has something to run now, whatever it waits for but the disk.

    :param changed: whether its files are known to have changed.
    """
    standings = Standings(context)
    facts = msgspec.structs.replace(standings.plain_facts(job), paused_until=0)
    return standings.decision(job, facts).due is not None or changed


def run_all(
    context: Context,
    jobs: Sequence[Job],
    run: RunOne,
    then: Then | None,
    power: Power,
    announce: Callable[[str], None],
    steering: Steering,
) -> EndOfDay:
    """Run jobs, and let the machine sleep afterwards if that is wanted and all of them went well.

    :param announce: told, as a sentence, that the machine sleeps in a minute.

    Raises:
        StoppedError: the person stopped it.
    """
    failed: list[str] = []
    for job in jobs:
        try:
            error = run(job)
        except StoppedError:
            raise
        except GoodTideError as fault:
            error = str(fault)
        if error:
            failed.append(f"{job.name}: {error}")
    count = len(jobs) - len(failed)
    words = tr("{count} of the jobs run").format(count=count) if jobs else tr("Nothing was due")
    if then is None:
        return EndOfDay(words, "; ".join(failed))
    if failed:
        context.journal.add(
            "trouble",
            None,
            tr("Not everything could be run at the end of the day"),
            tuple(failed),
            tr("The machine did not {then}.").format(then=then),
        )
        return EndOfDay(
            words,
            tr("The machine stays on, as not everything could be run: {failed}").format(
                failed="; ".join(failed)
            ),
        )
    _wait_a_minute(context, then, words, announce, steering)
    power.end_of_day(then)
    return EndOfDay(
        tr("{words}; the machine is told to {replace}").format(words=words, replace=then.replace("-", " "))
    )


def _wait_a_minute(
    context: Context, then: Then, words: str, announce: Callable[[str], None], steering: Steering
) -> None:
    """Give everybody a minute to stop it.

    Raises:
        StoppedError: somebody did.
    """
    doing = tr("goes to sleep") if then == "suspend" else tr("is switched off")
    announce(tr("{words}. The machine {doing} in a minute.").format(words=words, doing=doing))
    context.journal.add(
        "good", None, tr("{words}; the machine {doing} after a minute").format(words=words, doing=doing)
    )
    for left in range(GRACE_SECONDS, 0, -1):
        steering.report(
            Progress(
                tr("The machine {doing} in {left} s").format(doing=doing, left=left),
                bytes_done=GRACE_SECONDS - left,
                bytes_total=GRACE_SECONDS,
                stage=Stage.LAST_MINUTE,
            )
        )
        steering.rest(_SECOND)
        steering.checkpoint()
