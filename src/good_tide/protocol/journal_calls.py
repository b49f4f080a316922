"""What happened: the journal, reports on it, and the mail server that they go through."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.core.happenings import Event, Filter, LeftOutFile, Run
from good_tide.core.identifiers import JobId
from good_tide.core.settings import MailServer
from good_tide.protocol.contract import Call


class LeftOutView(msgspec.Struct, frozen=True):
    """A file that the last runs left out; ``rule`` is offered for those that fail again and again."""

    file: LeftOutFile
    rule: str = ""


class JournalView(msgspec.Struct, frozen=True):
    """What happened, newest first: events that fit the filter, all runs of the job, and what they left
    out."""

    events: tuple[Event, ...]
    runs: tuple[Run, ...]
    left_out: tuple[LeftOutView, ...]


class ReadJournal(Call[JournalView], frozen=True):
    """What happened, as far as a filter lets it through."""

    may_block: ClassVar[bool] = True
    filter: Filter


class ExportJournal(Call[None], frozen=True):
    """The journal into a file, as far as a filter lets it through."""

    may_block: ClassVar[bool] = True
    filter: Filter
    file: str


class WriteReport(Call[str], frozen=True):
    """A report now: by mail, or into a file; of one job, or of all for the empty identity. The answer says
    what became of it, as a sentence."""

    may_block: ClassVar[bool] = True
    job: JobId
    mail: bool = False
    file: str = ""


class MailView(msgspec.Struct, frozen=True):
    """The mail server that this machine's reports go through; None while there is none."""

    server: MailServer | None


class ReadMailServer(Call[MailView], frozen=True):
    """The mail server that reports go through."""


class KeepMailServer(Call[None], frozen=True):
    """Keep a mail server, with the password of its login if it was typed."""

    may_block: ClassVar[bool] = True
    server: MailServer
    password: str = ""


class TryMailServer(Call[None], frozen=True):
    """Send a message through a mail server, whether it is kept or not, to somebody."""

    may_block: ClassVar[bool] = True
    server: MailServer
    password: str
    to: str
