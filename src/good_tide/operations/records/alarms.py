"""What is remembered of alarms: what the last snapshots of each job changed, and the alarm that nobody has
looked at yet."""

from __future__ import annotations

from pathlib import Path

import msgspec

from good_tide.core.alarm import WINDOW, Alarm, Judged
from good_tide.core.errors import PlaceError
from good_tide.core.identifiers import JobId
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.operations.records.kept_file import KeptFile

_FILE = "alarms.json"


class _JobAlarm(msgspec.Struct, omit_defaults=True):
    lately: list[Judged] = []
    alarm: Alarm | None = None


class _Alarms(msgspec.Struct, omit_defaults=True):
    jobs: dict[JobId, _JobAlarm] = {}


class AlarmRecords:
    """The alarms of all jobs.

    :param records: the folder of the settings' records.
    """

    def __init__(self, records: Path) -> None:
        self._file = KeptFile(records / _FILE, _Alarms)

    def of(self, job: JobId) -> Alarm | None:
        """The alarm of a job that nobody has looked at yet."""
        known = self._file.read().jobs.get(job)
        return known.alarm if known is not None else None

    def lately(self, job: JobId) -> list[Judged]:
        """What a job's last snapshots changed, as far as it is strange."""
        known = self._file.read().jobs.get(job)
        return list(known.lately) if known is not None else []

    def note(self, job: JobId, judged: Judged) -> None:
        """A snapshot was judged, and is strange."""
        with self._file.changing() as alarms:
            known = alarms.jobs.setdefault(job, _JobAlarm())
            known.lately = [one for one in known.lately if judged.time - one.time <= WINDOW] + [judged]

    def ring(self, job: JobId, alarm: Alarm) -> None:
        """Keep an alarm until somebody has looked."""
        with self._file.changing() as alarms:
            alarms.jobs.setdefault(job, _JobAlarm()).alarm = alarm

    def dismiss(self, job: JobId) -> Alarm | None:
        """Somebody has looked: what was strange is meant. The alarm that there was."""
        with self._file.changing() as alarms:
            known = alarms.jobs.pop(job, None)
            return known.alarm if known is not None else None

    def refuse_release(self, job: Job | None, now: int) -> None:
        """Refuse to release anything while nobody has looked at an alarm.

        Raises:
            PlaceError: there is one.
        """
        alarm = self.of(job.id) if job is not None else None
        if alarm is not None:
            raise PlaceError(
                tr("Nothing is released while nobody has looked at this: {words}").format(
                    words=alarm.words(now)
                ),
                tr("See “good-tide alarm show”; when all is as it should be, “good-tide alarm dismiss”"),
            )
