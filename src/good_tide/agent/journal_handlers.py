"""What happened, for people: the journal, reports on it, and the mail server that they go through."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from good_tide.agent.job_session import JobSession
from good_tide.agent.sessions import Sessions
from good_tide.core.errors import GoodTideError
from good_tide.core.happenings import AGAIN_AND_AGAIN, Filter, LeftOutFile, Run
from good_tide.core.rules import Rule, path_pattern
from good_tide.core.settings import Job
from good_tide.core.standing import JobStanding
from good_tide.operations.context import Context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.reporting.post import Post
from good_tide.operations.reporting.report import ReportPart, export_journal
from good_tide.protocol.contract import Handler
from good_tide.protocol.journal_calls import (
    ExportJournal,
    JournalView,
    KeepMailServer,
    LeftOutView,
    MailView,
    ReadJournal,
    ReadMailServer,
    TryMailServer,
    WriteReport,
)


class JournalHandlers:
    """Answers what happened.

    :param standing: how a job stands.
    """

    def __init__(
        self, context: Context, sessions: Sessions, standing: Callable[[JobSession], JobStanding]
    ) -> None:
        self._context, self._sessions, self._standing = context, sessions, standing
        self._post = Post(context)

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (
            ReadJournal.by(lambda wanted: self._happened(wanted.filter)),
            ExportJournal.by(self.export),
            WriteReport.by(self.report),
            ReadMailServer.by(lambda wanted: MailView(self._post.server())),
            KeepMailServer.by(lambda wanted: self._post.keep_server(wanted.server, wanted.password)),
            TryMailServer.by(lambda wanted: self._post.try_out(wanted.server, wanted.password, wanted.to)),
        )

    def _happened(self, wanted: Filter) -> JournalView:
        """What happened, as far as a filter lets it through."""
        journal, session = self._context.journal, self._sessions.find(wanted.job)
        runs = journal.runs(wanted.job)
        left_out: tuple[LeftOutView, ...] = ()
        if session is not None:
            left_out = tuple(_left_out(session.job, one) for one in journal.left_out(wanted.job))
            runs = _with_earlier(runs, session)
        return JournalView(tuple(journal.events(wanted)), tuple(runs), left_out)

    def export(self, wanted: ExportJournal) -> None:
        """Write the journal out.

        Raises:
            GoodTideError: it cannot be written, or the file's name says no form.
        """
        view, context = self._happened(wanted.filter), self._context
        runs = [run for run in view.runs if run.began >= wanted.filter.since]
        here, now = context.here, context.clock.now()
        export_journal(view.events, runs, Path(wanted.file), here.machine.name, now, here.settings)

    def report(self, wanted: WriteReport) -> str:
        """Write a report now. Returns what became of it, as a sentence.

        Raises:
            GoodTideError: it cannot be sent or written.
        """
        sessions = [one for one in self._sessions.own() if wanted.job in ("", one.job.id)]
        parts = [ReportPart(session.job, self._standing(session)) for session in sessions]
        return self._post.now(parts, wanted.mail, wanted.file)


def _with_earlier(runs: list[Run], session: JobSession) -> list[Run]:
    """The runs of the journal, and those before it that only the store tells of."""
    try:
        tide = session.tide()
    except GoodTideError:
        return runs
    known = {run.snapshot for run in runs}
    job, store = session.job, session.shown.called
    earlier = [
        Run(
            job.id,
            store,
            "",
            point.time,
            0.0,
            "gaps" if point.gaps else "done",
            point.files,
            point.added + point.changed,
            point.added_bytes + point.changed_bytes,
            point.stored,
            point.gaps,
            point.name,
            name=job.name,
        )
        for point in tide
        if point.name not in known
    ]
    return sorted([*runs, *earlier], key=lambda run: -run.began)


def _left_out(job: Job, file: LeftOutFile) -> LeftOutView:
    """A file that was left out, with a rule for it if it is left out again and again."""
    if file.runs < AGAIN_AND_AGAIN:
        return LeftOutView(file)
    pattern = path_pattern(os.fsdecode(file.path), job.home or home_folder(), job.folders)
    return LeftOutView(file, Rule(False, path=pattern).text if pattern else "")
