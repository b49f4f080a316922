"""Telling people by themselves: notifications, as noisy as each job wants, and the same trouble once a day at
most."""

from __future__ import annotations

from collections.abc import Callable

from good_tide.core.identifiers import JobId
from good_tide.core.job_facts import Topic
from good_tide.core.settings import Job
from good_tide.core.standing import JobStanding
from good_tide.core.translation import tr
from good_tide.operations.records.journal import Journal
from good_tide.system.notices import Notices

SHOWS = tr("Show")
_PLACES = {
    Topic.DAMAGE: "stores",
    Topic.LOCKED: "timeline",
    Topic.AWAY: "stores",
    Topic.FULL: "stores",
    Topic.STORE: "journal",
}
_SILENT = frozenset((Topic.FIRST,))
"""Seen in the window by whoever sets a job up; nobody is told of it at night."""
FAILURES_TOLD = 2
"""A run that fails once and goes well minutes later is nobody's business."""


class Notifier:
    """Tells of troubles, their end, and snapshots.

    :param show: opens the window at a place of a job.
    """

    def __init__(self, notices: Notices, journal: Journal, show: Callable[[JobId, str], None]) -> None:
        self._notices, self._journal, self._show = notices, journal, show

    def standing(self, job: Job, standing: JobStanding, failures: int) -> None:
        """Take notice of how a job stands: new troubles are told, and those that are over."""
        present = {
            trouble.topic: trouble for trouble in standing.status.trouble if trouble.topic not in _SILENT
        }
        if failures < FAILURES_TOLD:
            present.pop(Topic.FAILING, None)
        for trouble in present.values():
            topic = trouble.topic
            if self._journal.is_news(f"{job.id}/{topic}"):
                self._notices.tell(
                    f"{job.name}: {trouble.what}", trouble.todo, "critical", SHOWS, self._to(job, topic)
                )
        for key in self._journal.open_told(f"{job.id}/"):
            over = next((topic for topic in Topic if key == f"{job.id}/{topic}"), None)
            if over is not None and over not in present:
                self._journal.is_over(key)
                if job.noise != "trouble":
                    self._notices.tell(
                        f"{job.name}: {_OVER[over]}",
                        standing.status.sentence,
                        "low",
                        SHOWS,
                        self._to(job, over),
                    )

    def _to(self, job: Job, topic: Topic) -> Callable[[], None]:
        return lambda: self._show(job.id, _PLACES.get(topic, "journal"))

    def first(self, job: Job, words: str) -> None:
        """The first snapshot of a job was taken."""
        if job.noise != "trouble":
            self._notices.tell(
                tr("{name}: the first snapshot is done").format(name=job.name),
                words,
                "low",
                SHOWS,
                lambda: self._show(job.id, "timeline"),
            )

    def snapshot(self, job: Job, words: str) -> None:
        """A snapshot was taken."""
        if job.noise == "everything":
            self._notices.tell(f"{job.name}", words, "low", SHOWS, lambda: self._show(job.id, "timeline"))

    def end_of_day(self, words: str, stop: Callable[[], None]) -> None:
        """The machine is about to sleep; it can be stopped."""
        self._notices.tell(tr("The last run of the day is done"), words, "critical", tr("Stay on"), stop)

    def warn(self, job: Job, what: str, todo: str) -> None:
        """Something that cannot wait for the next look."""
        self._notices.tell(
            f"{job.name}: {what}", todo, "critical", SHOWS, lambda: self._show(job.id, "stores")
        )


_OVER = {
    Topic.ALARM: tr("somebody has looked at what changed"),
    Topic.DAMAGE: tr("the store is whole again"),
    Topic.LOCKED: tr("the store is open again"),
    Topic.FAILING: tr("snapshots work again"),
    Topic.GAPS: tr("all files could be read again"),
    Topic.AWAY: tr("the disk is back"),
    Topic.FIRST: tr("there is a snapshot"),
    Topic.LATE: tr("snapshots are taken again"),
    Topic.FULL: tr("there is room again"),
    Topic.STORE: tr("the store is as it should be again"),
}
