"""Sending reports to those who are to have them: by mail, and as HTML files into a folder."""

from __future__ import annotations

import hashlib
import html
import re
from collections.abc import Sequence
from pathlib import Path

from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.settings import Job, MailServer
from good_tide.core.translation import tr
from good_tide.core.words import listed
from good_tide.operations.context import Context
from good_tide.operations.reporting.report import Report, ReportPart, report, write_report
from good_tide.system.jobs import load_jobs
from good_tide.system.mail_server import load_mail_server, save_mail_server


class Post:
    """Sends reports of this machine's jobs."""

    def __init__(self, context: Context) -> None:
        self._context, self._settings, self._ring = context, context.here.settings, context.ring
        self._machine, self._journal = context.here.machine.name, context.journal

    def deliver(self, part: ReportPart) -> None:
        """Send a job's report to everybody who is to have it.

        Raises:
            GoodTideError: it cannot be sent or written.
        """
        made = self.made([part])
        wanted = part.job.reporting
        if wanted.folder:
            names = [job.name for job in load_jobs(self._settings)]
            write_report(
                made, Path(wanted.folder) / f"{_file_name(self._machine, part.job.name, names)}.html"
            )
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
            said.append(tr("written to {file}").format(file=file))
        if mail:
            to = sorted({one for part in parts for one in part.job.reporting.to})
            if not to:
                raise PersonError(
                    tr("Nobody is to have this report"),
                    tr("Name somebody for the job, with “to” in its reporting"),
                )
            self.mail(made, to)
            said.append(tr("sent to {to}").format(to=", ".join(to)))
        return tr("The report was {said}").format(said=listed(said) or "made")

    def made(self, parts: Sequence[ReportPart]) -> Report:
        """A report on some jobs (``reporting.report``)."""
        return report(parts, self._journal, self._machine, self._context.clock.now(), self._settings)

    def mail(self, made: Report, to: Sequence[str]) -> None:
        """Send a report by mail.

        Raises:
            GoodTideError: there is no mail server, or it does not take it.
        """
        from good_tide.system.mailing import (
            send,
        )  # loads the mail libraries, which an agent that sends none does without

        server = load_mail_server(self._settings)
        if server is None:
            raise PersonError(
                tr("There is no mail server"),
                tr("Name one in Rhythm, or with “good-tide mail --server HOST --from ADDRESS”"),
            )
        send(server, to, made.subject, made.text, made.html, self._ring)

    def server(self) -> MailServer | None:
        """The mail server, None while there is none.

        Raises:
            PersonError: its settings cannot be understood.
        """
        return load_mail_server(self._settings)

    def words(self, job: Job) -> str:
        """Through which server a job's reports go, as a sentence; empty where none are wanted."""
        if job.reporting.when == "never" or not job.reporting.to:
            return ""
        try:
            server = self.server()
        except PersonError as error:
            return str(error)
        return (
            tr("By {host}.").format(host=server.host)
            if server is not None
            else tr("There is no mail server yet: choose “Mail server…”.")
        )

    def keep_server(self, server: MailServer, password: str) -> None:
        """Keep the mail server, and the password of its login, unless it is in a file, in the key ring.

        Raises:
            PersonError: there is no server, sender or password.
            PlaceError: the key ring cannot be used now; nothing is kept.
        """
        checked(server)
        if server.login and not server.password_file:
            try:
                if password:
                    self._ring.remember(server.key, password)
                elif self._ring.recall(server.key) is None:
                    raise PersonError(
                        tr("The password of {login} is not known").format(login=server.login), tr("Type it")
                    )
            except PlaceError as error:
                raise PlaceError(
                    error.what,
                    tr("Keep the password in a file instead: “good-tide mail … --password-file FILE”"),
                ) from error
        save_mail_server(self._settings, server)
        self._journal.add(
            "good", None, tr("Reports go through the mail server {host}").format(host=server.host)
        )

    def try_out(self, server: MailServer, password: str, to: str) -> None:
        """Send a message through a mail server that is not kept yet.

        Raises:
            GoodTideError: the server does not take it.
        """
        from good_tide.system.mailing import send

        checked(server)
        words = tr("This is a test from {machine}. Reports will come this way.").format(machine=self._machine)
        send(
            server,
            [to],
            tr("Good Tide on {machine}: a test").format(machine=self._machine),
            words,
            f"<p>{html.escape(words)}</p>",
            self._ring,
            password,
        )


_ADDRESS = re.compile(r"[^\s@<>]+@[^\s@<>]+|[^<>@]*<[^\s@<>]+@[^\s@<>]+>")
"""``office@example.org``, or with a name before it: ``Office <office@example.org>``."""


def checked(server: MailServer) -> MailServer:
    """A mail server that names what is needed.

    Raises:
        PersonError: there is no server, or no sender.
    """
    if not server.host:
        raise PersonError(tr("The mail server is not named"), tr("Write its name, such as smtp.example.org"))
    if not _ADDRESS.fullmatch(server.sender):
        raise PersonError(tr("The sender is no address"), tr("Write one such as office@example.org"))
    return server


def _plain(name: str) -> str:
    return re.sub(r"[^\w-]+", "-", name.casefold()).strip("-")


def _file_name(machine: str, name: str, jobs: Sequence[str]) -> str:
    """What the file of a job's report is called. Of jobs whose names differ only in what files cannot be
    called, all but the first get a digest besides."""
    alike = sorted(other for other in jobs if _plain(other) == _plain(name))
    plain = _plain(f"{machine}-{name}")
    return (
        plain if not alike or alike[0] == name else f"{plain}-{hashlib.sha256(name.encode()).hexdigest()[:6]}"
    )
