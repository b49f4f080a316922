"""Sending reports to those who are to have them: by mail, and as HTML files into a folder."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from good_tide.core.clock import Clock
from good_tide.core.errors import PersonError
from good_tide.operations.journal import Journal
from good_tide.operations.reporting import Report, ReportPart, report, write_report
from good_tide.system.keyrings import KeyRing
from good_tide.system.mail_server import load_mail_server


class Post:
    """Sends reports of this machine's jobs."""

    def __init__(self, settings: Path, machine: str, clock: Clock, journal: Journal, ring: KeyRing) -> None:
        self._settings, self._machine, self._clock, self._journal, self._ring = settings, machine, clock, journal, ring

    def deliver(self, part: ReportPart) -> None:
        """Send a job's report to everybody who is to have it.

        Raises:
            GoodTideError: it cannot be sent or written.
        """
        made = self.made([part])
        wanted = part.job.reporting
        if wanted.folder:
            plain = re.sub(r"[^\w-]+", "-", f"{self._machine}-{part.job.name}".casefold()).strip("-")
            write_report(made, Path(wanted.folder) / f"{plain}.html")
        if wanted.to:
            self.mail(made, wanted.to)

    def now(self, parts: Sequence[ReportPart], mail: bool, file: str) -> str:
        """Write a report at once, by mail, into a file, or both. Returns what became of it, as a sentence.

        Raises:
            GoodTideError: it cannot be sent or written, or nobody is to have it.
        """
        made, said = self.made(parts), []
        if file:
            write_report(made, Path(file))
            said.append(f"written to {file}")
        if mail:
            to = sorted({one for part in parts for one in part.job.reporting.to})
            if not to:
                raise PersonError("Nobody is to have this report", "Name somebody for the job, with “to” in its reporting")
            self.mail(made, to)
            said.append(f"sent to {', '.join(to)}")
        return f"The report was {' and '.join(said) or 'made'}"

    def made(self, parts: Sequence[ReportPart]) -> Report:
        """A report on some jobs (``reporting.report``)."""
        return report(parts, self._journal, self._machine, self._clock.now(), self._settings)

    def mail(self, made: Report, to: Sequence[str]) -> None:
        """Send a report by mail.

        Raises:
            GoodTideError: there is no mail server, or it does not take it.
        """
        from good_tide.system.mailing import send  # loads the mail libraries, which an agent that sends none does without

        server = load_mail_server(self._settings)
        if server is None:
            raise PersonError("There is no mail server", "Name one with “good-tide mail --server HOST --from ADDRESS”")
        send(server, to, made.subject, made.text, made.html, self._ring)
