"""Paths that somebody names from outside, such as in a file manager: which job has them, covering them, and
what is missing in them."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from good_tide.core.covered_paths import PathIs
from good_tide.core.identifiers import JobId
from good_tide.protocol.contract import Call, JobCall
from good_tide.protocol.history_calls import FoundView


class PathView(msgspec.Struct, frozen=True):
    """Where a path lies.

    :param job: that has it in its history or covers it; empty if none does.
    :param path: as the job's folders spell it.
    :param known: whether it was ever in a snapshot of the job; None where that cannot be known now.
    :param is_folder: by history, or by the disk.
    :param there: whether it is on the disk now.
    :param nearest: the folder above it that was ever in a snapshot; empty where none was.
    :param words: why it is in or out, or what would be covered, in a sentence.
    """

    job: JobId
    path: bytes
    how: PathIs
    known: bool | None
    is_folder: bool
    there: bool
    nearest: bytes = b""
    words: str = ""


class FindPath(Call[PathView], frozen=True):
    """Where an absolute path lies; in a job that is preferred, if that has it too."""

    may_block: ClassVar[bool] = True
    path: bytes
    preferred: JobId = JobId("")


class CoverPath(JobCall[str], frozen=True):
    """Cover a path from now on. The answer says in a sentence what was changed."""

    may_block: ClassVar[bool] = True
    path: bytes


class FindMissing(JobCall[FoundView], frozen=True):
    """What was ever in a folder and is not on the disk now; at most so many things."""

    may_block: ClassVar[bool] = True
    path: bytes
    most: int
