"""Keeping history in bounds by itself: thinning after each run, and a sweep now and then."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from good_tide.agent.requests import LadderRequest
from good_tide.agent.session import Session
from good_tide.core.clock import SECOND, Clock
from good_tide.core.errors import GoodTideError, PlaceFullError, StoppedError
from good_tide.core.progress import Control
from good_tide.core.rules import parse_rule
from good_tide.core.settings import Job, Room, StoreRef
from good_tide.core.words import count_words, size_words
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.run_records import Books
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.retention.precious import precious_now
from good_tide.operations.retention.room import plan_room, room_facts
from good_tide.operations.retention.thinning import ladder_words, named, plan_thinning, release, sweep
from good_tide.operations.snapshot.holding import heed
from good_tide.operations.stores.opening import Store, ledger_age, open_ledger
from good_tide.operations.workplace import Workplace
from good_tide.protocol.server import Asked, Handler
from good_tide.system.machine import local_zone

_WEEKS_SHOWN = 26
_SWEEP_EVERY = 7 * 86400 * SECOND
_LEDGER_SECONDS = 86400.0


class Bounds:
    """Thins and sweeps the stores of jobs. A fault in it never makes a snapshot fail: it is noted, and tried
    again with the next run.

    :param change: keeps a changed job: a ladder that was thinned by is agreed to.
    """

    def __init__(
        self, here: Workplace, clock: Clock, journal: Journal, books: Books, change: Callable[[Job], None]
    ) -> None:
        self._here, self._clock, self._journal, self._books, self._change = (
            here,
            clock,
            journal,
            books,
            change,
        )

    def handlers(self, job: Callable[[Asked], Session]) -> dict[str, Handler]:
        """What clients may ask; ``job`` tells which one a request means."""
        return {"keep-ladder": lambda ask: self.keep_ladder(job(ask), ask.read(LadderRequest))}

    def keep_ladder(self, session: Session, wanted: LadderRequest) -> None:
        """Keep another ladder for a job. What it would release was shown, and is agreed to or not.

        Raises:
            PersonError: it makes no sense.
        """
        wanted.ladder.check()
        before = session.job
        precious = before.precious if wanted.precious is None else wanted.precious
        for pattern in precious:
            parse_rule(f'exclude path "{pattern}"')
        agreed = wanted.ladder if wanted.agreed else before.agreed
        self._change(msgspec.structs.replace(before, ladder=wanted.ladder, agreed=agreed, precious=precious))
        if wanted.ladder != before.ladder:
            self._journal.add(
                "good",
                before.name,
                f"History is kept {ladder_words(wanted.ladder)}",
                (f"Before: {ladder_words(before.ladder)}",),
            )
        if precious != before.precious:
            words = (
                f"Every version stays of {', '.join(precious)}"
                if precious
                else "No file is precious any more"
            )
            self._journal.add("good", before.name, words)

    def after_run(self, session: Session, ref: StoreRef, sweeps: bool, control: Control) -> None:
        """A job's snapshot came into a store: release what the ladder does not keep, sweep when the last
        sweep was long ago, and bring the ledger up to date once a day, so that what takes the room is
        answered at once.

        Raises:
            StoppedError: the person stopped it.
        """
        job = session.job
        try:
            folder = session.folder_of(ref)
            if folder is not None:
                store = session.openings.store(ref, folder)
                if job.ladder.rungs:
                    self._thin(session, store, control)
                if sweeps:
                    self._sweep(job, ref, store, control)
                    if ledger_age(store, self._here.cache) > _LEDGER_SECONDS:
                        open_ledger(store, self._here.cache, control)
        except StoppedError:
            raise
        except GoodTideError as error:
            if self._journal.is_news(f"bounds/{job.name}/{error.what}"):
                self._journal.add(
                    "note",
                    job.name,
                    "History could not be thinned",
                    (error.what,),
                    "The snapshot itself is whole.",
                    error.advice,
                )

    def before_run(self, session: Session, control: Control) -> None:
        """Make room on the disks of a job where its limits say that there is too little.

        Raises:
            PlaceFullError: there is too little, and nothing may or can be released for it. StoppedError: the
                person stopped it.
        """
        job = session.job
        if job.room == Room():
            return
        for ref in job.stores:
            folder = session.folder_of(ref)
            if folder is not None:
                store = session.openings.store(ref, folder)
                facts = session.disk_of(folder)
                size = (facts.free, facts.total) if facts is not None and facts.total else None
                missing = room_facts(
                    folder, store.place.total_bytes(), job.room, (), self._clock.now(), size
                ).short
                if missing:
                    self._make_room(session, ref, store, missing, control)

    def _make_room(
        self, session: Session, ref: StoreRef, store: Store, missing: int, control: Control
    ) -> None:
        job, now, name = session.job, self._clock.now(), ref.name or ref.path
        if job.room.when_short == "stop":
            raise PlaceFullError(
                f"{name} has {size_words(missing)} less room than is to stay free",
                "Make room, raise the limit, or let the oldest snapshots go",
            )
        if StoreMemory(self._here.state, store.header.store).is_mixed(session.machine.id):
            raise PlaceFullError(
                f"{name} is short of {size_words(missing)}, and nothing is released while another machine"
                " writes this one's history",
                "See the journal for what to do",
            )
        floor = now - job.room.floor_days * 86400 * SECOND
        plan = plan_room(
            store,
            session.machine.id,
            missing,
            floor,
            control,
            self._here.cache,
            self._precious(session, store),
        )
        freed = 0
        if plan.releases:
            release(store, plan, f"to make room on {name}", job.name, self._journal, self._clock, control)
        report = sweep(
            store,
            self._here.state,
            self._clock,
            control,
            False,
            lambda: heed(self._here.holdings, ref, store, self._here.state),
        )
        freed += report.freed
        session.look_again()
        if freed < missing:
            days = count_words(job.room.floor_days, "day")
            raise PlaceFullError(
                f"{name} is short of {size_words(missing - freed)}, though everything older than {days} was"
                " released",
                "Make room, or lower the floor",
            )

    def _precious(self, session: Session, store: Store) -> frozenset[str]:
        return precious_now(store, session.job, session.machine.id, self._here.cache)

    def _thin(self, session: Session, store: Store, control: Control) -> None:
        job = session.job
        if StoreMemory(self._here.state, store.header.store).is_mixed(session.machine.id):
            return
        plan = plan_thinning(
            store,
            job.ladder,
            session.machine.id,
            local_zone(),
            self._clock.now(),
            control,
            None,
            self._precious(session, store),
        )
        if not plan.releases:
            return
        if plan.needs_yes and job.agreed != job.ladder:
            if self._journal.is_news(f"ladder/{job.name}"):
                words = (
                    f"The changed ladder would release {count_words(len(plan.releases), 'snapshot')} of"
                    f" {len(plan.keeps) + len(plan.releases):,}"
                )
                self._journal.add(
                    "note",
                    job.name,
                    words,
                    named(plan.releases, self._clock.now()),
                    "Nothing is released before somebody agrees.",
                    "See Rhythm, and agree there.",
                )
            return
        release(store, plan, "by the ladder", job.name, self._journal, self._clock, control)
        self._books.note_released(store.header.store)
        if job.agreed != job.ladder:
            self._change(msgspec.structs.replace(job, agreed=job.ladder))

    def _sweep(self, job: Job, ref: StoreRef, store: Store, control: Control) -> None:
        """Sweep a store of which something was released, once a week at most."""
        identity, now = store.header.store, self._clock.now()
        if not self._books.has_released(identity) or 0 <= now - self._books.swept(identity) < _SWEEP_EVERY:
            return
        report = sweep(
            store,
            self._here.state,
            self._clock,
            control,
            False,
            lambda: heed(self._here.holdings, ref, store, self._here.state),
        )
        self._books.note_swept(identity, now, report.waits > 0)
        if report.freed:
            self._journal.add(
                "good", job.name, f"{size_words(report.freed)} given back on {ref.name or ref.path}"
            )
