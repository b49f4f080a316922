"""Runs of jobs: begun by the rhythm or by hand, kept in the books, noted, and told."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from good_tide.agent.bounds import Bounds
from good_tide.agent.session import Session
from good_tide.agent.teller import Teller
from good_tide.agent.work import Worker
from good_tide.core import planning
from good_tide.core.clock import Clock
from good_tide.core.errors import GoodTideError, PlaceError, StoppedError
from good_tide.core.planning import Occasion
from good_tide.core.progress import Control, Progress, Steering
from good_tide.core.settings import Job
from good_tide.core.words import count_words, size_words
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.run_records import Books
from good_tide.operations.schedule.standing import Standings
from good_tide.operations.snapshot.job_run import Hands, Taken, run_kept
from good_tide.operations.workplace import Workplace
from good_tide.protocol.messages import Finished
from good_tide.system.disks import Disks
from good_tide.system.power import Hold, Power, Then

_LAST_PHASE = "Writing"
_GRACE_SECONDS, _SECOND = 60.0, 1.0
"""How long everybody has to keep the machine from sleeping after the last run of the day."""


class _Guarded:
    """A control that holds sleep and shutdown off while the last seconds of a snapshot are written."""

    def __init__(self, inner: Control, power: Power) -> None:
        self._inner, self._power = inner, power
        self.hold: Hold | None = None

    def report(self, progress: Progress) -> None:
        if progress.phase == _LAST_PHASE and self.hold is None:
            self.hold = self._power.hold_off("The last part of a snapshot is being written")
        self._inner.report(progress)

    def checkpoint(self) -> None:
        self._inner.checkpoint()


class RunDesk:
    """Runs jobs, one at a time.

    :param after: called after each run, with when it began and whether it went well.
    """

    def __init__(
        self,
        here: Workplace,
        disks: Disks,
        clock: Clock,
        journal: Journal,
        books: Books,
        standings: Standings,
        worker: Worker,
        teller: Teller,
        power: Power,
        bounds: Bounds,
        after: Callable[[Session, int, bool], None],
    ) -> None:
        self._here, self._disks, self._clock, self._journal, self._books = here, disks, clock, journal, books
        self._standings, self._worker, self._teller, self._power, self._bounds, self._after = (
            standings,
            worker,
            teller,
            power,
            bounds,
            after,
        )

    def start(self, session: Session, occasion: Occasion) -> bool:
        """Begin a run; False when other work is being done."""
        if self._worker.current is not None:
            return False
        try:
            self._worker.start(
                "snapshot",
                lambda steering: self._run(session, occasion, steering),
                behind=occasion is not Occasion.HAND,
            )
        except PlaceError:  # other work began this very moment
            return False
        return True

    def by_hand(self, session: Session) -> None:
        """Begin a run that a person asked for.

        Raises:
            PlaceError: other work is being done.
        """
        self._worker.start("snapshot", lambda steering: self._run(session, Occasion.HAND, steering))

    def clean_up(self, jobs: Iterable[Job]) -> None:
        """After a crash: note runs that were cut off. What was due stays due, and what they wrote is used by
        the next run."""
        for job in jobs:
            book = self._books.book(job.name)
            if book is not None and book.begun:
                self._books.keep(job.name, planning.cut_off(book))
                self._journal.add(
                    "note",
                    job.name,
                    "The last run was cut off",
                    (),
                    "No snapshot came of it; what it wrote is used by the next one.",
                )

    def _run(self, session: Session, occasion: Occasion, steering: Steering) -> Finished:
        job, before = session.job, self._standings.book(session.job)
        first = self._journal.last_done(job.name) is None
        guard, began, well = _Guarded(steering, self._power), self._clock.now(), False
        try:
            taken = run_kept(job, self._hands(session), self._books, before, guard, occasion)
            well = any(one.snapshot is not None for one in taken)
            for one in taken:
                if one.snapshot is not None and not one.held:
                    self._bounds.after_run(session, one.ref, occasion is not Occasion.HAND, steering)
        finally:
            if guard.hold is not None:
                guard.hold.let_go()
            session.look_again()
            self._after(session, began, well)
        finished = self._finished(job, taken)
        if first and not finished.error:
            self._teller.first(job, finished.words)
        elif not finished.error:
            self._teller.snapshot(job, finished.words)
        return finished

    def _hands(self, session: Session) -> Hands:
        return Hands(
            here=self._here,
            disks=self._disks,
            clock=self._clock,
            journal=self._journal,
            open_ref=session.openings.store,
            open_area=session.openings.area,
            warn=lambda what, todo: self._teller.warn(session.job, what, todo),
            make_room=lambda control: self._bounds.before_run(session, control),
        )

    def _finished(self, job: Job, taken: list[Taken]) -> Finished:
        """What became of a job's snapshot, in words. A store that failed beside others is said and noted."""
        failed = [(one.ref.name, one.error) for one in taken if one.error is not None]
        done = [one for one in taken if one.snapshot is not None]
        if not done:
            return Finished("snapshot", error="; ".join(f"{name}: {error}" for name, error in failed))
        snapshot = done[0].snapshot
        assert snapshot is not None
        tally = snapshot.record.tally
        words = (
            f"Snapshot taken: {count_words(tally.changed_files, 'changed file')},"
            f" {size_words(tally.new_bytes)} new"
        )
        if done[0].held:
            words += f"; kept on this machine until {done[0].ref.name or 'the disk'} is back"
        elif len(done) > 1:
            words += f", into {count_words(len(done), 'store')}"
        carried = sum(one.carried for one in taken)
        if carried:
            words += f"; {count_words(carried, 'snapshot')} carried over that waited for the disk"
        if snapshot.gaps:
            words += f"; {count_words(snapshot.gaps, 'file')} could not be read"
        if failed:
            words += "; not into " + ", ".join(f"{name} ({error})" for name, error in failed)
        return Finished("snapshot", words=words)

    def run_due(self, sessions: list[Session], then: Then | None) -> None:
        """Run everything that is due, one after the other; then let the machine sleep, with a minute to stop
        it.

        Raises:
            PlaceError: other work is being done.
        """
        self._worker.start("run-due", lambda steering: self._run_all(sessions, then, steering))

    def _run_all(self, sessions: list[Session], then: Then | None, steering: Steering) -> Finished:
        said: list[str] = []
        failed: list[str] = []
        for session in sessions:
            try:
                finished = self._run(session, Occasion.HAND, steering)
                (failed if finished.error else said).append(
                    f"{session.job.name}: {finished.error or finished.words}"
                )
            except StoppedError:
                raise
            except GoodTideError as error:
                failed.append(f"{session.job.name}: {error}")
        words = f"{count_words(len(said), 'job')} run" if sessions else "Nothing was due"
        if then is None:
            return Finished("run-due", error="; ".join(failed), words=words)
        if failed:
            self._journal.add(
                "trouble",
                "",
                "Not everything could be run at the end of the day",
                tuple(failed),
                f"The machine did not {then}.",
            )
            return Finished(
                "run-due", error=f"The machine stays on, as not everything could be run: {'; '.join(failed)}"
            )
        self._wait_a_minute(then, words, steering)
        self._power.end_of_day(then)
        return Finished("run-due", words=f"{words}; the machine is told to {then.replace('-', ' ')}")

    def _wait_a_minute(self, then: Then, words: str, steering: Steering) -> None:
        """Give everybody a minute to stop it.

        Raises:
            StoppedError: somebody did.
        """
        doing = "goes to sleep" if then == "suspend" else "is switched off"
        self._teller.end_of_day(f"{words}. The machine {doing} in a minute.", steering.stop)
        self._journal.add("good", "", f"{words}; the machine {doing} after a minute")
        seconds = int(_GRACE_SECONDS)
        for left in range(seconds, 0, -1):
            steering.report(
                Progress(f"The machine {doing} in {left} s", bytes_done=seconds - left, bytes_total=seconds)
            )
            steering.rest(_SECOND)
            steering.checkpoint()
