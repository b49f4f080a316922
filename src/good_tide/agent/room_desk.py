"""What people ask and do about the room that history takes: limits, what holds it, pins, releasing, taking
something out of all of it."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import msgspec

from good_tide.agent.openings import Openings
from good_tide.agent.requests import PinRequest, WordsRequest
from good_tide.agent.session import Session
from good_tide.agent.work import Worker
from good_tide.core.clock import Clock
from good_tide.core.errors import GoodTideError, PersonError
from good_tide.core.forecast import curve, full_in
from good_tide.core.progress import Control, Silent, Steering
from good_tide.core.settings import Job, Room, StoreRef
from good_tide.core.words import count_words, size_words, time_words
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.run_records import Books
from good_tide.operations.retention.precious import precious_now
from good_tide.operations.retention.purge import plan_purge, purge
from good_tide.operations.retention.room import all_parts, room_facts
from good_tide.operations.retention.still_elsewhere import still_elsewhere
from good_tide.operations.retention.thinning import (
    pin,
    pinned,
    plan_release,
    release,
    standing_fast,
    sweep,
    unpin,
)
from good_tide.operations.snapshot.holding import area_folder, heed, held_count
from good_tide.operations.stores.opening import Store, open_ledger
from good_tide.operations.workplace import Workplace
from good_tide.protocol.messages import Finished
from good_tide.protocol.room_messages import (
    HeldHistory,
    HeldSnapshot,
    PatternRequest,
    PinSomeRequest,
    PurgeView,
    ReleaseView,
    SomeRequest,
)
from good_tide.protocol.server import Asked, Handler
from good_tide.protocol.upkeep_messages import RoomView

_WEEKS_SHOWN = 26
_PATHS_SHOWN = 200


class RoomDesk:
    """Answers for the stores of jobs.

    :param change: keeps a changed job.
    :param changed: told the name of a job whose history is another one now.
    """

    def __init__(
        self,
        here: Workplace,
        clock: Clock,
        journal: Journal,
        books: Books,
        worker: Worker,
        change: Callable[[Job], None],
        changed: Callable[[str], None],
    ) -> None:
        self._here, self._clock, self._journal, self._books, self._worker = (
            here,
            clock,
            journal,
            books,
            worker,
        )
        self._change, self._changed = change, changed
        self._reckoning = threading.Lock()
        """One ledger at a time is read and written."""

    def handlers(self, job: Callable[[Asked], Session]) -> dict[str, Handler]:
        """What clients may ask; ``job`` tells which one a request means."""
        return {
            "room": lambda ask: self.room(job(ask), ask.read(WordsRequest).words),
            "keep-room": lambda ask: self.keep_room(job(ask), ask.read(Room)),
            "pin": lambda ask: self.pin(job(ask), ask.read(PinRequest)),
            "pin-some": lambda ask: self.pin_some(job(ask), ask.read(PinSomeRequest)),
            "held": lambda ask: self.held(job(ask), ask.read(WordsRequest).words),
            "plan-release": lambda ask: self.plan_release(job(ask), ask.read(SomeRequest)),
            "release": lambda ask: self.release(job(ask), ask.read(SomeRequest)),
            "plan-purge": lambda ask: self.plan_purge(job(ask), ask.read(PatternRequest)),
            "purge": lambda ask: self.purge(job(ask), ask.read(PatternRequest)),
        }

    @staticmethod
    def _ref(session: Session, folder: str) -> StoreRef:
        ref = next((one for one in session.job.stores if session.folder_of(one) == Path(folder)), None)
        if ref is None:
            raise PersonError(f"The job has no store in {folder}", "Choose one of those there are")
        return ref

    def _store(self, session: Session, folder: str) -> Store:
        return session.openings.store(self._ref(session, folder), Path(folder))

    def room(self, session: Session, folder: str) -> RoomView:
        """Room of one of a job's stores, with a forecast from this machine's snapshots.

        Raises:
            PersonError: the job has no store there.
        """
        root = Path(folder)
        facts = session.disk_of(root)
        size = (facts.free, facts.total) if facts is not None and facts.total else None
        stored = self._store(session, folder).place.total_bytes()
        found = room_facts(root, stored, session.job.room, session.tide(), self._clock.now(), size)
        return RoomView(
            session.job.room,
            found.usable,
            found.short,
            full_in(found.added, found.usable),
            curve(found.added, _WEEKS_SHOWN),
        )

    def keep_room(self, session: Session, wanted: Room) -> None:
        """Keep what the stores of a job may take."""
        self._change(msgspec.structs.replace(session.job, room=wanted))
        self._journal.add("good", session.job.name, "The room that the stores may take was changed")

    def pinned(self, session: Session) -> dict[str, str]:
        """Labels of the pinned snapshots of a job, by their names; none where the store cannot be asked
        now."""
        try:
            return pinned(session.store())
        except GoodTideError:
            return {}

    def pin(self, session: Session, wanted: PinRequest) -> None:
        """Pin a snapshot of a job, or take its pin away.

        Raises:
            PersonError: it is no longer kept.
        """
        snapshot = session.snapshot(wanted.snapshot, 0)
        self._pin(session.store(), session.job.name, snapshot.name, wanted.on, wanted.label)

    def pin_some(self, session: Session, wanted: PinSomeRequest) -> None:
        """Pin snapshots of a store, or take their pins away."""
        store = self._store(session, wanted.folder)
        for name in wanted.names:
            self._pin(store, session.job.name, name, wanted.on, wanted.label)

    def _pin(self, store: Store, job: str, name: str, on: bool, label: str) -> None:
        when = time_words(store.read_snapshot(name).record.time, self._clock.now())
        if on:
            pin(store, name, label)
            self._journal.add("good", job, f"The snapshot of {when} is pinned", (label,) if label else ())
        elif unpin(store, name):
            self._journal.add("good", job, f"The snapshot of {when} is no longer pinned")

    def held(self, session: Session, folder: str) -> HeldHistory:
        """All snapshots of a store with what each holds alone, and what takes the room.

        Raises:
            DamageError: a snapshot or a listing cannot be read.
        """
        store = self._store(session, folder)
        with self._reckoning:
            ledger = open_ledger(store, self._here.cache, Silent())
            alone, pins, records = ledger.alone(), pinned(store), store.snapshots()[0]
            fast = standing_fast(records, pins, self._precious(session, store))
            shown = tuple(
                HeldSnapshot(
                    one.name,
                    one.record.time,
                    one.record.machine.name,
                    one.record.label,
                    pins.get(one.name),
                    fast.get(one.name, ""),
                    alone[one.name],
                )
                for one in records
                if one.name in alone
            )
            return HeldHistory(shown, ledger.total, all_parts(store, ledger))

    def _precious(self, session: Session, store: Store) -> frozenset[str]:
        return precious_now(store, session.job, session.machine.id, self._here.cache)

    def plan_release(self, session: Session, wanted: SomeRequest) -> ReleaseView:
        """What releasing snapshots by hand would do. An empty folder stands for the store that is looked
        into.

        Raises:
            DamageError: a snapshot, a pin or a listing cannot be read.
        """
        store = self._store(session, wanted.folder) if wanted.folder else session.store()
        with self._reckoning:
            plan = plan_release(
                store,
                frozenset(wanted.names),
                Silent(),
                self._here.cache,
                True,
                self._precious(session, store),
            )
        return ReleaseView(len(plan.releases), len(wanted.names) - len(plan.releases), plan.gives_back or 0)

    def release(self, session: Session, wanted: SomeRequest) -> None:
        """Begin to release snapshots, and to give their room back.

        Raises:
            PersonError: the store was opened only to read.
        """
        ref, store = self._to_change(session, wanted.folder)

        def work(steering: Steering) -> Finished:
            plan = plan_release(
                store, frozenset(wanted.names), steering, None, True, self._precious(session, store)
            )
            done = release(store, plan, "by hand", session.job.name, self._journal, self._clock, steering)
            return Finished(
                "release",
                words=f"{count_words(done, 'snapshot')} released; {self._swept(ref, store, steering)}",
            )

        self._begin("release", session, work)

    def plan_purge(self, session: Session, wanted: PatternRequest) -> PurgeView:
        """What taking a pattern out of all history would touch.

        Raises:
            PersonError: the pattern makes no sense, or would take everything.
            DamageError: a snapshot or a listing cannot be read.
        """
        plan = plan_purge(
            self._store(session, wanted.folder), wanted.pattern, session.job.home or home_folder(), Silent()
        )
        shown = plan.paths[:_PATHS_SHOWN]
        return PurgeView(
            wanted.pattern,
            len(plan.snapshots),
            shown,
            len(plan.paths) - len(shown),
            plan.gives_back,
            plan.stands,
        )

    def purge(self, session: Session, wanted: PatternRequest) -> None:
        """Begin to take a pattern out of all history, and every trace of it out of the store.

        Raises:
            PersonError: the store was opened only to read.
        """
        ref, store = self._to_change(session, wanted.folder)
        home = session.job.home or home_folder()

        def work(steering: Steering) -> Finished:
            plan = plan_purge(store, wanted.pattern, home, steering)
            done = purge(store, plan, self._here.state, self._clock, self._journal, steering)
            words = f"“{wanted.pattern}” taken out of {count_words(done, 'snapshot')}"
            swept = self._swept(ref, store, steering, thorough=True)
            others = still_elsewhere(store, wanted.pattern, home, self._other_places(session, ref), steering)
            if others:
                self._journal.add(
                    "trouble",
                    session.job.name,
                    f"{words}, but not everywhere",
                    tuple(one.words for one in others),
                )
            return Finished("purge", words="; ".join([words, swept, *(one.words for one in others)]))

        self._begin("purge", session, work)

    def _other_places(
        self, session: Session, ref: StoreRef
    ) -> Iterator[tuple[str, str, Callable[[], Store]]]:
        """The other stores of a job, and the holding areas of all."""
        openings, holdings = session.openings, self._here.holdings
        for one in session.job.stores:
            name = one.name or one.path
            if one != ref:
                yield f"The store {name}", one.path, partial(self._opened, openings, one)
            if held_count(holdings, one):
                yield (
                    f"The holding area of {name}",
                    str(area_folder(holdings, one)),
                    partial(openings.area, one),
                )

    @staticmethod
    def _opened(openings: Openings, ref: StoreRef) -> Store:
        return openings.store(ref, openings.present(ref))

    def _to_change(self, session: Session, folder: str) -> tuple[StoreRef, Store]:
        if session.reading:
            raise PersonError(
                "This store was opened only to read", "Change it on a machine whose job uses it"
            )
        ref = self._ref(session, folder)
        return ref, session.openings.store(ref, Path(folder))

    def _begin(self, what: str, session: Session, work: Callable[[Steering], Finished]) -> None:
        def done(steering: Steering) -> Finished:
            try:
                return work(steering)
            finally:
                session.look_again()
                self._changed(session.job.name)

        self._worker.start(what, done)

    def _swept(self, ref: StoreRef, store: Store, control: Control, thorough: bool = False) -> str:
        """Sweep after something was released by hand; in words, what came back."""
        self._books.note_released(store.header.store)
        report = sweep(
            store,
            self._here.state,
            self._clock,
            control,
            False,
            lambda: heed(self._here.holdings, ref, store, self._here.state),
            thorough,
        )
        self._books.note_swept(store.header.store, self._clock.now(), report.waits > 0)
        if report.waits:
            return (
                f"{size_words(report.freed)} given back, more as soon as whoever writes to the store now is"
                " done"
            )
        return f"{size_words(report.freed)} given back"
