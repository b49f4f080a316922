"""Handing out what was: copies for other programs, archives."""

from __future__ import annotations

import os
from pathlib import Path

from good_tide.agent.job_session import JobSession
from good_tide.agent.sessions import Sessions
from good_tide.agent.worker import Worker
from good_tide.core.errors import PersonError
from good_tide.core.progress import Silent, Steering, WorkKind
from good_tide.core.translation import tr
from good_tide.core.words import count_words, printable, size_words
from good_tide.operations.context import Context
from good_tide.operations.restore.archive import check_target, totals, write_archive
from good_tide.operations.restore.handed import Handed, known_copies, make_copies
from good_tide.operations.restore.plan import Wish
from good_tide.protocol.agent_calls import WorkEnded
from good_tide.protocol.contract import Handler
from good_tide.protocol.handing_calls import CopiesView, MakeCopies, SaveArchive
from good_tide.protocol.restore_calls import PickedItem

_AT_ONCE_BYTES, _AT_ONCE_FILES = 64 << 20, 2000
"""So much is copied while somebody waits; more is work that is shown."""
SUMS_ENDING = ".sha256"


class HandingHandlers:
    """Makes copies and archives."""

    def __init__(self, context: Context, sessions: Sessions, worker: Worker) -> None:
        self._context, self._sessions, self._worker = context, sessions, worker

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (MakeCopies.by(self.copies), SaveArchive.by(self.archive))

    @staticmethod
    def _wishes(session: JobSession, items: tuple[PickedItem, ...]) -> list[Wish]:
        """What is asked for.

        Raises:
            PersonError: nothing is, or a snapshot is no longer kept.
        """
        if not items:
            raise PersonError(tr("Nothing is chosen"), tr("Choose a file or a folder"))
        return [Wish(session.snapshot(item.snapshot, item.time), item.path) for item in items]

    def copies(self, wanted: MakeCopies) -> CopiesView:
        """Copies of some things; much is made as work.

        Raises:
            GoodTideError: one is not there, or there is no room.
        """
        session = self._sessions.of(wanted.job)
        wishes, cache = self._wishes(session, wanted.items), self._context.here.cache
        known = known_copies(cache, wishes)
        if known is not None:
            return _view(known)
        store = session.store()
        much = totals(store, wishes, Silent())
        if much.size <= _AT_ONCE_BYTES and much.files <= _AT_ONCE_FILES:
            return _view(make_copies(store, wishes, cache, self._context.clock, Silent()))

        def work(steering: Steering) -> WorkEnded:
            made = make_copies(store, wishes, cache, self._context.clock, steering)
            words = tr("The copies are ready: drag or copy the same again")
            return _ended(words, made.problems, "")

        self._worker.start(WorkKind.HAND_OUT, work, (session.job,))
        return CopiesView((), much.size, coming=True)

    def archive(self, wanted: SaveArchive) -> None:
        """Begin to save some things as an archive.

        Raises:
            PersonError: its name says no kind of archive, or it is there already.
        """
        session, target = self._sessions.of(wanted.job), wanted.target
        wishes, store = self._wishes(session, wanted.items), session.store()
        sums = Path(target + SUMS_ENDING) if wanted.sums else None
        check_target(target, sums)

        def work(steering: Steering) -> WorkEnded:
            with open(os.devnull, "wb") as nowhere:
                report = write_archive(store, wishes, target, nowhere, steering, sums)
            words = tr("{files}, {size}, are in {target}").format(
                files=count_words(report.files, "file"), size=size_words(report.size), target=target
            )
            problems = tuple(f"{printable(path)}: {why}" for path, why in report.problems)
            return _ended(words, problems, os.path.dirname(target))

        self._worker.start(WorkKind.HAND_OUT, work, (session.job,))


def _view(handed: Handed) -> CopiesView:
    return CopiesView(tuple(map(str, handed.paths)), 0, handed.problems)


def _ended(words: str, problems: tuple[str, ...], place: str) -> WorkEnded:
    """The end of it; with what is not there, as a restore says it."""
    return WorkEnded(WorkKind.HAND_OUT, words=words, problems=problems, place=place)
