"""Reports by themselves: each morning, each Monday, or on trouble; by mail and into a folder."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from datetime import timedelta

from good_tide.agent.notifier import FAILURES_TOLD
from good_tide.core.clock import SECOND
from good_tide.core.errors import GoodTideError
from good_tide.core.identifiers import JobId
from good_tide.core.job_facts import Topic
from good_tide.core.settings import Job
from good_tide.core.standing import JobStanding
from good_tide.core.translation import tr
from good_tide.core.words import local
from good_tide.operations.context import Context
from good_tide.operations.reporting.post import Post
from good_tide.operations.reporting.report import ReportPart

_HOUR = 7
"""Reports are written from seven in the morning on, when whoever reads them begins to work."""
_TRY_AGAIN = 3600 * SECOND


def report_time(when: str, now: int) -> int | None:
    """The newest moment, not after now, at which a daily or weekly report is due; None for the others."""
    if when not in ("daily", "weekly"):
        return None
    moment = local(now).replace(hour=_HOUR, minute=0, second=0, microsecond=0)
    while int(moment.timestamp()) * SECOND > now or (when == "weekly" and moment.weekday() != 0):
        moment = (moment - timedelta(days=1)).replace(hour=_HOUR)
    return int(moment.timestamp()) * SECOND


class Reports:
    """Writes and sends reports; sending goes on in a thread of its own, as a server may take its time."""

    def __init__(self, context: Context) -> None:
        self._context, self._post = context, Post(context)
        self._clock, self._journal, self._records = context.clock, context.journal, context.records
        self._sending: threading.Thread | None = None
        self._failed_at: dict[JobId, int] = {}

    def look(self, jobs: Sequence[tuple[Job, JobStanding, int]]) -> None:
        """Send what is due; each job with how it stands and how many runs in a row failed."""
        if self._sending is not None and self._sending.is_alive():
            return
        due = [(job, standing) for job, standing, failures in jobs if self._is_due(job, standing, failures)]
        if due:
            self._sending = threading.Thread(target=self._send_all, args=(due,), name="reports", daemon=True)
            self._sending.start()

    def wait(self) -> None:
        """Wait until nothing is being sent."""
        if self._sending is not None:
            self._sending.join()

    def _is_due(self, job: Job, standing: JobStanding, failures: int) -> bool:
        wanted, now = job.reporting, self._clock.now()
        if (
            wanted.when == "never"
            or not (wanted.to or wanted.folder)
            or now - self._failed_at.get(job.id, -_TRY_AGAIN) < _TRY_AGAIN
        ):
            return False
        if wanted.when == "trouble":
            topics = [one.topic for one in standing.status.trouble if one.topic is not Topic.FIRST]
            topics = [topic for topic in topics if topic is not Topic.FAILING or failures >= FAILURES_TOLD]
            news = [topic for topic in topics if self._journal.is_news(f"report/{job.id}/{topic}")]
            return bool(news)
        due, last = report_time(wanted.when, now), self._records.reported(job.id)
        if not last:
            self._records.note_reported(job.id, now)
            return False
        return due is not None and last < due

    def _send_all(self, due: Sequence[tuple[Job, JobStanding]]) -> None:
        for job, standing in due:
            try:
                self._post.deliver(ReportPart(job, standing))
                self._records.note_reported(job.id, self._clock.now())
            except GoodTideError as error:
                self._failed_at[job.id] = self._clock.now()
                if self._journal.is_news(f"report-failed/{job.id}/{error.what}"):
                    self._journal.add(
                        "trouble",
                        job,
                        tr("The report could not be sent"),
                        (error.what,),
                        tr("It is tried again every hour."),
                        error.advice,
                    )
