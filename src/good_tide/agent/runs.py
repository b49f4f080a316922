"""Runs of jobs: begun by the rhythm or by hand, and told."""

from __future__ import annotations

from collections.abc import Callable

from good_tide.agent.job_session import JobSession
from good_tide.agent.notifier import Notifier
from good_tide.agent.worker import Worker
from good_tide.core.errors import PlaceError
from good_tide.core.identifiers import JobId, Nanoseconds
from good_tide.core.planning import Occasion, Then
from good_tide.core.progress import Control, Progress, Stage, Steering, WorkKind
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.schedule.end_of_day import run_all
from good_tide.operations.schedule.run import hung, run_job, run_words
from good_tide.operations.snapshot.taking import Steps
from good_tide.protocol.agent_calls import WorkEnded
from good_tide.system.power import Hold, Power

_QUIET_SECONDS = 60.0
"""After so long without a sign of a piece of work it is asked whether its disks answer."""


class _Guarded:
    """A control that holds sleep and shutdown off while the last seconds of a snapshot are written."""

    def __init__(self, inner: Control, power: Power) -> None:
        self._inner, self._power = inner, power
        self.hold: Hold | None = None

    def report(self, progress: Progress) -> None:
        if progress.stage is Stage.LAST_PART and self.hold is None:
            self.hold = self._power.hold_off(tr("The last part of a snapshot is being written"))
        self._inner.report(progress)

    def checkpoint(self) -> None:
        self._inner.checkpoint()


class Runs:
    """Runs jobs, one at a time.

    :param touched: tells of a job's folders where something happened.
    :param after: called after each run, with when it began and whether it went well.
    """

    def __init__(
        self,
        context: Context,
        worker: Worker,
        notifier: Notifier,
        power: Power,
        touched: Callable[[JobId, Nanoseconds], frozenset[bytes] | None],
        after: Callable[[JobSession, int, bool], None],
    ) -> None:
        self._context, self._worker, self._notifier = context, worker, notifier
        self._power, self._touched, self._after = power, touched, after

    def start(self, session: JobSession, occasion: Occasion) -> bool:
        """Begin a run; False when other work is being done."""
        if self._worker.current is not None:
            return False
        behind = occasion is not Occasion.HAND
        try:
            self._worker.start(
                WorkKind.SNAPSHOT,
                lambda steering: self._run(session, occasion, steering),
                (session.job,),
                behind,
            )
        except PlaceError:  # other work began this very moment, or the job is held up
            return False
        return True

    def by_hand(self, session: JobSession) -> None:
        """Begin a run that a person asked for.

        Raises:
            PlaceError: other work is being done.
        """
        self._worker.start(
            WorkKind.SNAPSHOT, lambda steering: self._run(session, Occasion.HAND, steering), (session.job,)
        )

    def _run(self, session: JobSession, occasion: Occasion, steering: Steering) -> WorkEnded:
        job, clock = session.job, self._context.clock
        first = self._context.journal.last_done(job.id) is None
        guard, began, well = _Guarded(steering, self._power), clock.now(), False

        def warn(what: str, todo: str) -> None:
            self._notifier.warn(job, what, todo)

        try:
            steps = Steps(
                control=guard,
                occasion=occasion,
                warn=warn,
                touched=lambda moment: self._touched(job.id, moment),
            )
            taken = run_job(self._context, session.stores, steps)
            well = any(one.snapshot is not None for one in taken)
        finally:
            if guard.hold is not None:
                guard.hold.let_go()
            session.look_again()
            self._after(session, began, well)
        words, error = run_words(taken)
        if first and not error:
            self._notifier.first(job, words)
        elif not error:
            self._notifier.snapshot(job, words)
        return WorkEnded(WorkKind.SNAPSHOT, error, words=words)

    def look_for_hangs(self) -> None:
        """Give up what has given no sign for long while a disk of its jobs does not answer, so that it holds
        up no other job."""
        if self._worker.quiet_seconds < _QUIET_SECONDS:
            return
        for job in self._worker.jobs:
            silent = next((ref for ref in job.stores if not self._context.whereabouts.answers(ref)), None)
            if silent is not None:
                error = PlaceError(
                    tr("The disk {called} does not answer").format(called=silent.called),
                    tr("Check its cable, or the network; what was written is used by the next run"),
                )
                self._worker.give_up(error)
                hung(self._context, job, error)
                return

    def run_due(self, sessions: list[JobSession], then: Then | None) -> None:
        """Run everything that is due, one after the other; then let the machine sleep, with a minute to stop
        it.

        Raises:
            PlaceError: other work is being done.
        """
        jobs = [session.job for session in sessions]
        self._worker.start(WorkKind.RUN_DUE, lambda steering: self._run_all(sessions, then, steering), jobs)

    def _run_all(self, sessions: list[JobSession], then: Then | None, steering: Steering) -> WorkEnded:
        by_job = {session.job.id: session for session in sessions}

        def run(job: Job) -> str:
            return self._run(by_job[job.id], Occasion.HAND, steering).error

        def announce(words: str) -> None:
            self._notifier.end_of_day(words, steering.stop)

        jobs = [session.job for session in sessions]
        became = run_all(self._context, jobs, run, then, self._power, announce, steering)
        return WorkEnded(WorkKind.RUN_DUE, became.error, words=became.words)
