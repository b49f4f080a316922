"""What people ask and do about the stores of a job: opening and choosing them, who may read them, their room,
and releasing and taking out by hand."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

from good_tide.agent.job_session import JobSession
from good_tide.agent.passphrases import TypedPassphrases
from good_tide.agent.sessions import Sessions
from good_tide.agent.worker import Worker
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.forecast import curve, full_in
from good_tide.core.progress import Silent, Steering, WorkKind
from good_tide.core.records import Machine
from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words
from good_tide.operations.context import Context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.jobs import changing
from good_tide.operations.retention.by_hand import (
    elsewhere,
    pin_by_hand,
    plan_by_hand,
    purge_by_hand,
    release_by_hand,
)
from good_tide.operations.retention.precious import precious_now
from good_tide.operations.retention.purge import plan_purge
from good_tide.operations.retention.room import all_parts, store_room
from good_tide.operations.retention.sweeping import sweep_store, swept_words
from good_tide.operations.retention.thinning import always_kept, pinned
from good_tide.operations.stores import readers
from good_tide.operations.stores.carrying import carry
from good_tide.operations.stores.ejecting import eject
from good_tide.operations.stores.fleet import fleet, reinstate, retire
from good_tide.operations.stores.opened import all_snapshots, called, id_of
from good_tide.operations.stores.opening import Store, open_ledger
from good_tide.protocol.agent_calls import HistoryChanged, WorkEnded
from good_tide.protocol.contract import Handler, Note
from good_tide.protocol.setup_calls import MadeView
from good_tide.protocol.store_calls import (
    AddPassphrase,
    AddRecoveryKey,
    CarryHistory,
    ChangePassphrase,
    DropStore,
    EjectDisk,
    HeldHistory,
    HeldSnapshot,
    KeepRoom,
    ListSlots,
    LookInto,
    MachineView,
    PinSnapshots,
    PlanPurge,
    PlanRelease,
    Purge,
    PurgeView,
    ReadFleet,
    ReadHeldHistory,
    ReadRoom,
    ReleaseSnapshots,
    ReleaseView,
    RetireMachine,
    RevokeSlot,
    RoomView,
    SlotView,
    StoreCall,
    Unlock,
    Unlocked,
    UseStores,
)

_WEEKS_SHOWN = 26
_PATHS_SHOWN = 200


class StoreHandlers:
    """Opens, chooses and changes the stores of jobs."""

    def __init__(
        self,
        context: Context,
        sessions: Sessions,
        typed: TypedPassphrases,
        worker: Worker,
        poke: Callable[[], None],
    ) -> None:
        self._context, self._sessions, self._typed, self._worker = context, sessions, typed, worker
        self._poke = poke

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (
            Unlock.by(self.unlock),
            DropStore.by(self.drop),
            UseStores.by(self.use),
            LookInto.by(self.look_into),
            CarryHistory.by(self.carry),
            ListSlots.by(self.slots),
            ChangePassphrase.by(self.change_passphrase),
            AddPassphrase.by(self.add_passphrase),
            AddRecoveryKey.by(self.add_recovery_key),
            RevokeSlot.by(self.revoke),
            EjectDisk.by(self.eject),
            ReadFleet.by(self.fleet),
            RetireMachine.by(self.retire),
        )

    def _opened(self, wanted: StoreCall[Any]) -> Store:
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        return session.stores.store(ref)

    def unlock(self, wanted: Unlock) -> Unlocked:
        """Open the store that is looked into, and remember its passphrase in the key ring by choice.

        Raises:
            WrongPassphraseError: it does not open. PlaceError: too many wrong ones lately.
        """
        store = self._sessions.of(wanted.job).unlock(wanted.passphrase)
        self._typed.keep(store, wanted.passphrase)
        if wanted.remember:
            try:
                self._context.ring.remember(store, wanted.passphrase)
            except PlaceError as error:
                return Unlocked(str(error))
        return Unlocked()

    def drop(self, wanted: DropStore) -> None:
        """Take a store out of a job; the store itself stays as it is.

        Raises:
            PersonError: it is the only one.
        """
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        changed = changing.drop_store(self._context, session.job, ref)
        self._sessions.take(changing.keep(self._context, changed))

    def use(self, wanted: UseStores) -> None:
        """Keep whether snapshots go to all stores or to one in turn."""
        job = self._sessions.of(wanted.job).job
        self._sessions.take(changing.use_stores(self._context, job, wanted.use))

    def look_into(self, wanted: LookInto) -> None:
        """Show history from another of the job's stores."""
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        session.look_into(ref)

    def carry(self, wanted: CarryHistory) -> None:
        """Begin to carry all snapshots from one of the job's stores to another."""
        session = self._sessions.of(wanted.job)
        source = session.stores.store(session.ref(wanted.source))
        target = session.stores.store(session.ref(wanted.target))

        def work(steering: Steering) -> WorkEnded:
            report = carry(source, target, None, self._context.here.state, steering)
            words = tr("Carried {carried} over, {stored_bytes} stored; {already} were there already").format(
                carried=count_words(len(report.carried), "snapshot"),
                stored_bytes=size_words(report.stored_bytes),
                already=report.already,
            )
            damaged = tuple(text for _, text in report.damaged)
            self._context.journal.add("note" if damaged else "good", session.job, words, damaged)
            return WorkEnded(WorkKind.CARRY, words=words)

        self._worker.start(WorkKind.CARRY, work, (session.job,))

    def slots(self, wanted: ListSlots) -> list[SlotView]:
        """The ways to open a store."""
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        slots = readers.list_slots(session.stores.present(ref))
        return [SlotView(slot.number, slot.kind, slot.hint) for slot in slots]

    def change_passphrase(self, wanted: ChangePassphrase) -> MadeView:
        """Another passphrase in place of the old one; the key ring is brought along where it knew the old
        one."""
        store, ring = self._opened(wanted), self._context.ring
        notes = [readers.change_passphrase(self._context, store, wanted.old, wanted.new, wanted.hint)]
        identity = id_of(store)
        self._typed.keep(identity, wanted.new)
        try:
            if wanted.remember or ring.recall(identity) is not None:
                ring.remember(identity, wanted.new)
        except PlaceError as error:
            notes.append(str(error))
        return MadeView(wanted.job, called(store), None, tuple(notes))

    def add_passphrase(self, wanted: AddPassphrase) -> MadeView:
        """A further passphrase."""
        store = self._opened(wanted)
        words = readers.add_passphrase(self._context, store, wanted.new, wanted.hint)
        return MadeView(wanted.job, called(store), None, (words,))

    def add_recovery_key(self, wanted: AddRecoveryKey) -> MadeView:
        """A further recovery key."""
        store = self._opened(wanted)
        key, words = readers.add_recovery_key(self._context, store)
        return MadeView(wanted.job, called(store), key, (words,))

    def revoke(self, wanted: RevokeSlot) -> MadeView:
        """One of the ways to open the store no longer opens it."""
        store = self._opened(wanted)
        words = readers.revoke(self._context, store, wanted.number)
        return MadeView(wanted.job, called(store), None, (words,))

    def eject(self, wanted: EjectDisk) -> str:
        """Take the disk of a store away safely.

        Raises:
            GoodTideError: it cannot be, or something still uses it.
        """
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        self._worker.make_way()
        if self._worker.current is not None:
            raise PersonError(
                tr("The disk is being worked with"),
                tr("Wait until it is done, or stop it; then eject the disk"),
            )
        where = session.stores.present(ref)
        for one in self._sessions.all():
            one.look_again()
        words = eject(self._context, where)
        self._poke()
        return words

    def fleet(self, wanted: ReadFleet) -> list[MachineView]:
        """All machines that use a store, those that are late first."""
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        return machine_views(session.stores.store(ref), session.machine, self._context.clock.now())

    def retire(self, wanted: RetireMachine) -> list[MachineView]:
        """Say of a machine that it takes no more snapshots, or that it is watched again."""
        session, ref = self._sessions.store_of(wanted.job, wanted.store)
        store, now = session.stores.store(ref), self._context.clock.now()
        if wanted.retired:
            retire(store, wanted.machine, wanted.of_job, now)
        else:
            reinstate(store, wanted.machine, wanted.of_job)
        return machine_views(store, session.machine, now)


def machine_views(store: Store, mine: Machine, now: int) -> list[MachineView]:
    """The machines that use a store, as the window shows them."""
    return [
        MachineView(
            row.record.machine.name,
            row.record.job,
            row.record.time,
            row.late,
            row.snapshots,
            row.record.rhythm,
            row.record.machine.id == mine.id,
            row.week,
            row.record.files,
            row.record.gaps,
            row.record.retired,
        )
        for row in fleet(store, now)
    ]


class RoomHandlers:
    """Answers for the room that history takes, and gives some back by hand.

    :param tell: tells clients.
    """

    def __init__(
        self, context: Context, sessions: Sessions, worker: Worker, tell: Callable[[Note], None]
    ) -> None:
        self._context, self._sessions, self._worker, self._tell = context, sessions, worker, tell
        self._reckoning = threading.Lock()
        """One ledger at a time is read and written."""

    def handlers(self) -> tuple[Handler, ...]:
        """What clients may ask."""
        return (
            ReadRoom.by(self.room),
            KeepRoom.by(self.keep_room),
            PinSnapshots.by(self.pin),
            ReadHeldHistory.by(self.held),
            PlanRelease.by(self.plan_release),
            ReleaseSnapshots.by(self.release),
            PlanPurge.by(self.plan_purge),
            Purge.by(self.purge),
        )

    def _opened(self, wanted: StoreCall[Any]) -> tuple[JobSession, Store]:
        session = self._sessions.of(wanted.job)
        return session, session.stores.store(session.ref(wanted.store))

    def room(self, wanted: ReadRoom) -> RoomView:
        """Room of one of a job's stores, with a forecast from this machine's snapshots."""
        session, store = self._opened(wanted)
        room = session.job.room
        found = store_room(self._context, store, room, session.tide())
        full, coming = full_in(found.added, found.usable), curve(found.added, _WEEKS_SHOWN)
        return RoomView(room, found.usable, found.short, full, coming)

    def keep_room(self, wanted: KeepRoom) -> None:
        """Keep what the stores of a job may take."""
        job = self._sessions.of(wanted.job).job
        self._sessions.take(changing.change_room(self._context, job, wanted.room))

    def pin(self, wanted: PinSnapshots) -> None:
        """Pin snapshots of a store, or take their pins away."""
        session, store = self._opened(wanted)
        for snapshot in wanted.snapshots:
            pin_by_hand(self._context, session.job, store, snapshot, wanted.on, wanted.label)

    def held(self, wanted: ReadHeldHistory) -> HeldHistory:
        """All snapshots of a store with what each holds alone, and what takes the room.

        Raises:
            DamageError: a snapshot or a listing cannot be read.
        """
        session, store = self._opened(wanted)
        cache = self._context.here.cache
        with self._reckoning:
            ledger = open_ledger(store, cache, Silent())
            alone, pins, records = ledger.alone(), pinned(store), all_snapshots(store)[0]
            precious = precious_now(store, session.job, session.machine.id, cache)
            fast = always_kept(records, pins, precious)
            shown = tuple(
                HeldSnapshot(
                    one.id,
                    one.time,
                    one.machine.name,
                    one.label,
                    pins.get(one.id),
                    fast[one.id].words if one.id in fast else "",
                    alone[one.id],
                )
                for one in records
                if one.id in alone
            )
            return HeldHistory(shown, ledger.total, all_parts(store, ledger))

    def plan_release(self, wanted: PlanRelease) -> ReleaseView:
        """What releasing snapshots by hand would do.

        Raises:
            DamageError: a snapshot, a pin or a listing cannot be read.
        """
        session = self._sessions.of(wanted.job)
        store = session.store() if wanted.store is None else session.stores.store(session.ref(wanted.store))
        with self._reckoning:
            plan = plan_by_hand(self._context, session.job, store, wanted.snapshots, Silent(), lenient=True)
        count = len(plan.releases)
        return ReleaseView(count, len(wanted.snapshots) - count, plan.gives_back or 0)

    def release(self, wanted: ReleaseSnapshots) -> None:
        """Begin to release snapshots, and to give their room back.

        Raises:
            PersonError: the store was opened only to read.
        """
        session, store = self._to_change(wanted)
        context, job = self._context, session.job

        def work(steering: Steering) -> WorkEnded:
            plan = plan_by_hand(
                context, job, store, wanted.snapshots, steering, lenient=True, with_room=False
            )
            done = release_by_hand(context, job, store, plan, steering)
            swept = swept_words(sweep_store(context, store, steering))
            return WorkEnded(
                WorkKind.RELEASE,
                words=tr("{done} released; {swept}").format(done=count_words(done, "snapshot"), swept=swept),
            )

        self._begin(WorkKind.RELEASE, session, work)

    def plan_purge(self, wanted: PlanPurge) -> PurgeView:
        """What taking a pattern out of all history would touch.

        Raises:
            PersonError: the pattern makes no sense, or would take everything.
            DamageError: a snapshot or a listing cannot be read.
        """
        session, store = self._opened(wanted)
        plan = plan_purge(store, wanted.pattern, session.job.home or home_folder(), Silent())
        shown = plan.paths[:_PATHS_SHOWN]
        return PurgeView(
            wanted.pattern,
            len(plan.snapshots),
            shown,
            len(plan.paths) - len(shown),
            plan.gives_back,
            plan.stands,
        )

    def purge(self, wanted: Purge) -> None:
        """Begin to take a pattern out of all history, and every trace of it out of the store.

        Raises:
            PersonError: the store was opened only to read.
        """
        session, store = self._to_change(wanted)
        context, home = self._context, session.job.home or home_folder()

        def work(steering: Steering) -> WorkEnded:
            done = purge_by_hand(context, store, plan_purge(store, wanted.pattern, home, steering), steering)
            words = tr("“{pattern}” taken out of {done}").format(
                pattern=wanted.pattern, done=count_words(done, "snapshot")
            )
            swept = swept_words(sweep_store(context, store, steering, thorough=True))
            others = elsewhere(
                context, store, wanted.pattern, home, lambda job: self._sessions.of(job.id).stores, steering
            )
            if others:
                said = tuple(one.words for one in others)
                context.journal.add(
                    "trouble", session.job, tr("{words}, but not everywhere").format(words=words), said
                )
            return WorkEnded(WorkKind.PURGE, words="; ".join([words, swept, *(one.words for one in others)]))

        self._begin(WorkKind.PURGE, session, work)

    def _to_change(self, wanted: StoreCall[Any]) -> tuple[JobSession, Store]:
        if self._sessions.of(wanted.job).reading:
            raise PersonError(
                tr("This store was opened only to read"), tr("Change it on a machine whose job uses it")
            )
        return self._opened(wanted)

    def _begin(self, what: WorkKind, session: JobSession, work: Callable[[Steering], WorkEnded]) -> None:
        def done(steering: Steering) -> WorkEnded:
            try:
                return work(steering)
            finally:
                session.look_again()
                self._tell(HistoryChanged(session.job.id))

        self._worker.start(what, done, (session.job,))
