"""What clients ask about the health of stores, and about alarms."""

from __future__ import annotations

from good_tide.agent.job_session import JobSession
from good_tide.agent.sessions import Sessions
from good_tide.agent.worker import Worker
from good_tide.core.errors import GoodTideError
from good_tide.core.health import proven_words, store_troubles
from good_tide.core.progress import Silent, Steering, WorkKind
from good_tide.core.settings import Job
from good_tide.operations.alarm.watch import dismiss
from good_tide.operations.context import Context
from good_tide.operations.integrity.health_picture import known_costs, pack_views
from good_tide.operations.integrity.proving import proof_words, prove
from good_tide.operations.integrity.repairing import accept_loss, repair_store, repaired_words
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.opened import has_parity, id_of
from good_tide.protocol.agent_calls import WorkEnded
from good_tide.protocol.contract import Handler
from good_tide.protocol.health_calls import (
    AcceptLoss,
    AlarmView,
    DamageView,
    DismissAlarm,
    HealthView,
    ProveStore,
    ReadAlarm,
    ReadHealth,
    RepairStore,
)

_PATHS_SHOWN = 50


class HealthHandlers:
    """Tells how well stores are, mends them and reads them back."""

    def __init__(self, context: Context, sessions: Sessions, worker: Worker) -> None:
        self._context, self._sessions, self._worker = context, sessions, worker

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (
            ReadHealth.by(self.health),
            RepairStore.by(self.repair),
            ProveStore.by(self.prove),
            AcceptLoss.by(self.accept),
            ReadAlarm.by(self.alarm),
            DismissAlarm.by(self.dismiss),
        )

    def _stores_of(self, session: JobSession, job: Job) -> JobStores:
        other = self._sessions.find(job.id)
        return other.stores if other is not None else session.stores

    def health(self, wanted: ReadHealth) -> HealthView:
        """How well a store is.

        Raises:
            GoodTideError: it cannot be opened.
        """
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        store = session.stores.store(ref)
        now, known = self._context.clock.now(), self._context.health.of(id_of(store))
        packs = pack_views(self._context, store)
        damage = tuple(
            DamageView(
                one.file,
                one.what,
                one.harm,
                tuple(one.affects[:_PATHS_SHOWN]),
                one.more + max(0, len(one.affects) - _PATHS_SHOWN),
                one.versions,
                len(one.snapshots),
            )
            for one in known_costs(store, Silent())
        )
        troubles = store_troubles(ref.called, known, known.written, now)
        return HealthView(
            proven_words(known, now),
            tuple(packs),
            damage,
            tuple((one.what, one.todo) for one in troubles),
            known.lost and not known.accepted,
            has_parity(store),
        )

    def repair(self, wanted: RepairStore) -> None:
        """Begin to mend a store.

        Raises:
            GoodTideError: it cannot be opened, or other work is being done.
        """
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        store = session.stores.store(ref)

        def work(steering: Steering) -> WorkEnded:
            report = repair_store(
                self._context, store, [], lambda job: self._stores_of(session, job), steering
            )
            session.look_again()
            return WorkEnded(WorkKind.REPAIR, words=repaired_words(report, ref.called))

        self._worker.start(WorkKind.REPAIR, work, (session.job,))

    def prove(self, wanted: ProveStore) -> None:
        """Begin to read all of a store back.

        Raises:
            GoodTideError: it cannot be opened, or other work is being done.
        """
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        store, days = session.stores.store(ref), session.job.read_back_days

        def work(steering: Steering) -> WorkEnded:
            proof = prove(
                self._context,
                store,
                days,
                lambda job: self._stores_of(session, job),
                steering,
                by_hand=True,
                everything=True,
            )
            return WorkEnded(WorkKind.PROOF, words=f"{ref.called}: {'; '.join(proof_words(proof))}")

        self._worker.start(WorkKind.PROOF, work, (session.job,))

    def accept(self, wanted: AcceptLoss) -> None:
        """A person has taken notice of what is lost."""
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        accept_loss(self._context, session.stores.store(ref))

    def alarm(self, wanted: ReadAlarm) -> AlarmView | None:
        """What rings for a job."""
        alarm = self._context.alarms.of(wanted.job)
        if alarm is None:
            return None
        return AlarmView(
            alarm.words(self._context.clock.now()), alarm.since, alarm.before, alarm.before_time, alarm.paths
        )

    def dismiss(self, wanted: DismissAlarm) -> None:
        """A person has looked at an alarm."""
        session, alarm = self._sessions.of(wanted.job), self._context.alarms.of(wanted.job)
        ref = next(
            (one for one in session.job.stores if alarm is not None and one.store == alarm.store), None
        )
        try:
            store = session.stores.store(ref) if ref is not None else None
        except GoodTideError:
            store = None
        dismiss(self._context, session.job, store)
