"""Looking after itself: everything of the agent that happens without anybody asking."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from good_tide.agent.notifier import Notifier
from good_tide.agent.reports import Reports
from good_tide.agent.sessions import Sessions
from good_tide.core.errors import PersonError
from good_tide.core.standing import JobStanding
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.history.copies import clear_copies
from good_tide.operations.workplace import load_jobs, settings_stamp, tell_file_managers
from good_tide.protocol.agent_calls import HistoryChanged, StandingsChanged
from good_tide.protocol.contract import Note


class Upkeep:
    """What is done at each look of the scheduler: settings that other programs changed are taken in, and how
    jobs stand is told to clients and people.

    :param standings: how all jobs stand.
    :param tell: tells clients.
    """

    def __init__(
        self,
        context: Context,
        sessions: Sessions,
        notifier: Notifier,
        reports: Reports,
        standings: Callable[[], Iterable[JobStanding]],
        tell: Callable[[Note], None],
    ) -> None:
        self._context, self._sessions, self._notifier, self._reports = context, sessions, notifier, reports
        self._standings, self._tell = standings, tell
        self._told: tuple[JobStanding, ...] = ()
        self._stamp = settings_stamp(context.here.settings)

    def look(self) -> None:
        """Take notice of what changed."""
        self._reload()
        clear_copies(self._context.here.cache, self._context.clock.now())
        self._context.records.forget({session.job.id for session in self._sessions.own()})
        self._tell_standings()

    def _reload(self) -> None:
        """Take in jobs that were made, changed or removed by other programs. Settings that cannot be read
        change nothing, and are said."""
        settings = self._context.here.settings
        stamp = settings_stamp(settings)
        if stamp == self._stamp:
            return
        self._stamp = stamp
        try:
            jobs = load_jobs(settings)
        except PersonError as error:
            what, means = error.what, tr("The jobs go on as they were.")
            self._context.journal.add("trouble", None, what, (), means, error.advice)
            return
        self._sessions.take_all(jobs)
        tell_file_managers(settings)
        self._tell(HistoryChanged())

    def _tell_standings(self) -> None:
        """Tell clients when something changed about how jobs stand, and people when that is trouble."""
        now = {standing.job: standing for standing in self._standings()}
        looked = []
        for session in self._sessions.own():
            standing = now.get(session.job.id)
            if standing is None:  # a job that came this very moment
                continue
            record = self._context.records.record(session.job.id)
            failures = record.failures if record is not None else 0
            self._notifier.standing(session.job, standing, failures)
            looked.append((session.job, standing, failures))
        self._reports.look(looked)
        if tuple(now.values()) != self._told:
            self._told = tuple(now.values())
            self._tell(StandingsChanged(self._told))
