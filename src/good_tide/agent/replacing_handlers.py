"""What clients ask and do where the disk of a store was replaced or emptied."""

from __future__ import annotations

import contextlib

from good_tide.agent.job_session import JobSession
from good_tide.agent.passphrases import TypedPassphrases
from good_tide.agent.sessions import Sessions
from good_tide.agent.worker import Worker
from good_tide.core.errors import GoodTideError, PersonError, PlaceError
from good_tide.core.planning import Occasion
from good_tide.core.progress import Steering, WorkKind
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words
from good_tide.operations.context import Context
from good_tide.operations.snapshot.replacing import (
    Replaced,
    begin_replacing,
    carry_left,
    finish_replacing,
    let_left_go,
    look_at_replaced,
)
from good_tide.operations.snapshot.taking import Steps
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.left_behind import left_count
from good_tide.operations.stores.passphrases import kept_passphrase
from good_tide.protocol.agent_calls import WorkEnded
from good_tide.protocol.contract import Handler
from good_tide.protocol.replacing_calls import (
    CarryLeft,
    LetLeftGo,
    LookAtReplaced,
    ReplacedView,
    ReplaceStore,
)
from good_tide.protocol.setup_calls import MadeView


class ReplacingHandlers:
    """Goes on with another disk, and with what was left behind."""

    def __init__(self, context: Context, sessions: Sessions, typed: TypedPassphrases, worker: Worker) -> None:
        self._context, self._sessions, self._typed, self._worker = context, sessions, typed, worker

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (
            LookAtReplaced.by(self.look),
            ReplaceStore.by(self.replace),
            CarryLeft.by(self.carry_left),
            LetLeftGo.by(self.let_go),
        )

    def _passphrase(self, session: JobSession, ref: StoreRef, typed: str) -> str | None:
        if typed:
            return typed
        with contextlib.suppress(PersonError):
            return self._typed.known(ref.store) or kept_passphrase(session.job, ref.store, self._context.ring)
        return None

    def _stores_of(self, job: Job) -> JobStores:
        return JobStores(self._context, job, self._typed)

    def look(self, wanted: LookAtReplaced) -> ReplacedView:
        """What is in the place of a store, and what waits for it.

        Raises:
            PlaceError: its disk is away.
        """
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        where = session.stores.present(ref)
        found = look_at_replaced(self._context, ref, where)
        return ReplacedView(
            where.called,
            found.waiting,
            left_count(self._context.here.holdings, ref),
            found.encrypted,
            found.hint,
            self._passphrase(session, ref, "") is not None,
            found.other,
            found.other_hint,
        )

    def replace(self, wanted: ReplaceStore) -> MadeView:
        """Make the new store; begin to take a snapshot into it and to carry over what waits.

        Raises:
            PersonError: other work is being done, or the old store is there after all.
            WrongPassphraseError: it does not open what waits, or what is there.
        """
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        self._worker.make_way()
        if self._worker.current is not None:
            raise PersonError(tr("Other work is being done"), tr("Wait until it is done, or stop it"))
        where, passphrase = session.stores.present(ref), self._passphrase(session, ref, wanted.passphrase)
        begun = begin_replacing(self._context, ref, where, passphrase, wanted.of_other or None)
        opens = wanted.of_other or passphrase
        notes = []
        if opens is not None:
            self._typed.keep(begun.store, opens)
            with contextlib.suppress(PlaceError):
                if self._context.ring.recall(ref.store) is not None:
                    self._context.ring.remember(begun.store, opens)

        def work(steering: Steering) -> WorkEnded:
            steps = Steps(control=steering, occasion=Occasion.HAND)
            done = finish_replacing(self._context, session.job, ref, passphrase, self._stores_of, steps)
            self._sessions.take(done.job).look_again()
            return WorkEnded(WorkKind.REPLACE, words=_words(done))

        try:
            self._worker.start(WorkKind.REPLACE, work, (session.job,))
        except GoodTideError as error:  # the recovery key is to be seen all the same
            notes.append(tr("{error} Then go on with the disk again.").format(error=error))
        return MadeView(wanted.job, where.called, begun.recovery_key, tuple(notes))

    def carry_left(self, wanted: CarryLeft) -> None:
        """Begin to try again to carry over what was left behind.

        Raises:
            GoodTideError: other work is being done.
        """
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        passphrase = self._passphrase(session, ref, wanted.passphrase)

        def work(steering: Steering) -> WorkEnded:
            done = carry_left(self._context, session.job, ref, passphrase, self._stores_of, steering)
            session.look_again()
            return WorkEnded(WorkKind.REPLACE, words=_words(done))

        self._worker.start(WorkKind.REPLACE, work, (session.job,))

    def let_go(self, wanted: LetLeftGo) -> None:
        """Forget what was left behind.

        Raises:
            PersonError: nothing was.
        """
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        let_left_go(self._context, session.job, ref)


def _words(done: Replaced) -> str:
    """What became of it, in a line."""
    words = tr("{arrived} that waited for the old disk came into the store").format(
        arrived=count_words(done.arrived, "snapshot")
    )
    return (
        tr("{words}; {left} could not be carried and stay on this machine").format(
            words=words, left=number_words(len(done.left))
        )
        if done.left
        else words
    )
