"""Looking after itself: everything of the agent that happens without anybody asking, and the questions about
it."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from pathlib import Path

import msgspec

from good_tide.agent.bounds import Bounds
from good_tide.agent.keeper import Keeper
from good_tide.agent.report_desk import ReportDesk
from good_tide.agent.requests import (
    ExportRequest,
    MomentRequest,
    ReportRequest,
    RhythmRequest,
    SwitchRequest,
    ThenRequest,
    WordsRequest,
)
from good_tide.agent.room_desk import RoomDesk
from good_tide.agent.run_desk import RunDesk
from good_tide.agent.session import Session
from good_tide.agent.teller import Teller
from good_tide.agent.watcher import Watcher
from good_tide.agent.work import Worker
from good_tide.core.clock import SECOND, Clock
from good_tide.core.errors import GoodTideError, PersonError
from good_tide.core.happenings import AGAIN_AND_AGAIN, Filter, LeftOutFile, Run
from good_tide.core.planning import Wait
from good_tide.core.rules import Rule, path_pattern
from good_tide.core.settings import Job
from good_tide.core.status import JobStanding
from good_tide.core.words import printable
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.run_records import Books
from good_tide.operations.reporting.fleet import fleet
from good_tide.operations.reporting.post import Post
from good_tide.operations.reporting.report import ReportPart, export_journal
from good_tide.operations.schedule.standing import Doing, Standings
from good_tide.operations.snapshot import holding
from good_tide.operations.workplace import Workplace, stays_installed
from good_tide.protocol.server import Asked, Handler
from good_tide.protocol.upkeep_messages import JournalView, LeftOutView, MachineView, PanelView, RhythmView
from good_tide.system.bus import Bus
from good_tide.system.disks import Disks
from good_tide.system.keyrings import KeyRing
from good_tide.system.machine import local_zone
from good_tide.system.notices import DesktopNotices, Notices
from good_tide.system.power import Power
from good_tide.system.surroundings import Surroundings, SystemSurroundings
from good_tide.system.system_log import to_system_log

_NEXT_SHOWN = 10
_NEEDS_LOOK = frozenset(("locked", "damaged", "catching-up"))


class Around(msgspec.Struct, kw_only=True, frozen=True):
    """What the agent has around it; stand-ins in tests and in the demo.

    :param disks: which disks there are.
    :param notices: where people are told.
    :param show: opens the window at a place of a job.
    """

    disks: Disks
    surroundings: Surroundings
    power: Power
    notices: Notices
    show: Callable[[str, str], None]


def system_around(disks: Disks, show: Callable[[str, str], None]) -> Around:
    """This machine itself."""
    system, session = Bus("system"), Bus("session")
    return Around(
        disks=disks,
        surroundings=SystemSurroundings(system, session),
        power=Power(system),
        notices=DesktopNotices(session),
        show=show,
    )


class Upkeep:
    """Owns the journal and the books, and everything that keeps the rhythm.

    :param sessions: the jobs, by their names.
    :param named: the one that a request means.
    :param change: keeps a changed job.
    """

    def __init__(
        self,
        here: Workplace,
        clock: Clock,
        around: Around,
        ring: KeyRing,
        worker: Worker,
        sessions: dict[str, Session],
        named: Callable[[Asked], Session],
        change: Callable[[Job], None],
        notify: Callable[[str, object], None],
        reload: Callable[[], None],
        stay: Callable[[bool], None],
    ) -> None:
        self._here, self._clock, self._around, self._worker = here, clock, around, worker
        self._sessions, self._named, self._change, self._notify, self._reload = (
            sessions,
            named,
            change,
            notify,
            reload,
        )
        self._stay = stay
        self.journal = Journal(here.records, clock, to_system_log)
        self._books = Books(here.records)
        self._standings = Standings(here, around.disks, clock, self._books, self.journal)
        self._teller = Teller(around.notices, self.journal, around.show)
        self._told: tuple[JobStanding, ...] = ()
        self._post = Post(here.settings, here.machine.name, clock, self.journal, ring)
        self.reports = ReportDesk(self._post, clock, self.journal, self._books)
        self._bounds = Bounds(here, clock, self.journal, self._books, change)
        self._room = RoomDesk(
            here, clock, self.journal, self._books, worker, change, lambda job: notify("history", job)
        )
        self.runs = RunDesk(
            here,
            around.disks,
            clock,
            self.journal,
            self._books,
            self._standings,
            worker,
            self._teller,
            around.power,
            self._bounds,
            self._ran,
        )
        self._watcher = Watcher(
            clock, self.journal, (str(here.state), str(here.cache), str(here.holdings)), self._changed
        )
        self.keeper = Keeper(
            self._own,
            self._standings,
            self._books,
            clock,
            around.surroundings,
            self._watcher,
            self.runs.start,
            self._looked,
        )

    def _own(self) -> Iterable[Session]:
        """Sessions of this machine's jobs, without stores that were opened only to read."""
        return [session for session in list(self._sessions.values()) if not session.reading]

    def handlers(self) -> dict[str, Handler]:
        """What clients may ask."""
        job = self._named
        return {
            "snapshot": lambda ask: self.snapshot(job(ask)),
            "panel": lambda ask: self.panel(),
            "status": lambda ask: self.standings(),
            "rhythm": lambda ask: self.rhythm(job(ask)),
            "keep-rhythm": lambda ask: self.keep_rhythm(job(ask), ask.read(RhythmRequest)),
            "try-rhythm": lambda ask: self.try_rhythm(job(ask), ask.read(RhythmRequest)),
            "pause-rhythm": lambda ask: self.pause(ask.read(MomentRequest).moment),
            "look": lambda ask: self.keeper.poke(),
            "run-due": lambda ask: self.run_due(ask.read(ThenRequest)),
            "fleet": lambda ask: self.fleet(job(ask), ask.read(WordsRequest).words),
            "eject": lambda ask: self.eject(ask.read(WordsRequest).words),
            "easy": lambda ask: self._worker.take_it_easy(ask.read(SwitchRequest).on),
            "gaps-of": lambda ask: self.gaps_of(job(ask), ask.read(WordsRequest).words),
            "report": lambda ask: self.report(ask.read(ReportRequest)),
            "export-journal": lambda ask: self.export(ask.read(ExportRequest)),
            "stay": lambda ask: self._stay(ask.read(SwitchRequest).on),
            "journal": lambda ask: self.history(ask.read(Filter)),
            **self.reports.handlers(),
            **self._bounds.handlers(job),
            **self._room.handlers(job),
        }

    def pinned(self, session: Session) -> dict[str, str]:
        """Labels of the pinned snapshots of a job (``RoomDesk.pinned``)."""
        return self._room.pinned(session)

    def begin(self) -> None:
        """Look after everything from now on."""
        self.runs.clean_up(session.job for session in self._own())
        self.keeper.begin()

    def end(self) -> None:
        """Begin nothing any more."""
        self.keeper.end()
        self._watcher.end()
        self.reports.wait()
        self.journal.close()

    def _looked(self) -> None:
        self._reload()
        self._books.forget({session.job.name for session in self._own()})
        self.tell_standings()

    def _changed(self, job: str, moment: int) -> None:
        """Files of a job changed: the rhythm looks when they may have come to rest."""
        self.keeper.poke()

    def _ran(self, session: Session, began: int, well: bool) -> None:
        if well:
            self._watcher.taken_in(session.job.name, began)
        session.choose_present()
        self.keeper.poke()

    def standing(self, session: Session) -> JobStanding:
        """How one job stands."""
        work = self._worker.current
        decision = self.keeper.decision(session)
        doing = Doing(
            state=session.last_state if session.last_state in _NEEDS_LOOK else "",
            damage=tuple(session.damage),
            working=work.what if work is not None else "",
            work_paused=work is not None and work.paused,
            decision=decision,
            battery=self._around.surroundings.around().battery if decision.wait is Wait.BATTERY else None,
        )
        return self._standings.standing(session.job, doing)

    def standings(self) -> list[JobStanding]:
        """How all jobs stand."""
        return [self.standing(session) for session in self._own()]

    def tell_standings(self) -> None:
        """Tell clients when something changed about how jobs stand, and people when that is trouble."""
        now = tuple(self.standings())
        looked = []
        for session, standing in zip(self._own(), now, strict=False):
            book = self._books.book(session.job.name)
            failures = book.failures if book is not None else 0
            self._teller.standing(session.job, standing, failures)
            looked.append((session.job, standing, failures))
        self.reports.look(looked)
        if now != self._told:
            self._told = now
            self._notify("status", now)

    def panel(self) -> PanelView:
        """What the panel's icon shows."""
        disks = {}
        for session in self._own():
            for ref in session.job.stores:
                folder = session.folder_of(ref)
                facts = self._around.disks.of_folder(folder) if folder is not None else None
                if facts is not None and facts.removable:
                    disks[facts.name] = str(folder)
        return PanelView(
            tuple(self.standings()),
            self._clock.now(),
            self._worker.current is not None,
            self._books.paused_until,
            tuple(disks.items()),
        )

    def snapshot(self, session: Session) -> None:
        """Begin a snapshot of a job.

        Raises:
            PersonError: it was opened only to read.
        """
        if session.reading:
            raise PersonError("This store was opened only to read", "Choose a job of this machine first")
        session.store()
        self.runs.by_hand(session)

    def rhythm(self, session: Session) -> RhythmView:
        """When a job runs."""
        return self._view(session, session.job)

    def try_rhythm(self, session: Session, wanted: RhythmRequest) -> RhythmView:
        """How it would be with other settings; nothing is kept."""
        wanted.rhythm.check()
        return self._view(session, msgspec.structs.replace(session.job, **_fields(wanted)))

    def _view(self, session: Session, job: Job) -> RhythmView:
        ref = job.stores[0] if job.stores else None
        room = (
            holding.limit_bytes(job.holding, holding.area_folder(self._here.holdings, ref))
            if ref is not None
            else 0
        )
        return RhythmView(
            job.rhythm,
            job.holding,
            job.noise,
            job.reporting,
            job.rhythm.words(),
            tuple(self._standings.next(job, _NEXT_SHOWN)),
            local_zone(),
            self._standings.spread(job) / SECOND,
            self._books.paused_until,
            room,
            stays=stays_installed(self._here),
            watching=self._watcher.words(job.name),
            mail=self._mail_words(job),
            ladder=job.ladder,
            agreed=job.agreed,
            pinned=self._room.pinned(session),
            precious=job.precious,
        )

    def _mail_words(self, job: Job) -> str:
        """Through which server reports go, as a sentence; empty where none are wanted."""
        if job.reporting.when == "never" or not job.reporting.to:
            return ""
        try:
            server = self._post.server()
        except PersonError as error:
            return str(error)
        return (
            f"By {server.host}."
            if server is not None
            else "There is no mail server yet: choose “Mail server…”."
        )

    def keep_rhythm(self, session: Session, wanted: RhythmRequest) -> RhythmView:
        """Keep when a job runs.

        Raises:
            PersonError: the rhythm cannot be understood.
        """
        before = session.job
        job = msgspec.structs.replace(before, **_fields(wanted))
        self._change(job)
        if job.rhythm != before.rhythm:
            self.journal.add(
                "good",
                job.name,
                f"Snapshots are taken {job.rhythm.words()}",
                (f"Before: {before.rhythm.words()}",),
            )
        self.keeper.poke()
        return self._view(session, job)

    def pause(self, until: int) -> None:
        """Let nothing run by itself until a moment; 0: go on."""
        self._books.pause(until)
        self.journal.add(
            "note" if until else "good",
            "",
            "Everything was paused by hand" if until else "The pause was ended by hand",
        )
        self.keeper.poke()

    def run_due(self, wanted: ThenRequest) -> None:
        """Run everything that is due, then let the machine sleep."""
        self.runs.run_due(self.keeper.keep_due(), wanted.then)

    def eject(self, folder: str) -> str:
        """Take the disk of one of the jobs' stores away safely. Returns what became of it, as a sentence.

        Raises:
            GoodTideError: it cannot be, or something still uses it.
        """
        work = self._worker.current
        if work is not None:
            raise PersonError(
                "The disk is being worked with", "Wait until it is done, or stop it; then eject the disk"
            )
        for session in list(self._sessions.values()):
            session.look_again()
        disk = self._around.disks.of_folder(Path(folder))
        became = self._around.disks.eject(Path(folder))
        words = f"{disk.name if disk is not None else folder} is {became}"
        self.journal.add("good", "", words)
        self.keeper.poke()
        return words

    def fleet(self, session: Session, folder: str) -> list[MachineView]:
        """All machines that use one of a job's stores, those that are late first."""
        ref = next((one for one in session.job.stores if str(session.folder_of(one)) == folder), None)
        if ref is None:
            return []
        return [
            MachineView(
                row.record.machine.name,
                row.record.job,
                row.record.time,
                row.late,
                row.snapshots,
                row.record.rhythm,
                row.record.machine.id == session.machine.id,
            )
            for row in fleet(session.openings.store(ref, Path(folder)), self._clock.now())
        ]

    def history(self, wanted: Filter) -> JournalView:
        """What happened."""
        job = self._sessions[wanted.job].job if wanted.job in self._sessions else None
        left_out = (
            tuple(_left_out(job, one) for one in self.journal.left_out(wanted.job)) if job is not None else ()
        )
        runs = self.journal.runs(wanted.job)
        if wanted.job in self._sessions:
            runs = _with_earlier(runs, self._sessions[wanted.job])
        return JournalView(tuple(self.journal.events(wanted)), tuple(runs), left_out)

    def export(self, wanted: ExportRequest) -> None:
        """Write the journal out.

        Raises:
            GoodTideError: it cannot be written, or the file's name says no form.
        """
        view = self.history(wanted.filter)
        runs = [run for run in view.runs if run.began >= wanted.filter.since]
        export_journal(
            view.events,
            runs,
            Path(wanted.file),
            self._here.machine.name,
            self._clock.now(),
            self._here.settings,
        )

    def report(self, wanted: ReportRequest) -> str:
        """Write a report now. Returns what became of it, as a sentence.

        Raises:
            GoodTideError: it cannot be sent or written.
        """
        parts = [
            ReportPart(session.job, self.standing(session))
            for session in self._own()
            if wanted.job in ("", session.job.name)
        ]
        return self._post.now(parts, wanted.mail, wanted.file)

    def gaps_of(self, session: Session, snapshot: str) -> list[str]:
        """What a snapshot of a job left out, a line each."""
        record = session.store().read_snapshot(snapshot).record
        gaps = [
            f"{printable(item.path)}: {item.detail}"
            for item in record.left_out
            if item.reason not in ("special", "store")
        ]
        return [*gaps, *(f"{printable(path)}: changed while it was read" for path in record.unsteady)]


def _with_earlier(runs: list[Run], session: Session) -> list[Run]:
    """The runs of the journal, and those before it that only the store tells of."""
    try:
        tide = session.tide()
    except GoodTideError:
        return runs
    known = {run.snapshot for run in runs}
    name = session.shown.name
    earlier = [
        Run(
            session.job.name,
            name,
            "",
            point.time,
            0.0,
            "gaps" if point.gaps else "done",
            point.files,
            point.added + point.changed,
            point.added_bytes + point.changed_bytes,
            point.stored,
            point.gaps,
            point.name,
        )
        for point in tide
        if point.name not in known
    ]
    return sorted([*runs, *earlier], key=lambda run: -run.began)


def _left_out(job: Job, file: LeftOutFile) -> LeftOutView:
    """A file that was left out, with a rule for it if it is left out again and again."""
    if file.runs < AGAIN_AND_AGAIN:
        return LeftOutView(file)
    pattern = path_pattern(os.fsdecode(file.path), job.home or home_folder(), job.folders)
    return LeftOutView(file, Rule(False, path=pattern).text if pattern else "")


def _fields(wanted: RhythmRequest) -> dict[str, object]:
    return {name: getattr(wanted, name) for name in wanted.__struct_fields__}
