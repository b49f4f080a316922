"""What clients ask of paths that somebody names from outside, such as in a file manager."""

from __future__ import annotations

import os

from good_tide.agent.sessions import Sessions
from good_tide.core.covered_paths import PathIs
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import JobId
from good_tide.core.translation import tr
from good_tide.core.words import is_text, printable
from good_tide.operations.context import Context
from good_tide.operations.coverage.placing import placed, with_path
from good_tide.operations.jobs.changing import change_coverage
from good_tide.protocol.contract import Handler
from good_tide.protocol.history_calls import FoundView
from good_tide.protocol.path_calls import CoverPath, FindMissing, FindPath, PathView


class PathHandlers:
    """Finds the job of a path, covers one, and says what is missing in one."""

    def __init__(self, context: Context, sessions: Sessions) -> None:
        self._context, self._sessions = context, sessions

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (FindPath.by(self.find), CoverPath.by(self.cover), FindMissing.by(self.missing))

    def find(self, wanted: FindPath) -> PathView:
        """Where a path lies: in the job that covers it, or else in one that has it in its history."""
        sessions = sorted(self._sessions.own(), key=lambda one: one.job.id != wanted.preferred)
        at = placed([one.job for one in sessions], os.fsdecode(wanted.path), self._context.clock.now())
        path = os.fsencode(at.path)
        session = self._sessions.find(at.job.id) if at.job is not None else None
        known = session.ever_had(path) if session is not None else None
        if at.how in (PathIs.OUTSIDE, PathIs.ABOVE):
            other = next((one for one in sessions if one.ever_had(path)), None)
            session, known = (other, True) if other is not None else (session, known)
        there, words = os.path.lexists(path), at.words
        folder = os.path.isdir(path) and not os.path.islink(path)
        if at.how is PathIs.OUTSIDE and sessions:
            session = session or sessions[0]
            known = known or False
            words = self._would_cover(path, session.job.name) if there else ""
        if session is None:
            return PathView(JobId(""), path, at.how, None, folder, there)
        return PathView(
            session.job.id,
            path,
            at.how,
            known,
            session.had_folder(path) if known else folder,
            there,
            session.nearest(path) if known is False and at.how is PathIs.IN else b"",
            words,
        )

    @staticmethod
    def _would_cover(path: bytes, job: str) -> str:
        folder = path if os.path.isdir(path) else os.path.dirname(path)
        return tr("{folder} would be covered by the job {job}.").format(folder=printable(folder), job=job)

    def cover(self, wanted: CoverPath) -> str:
        """Cover a path from now on.

        Raises:
            PersonError: it is not there, or settings cannot hold its name.
        """
        path, job = os.fsdecode(wanted.path), self._sessions.of(wanted.job).job
        if not os.path.lexists(path):
            raise PersonError(
                tr("{path} is not there").format(path=printable(wanted.path)), tr("Check the path")
            )
        if not is_text(path):
            raise PersonError(
                tr("The name of {path} is no UTF-8 text, which settings cannot hold").format(
                    path=printable(wanted.path)
                ),
                tr("Cover the folder it lies in"),
            )
        folders, rules = with_path(job, path)
        changed = change_coverage(self._context, job, folders, rules)
        self._sessions.take(changed)
        if rules != job.rules:
            return tr("{path} is taken in from now on, by a rule above the others.").format(path=path)
        return tr("{folder} is covered from now on, by the job {job}.").format(
            folder=folders[-1], job=job.name
        )

    def missing(self, wanted: FindMissing) -> FoundView:
        """What was ever in a folder and is not on the disk now."""
        return self._sessions.of(wanted.job).missing(wanted.path, wanted.most)
