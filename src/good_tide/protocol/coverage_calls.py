"""What is covered: surveys of folders under rules, why a path is in or out, and keeping a change."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.core.coverage import Covered
from good_tide.core.identifiers import JobId
from good_tide.protocol.contract import Call, JobCall, Note, Topic


class RuleView(msgspec.Struct, array_like=True, frozen=True):
    """What a rule catches now. ``note`` says why it catches nothing, empty where it does; ``hidden_by`` is
    the rule that decides first."""

    text: str
    files: int
    size: int
    largest: tuple[tuple[int, bytes], ...]
    note: str = ""
    hidden_by: int | None = None


class FolderShare(msgspec.Struct, array_like=True, frozen=True):
    """A folder in the survey: files and bytes in and out with everything below; ``fresh`` bytes were changed
    in the last week.

    :param state: whether it is in, out or partly in.
    :param deeper: whether there are folders in it.
    """

    path: bytes
    files: int
    size: int
    out_files: int
    out_size: int
    fresh: int
    state: Covered
    deeper: bool


class SurveyView(Note, frozen=True):
    """What is covered, as far as it was looked at; ``done`` when everything was. Told to whoever asked.

    :param number: the one that was asked with.
    :param stay: files of earlier snapshots that these rules would leave out from now on; None while not
        known.
    """

    topic: ClassVar[Topic] = Topic.SURVEY
    number: int
    done: bool
    files: int
    size: int
    out_files: int
    out_size: int
    rules: tuple[RuleView, ...]
    folders: tuple[FolderShare, ...]
    missing: tuple[bytes, ...] = ()
    stay: int | None = None


class SurveyFolders(JobCall[None], frozen=True):
    """Look at folders under some rules, for a job, or for one that is being set up (empty). In place of what
    the same client asked before; ``SurveyView`` tells how far it is.

    :param number: comes back with what is told, and is another one for each question of a client.
    :param home: what ``~/`` stands for.
    """

    number: int
    folders: tuple[str, ...]
    rules: tuple[str, ...] = ()
    again: bool = False
    home: str = ""


class ReadSurveyedFolder(Call[list[FolderShare]], frozen=True):
    """The folders in one folder of the last survey that was asked for and is complete."""

    path: bytes


class WhyView(msgspec.Struct, frozen=True):
    """Why a path is in or out, in words; ``rule`` is the deciding one's position."""

    path: bytes
    is_in: bool
    rule: int | None
    words: str


class AskWhy(JobCall[WhyView], frozen=True):
    """Why a path is in or out under some folders and rules."""

    path: bytes
    folders: tuple[str, ...]
    rules: tuple[str, ...]
    home: str = ""


class KindView(msgspec.Struct, frozen=True):
    """A kind of files.

    :param word: what rules call it. :param words: everything that it catches, as a sentence says it.
    :param own: endings that the job added. :param everybody: whether every job has it.
    :param files: how many it catches in the covered folders, and their ``size``; None while not known.
    """

    word: str
    title: str
    words: str
    own: tuple[str, ...]
    everybody: bool
    files: int | None = None
    size: int = 0


class ReadKinds(JobCall[list[KindView]], frozen=True):
    """The kinds of files that a job has, and what each catches in the last survey that was asked for and is
    complete."""

    may_block: ClassVar[bool] = True


class KeepKinds(JobCall[None], frozen=True):
    """Keep what a job adds to the kinds of files: further endings, and kinds of its own."""

    kinds: dict[str, tuple[str, ...]]


class KeepCoverage(JobCall[None], frozen=True):
    """Keep changed folders and rules."""

    folders: tuple[str, ...]
    rules: tuple[str, ...]


NO_JOB = JobId("")
"""In place of a job: one that is being set up."""
