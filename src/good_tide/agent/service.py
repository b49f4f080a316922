"""The agent: the one process that does long work for a person's session."""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Mapping
from pathlib import Path
from types import FrameType

import msgspec

from good_tide import __version__
from good_tide.agent.requests import (
    CarryRequest,
    CoverageRequest,
    NumberRequest,
    PathAtRequest,
    PathRequest,
    PlanRequest,
    TwoRequest,
    UnlockRequest,
    UseRequest,
    WhyRequest,
    WordsRequest,
)
from good_tide.agent.restore_desk import RestoreDesk
from good_tide.agent.session import Session
from good_tide.agent.setup_desk import NewStoreRequest, PlaceQuestion, SetUpDesk, SetUpRequest, SlotRequest
from good_tide.agent.survey_desk import SurveyDesk, SurveyRequest
from good_tide.agent.upkeep import Around, Upkeep, system_around
from good_tide.agent.work import Worker
from good_tide.core.clock import Clock, SystemClock
from good_tide.core.coverage import Coverage
from good_tide.core.errors import GoodTideError, PersonError
from good_tide.core.kinds import Kind, extended
from good_tide.core.planning import Occasion
from good_tide.core.progress import Steering
from good_tide.core.settings import Job, StoreUse
from good_tide.core.words import count_words, size_words
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.jobs.making import checked_folders, open_counted
from good_tide.operations.records.disk_absences import Comings
from good_tide.operations.stores.carrying import carry
from good_tide.operations.stores.disks import disks_for, store_ref
from good_tide.operations.workplace import Workplace, load_jobs, settings_stamp, this_workplace
from good_tide.protocol.messages import (
    PROTOCOL_VERSION,
    Finished,
    Hello,
    MadeView,
    Overview,
    WhyView,
)
from good_tide.protocol.server import Asked, Handler, Server
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.starting import show_window
from good_tide.system import service
from good_tide.system.keyrings import DesktopKeyRing, KeyRing
from good_tide.system.limits import end_for_certain, settle_limits

_WATCH_SECONDS = 15.0
"""The system tells at once when a disk is mounted or goes; so often the agent looks besides."""
_APART = frozenset(
    (
        "disks",
        "examine",
        "begin",
        "add-store",
        "open-to-read",
        "change-slots",
        "eject",
        "fleet",
        "room",
        "stay",
        "report",
        "export-journal",
        "held",
        "plan-release",
        "plan-purge",
        "keep-mail-server",
        "try-mail-server",
    )
)
"""Requests that touch disks which may hang, stretch passphrases, or ask servers."""
_ENDING_SECONDS = 20.0
"""How long the agent may take to end when it is told to; what a disk that hangs holds up is not waited for
any longer."""
_LINGER_SECONDS = 20.0
"""How long an agent started by a window stays after the last window was closed."""


class Agent:
    """Answers the window's questions and does its work.

    :param settings: the folder with the job's settings.
    """

    def __init__(
        self,
        settings: Path,
        here: Workplace,
        clock: Clock,
        while_used: bool = False,
        around: Around | None = None,
        ring: KeyRing | None = None,
    ) -> None:
        self._settings, self._here, self._clock, self._while_used = settings, here, clock, while_used
        around = around or system_around(
            disks_for(settings), lambda job, place: show_window(settings, job, place)
        )
        self._disks, self._ring = around.disks, ring or DesktopKeyRing()
        self._sessions: dict[str, Session] = {}
        self._typed: dict[str, str] = {}
        self._timer: threading.Timer | None = None
        self._ended = threading.Event()
        self._worker = Worker(self._notify)
        self._restores = RestoreDesk(self._worker, clock)
        self.upkeep = Upkeep(
            here,
            clock,
            around,
            self._ring,
            self._worker,
            self._sessions,
            self._session,
            lambda job: self._desk.change(job),
            self._notify,
            self._reload,
            self._stay_on,
        )
        self._journal = self.upkeep.journal
        self._survey = SurveyDesk(self._notify, clock, self._stay, self._kinds)
        self._comings = Comings(here.state, clock)
        self._desk = SetUpDesk(
            settings,
            here,
            clock,
            self._disks,
            self._ring,
            self._typed,
            self._journal,
            self._comings,
            self._job_changed,
        )
        self._stamp = settings_stamp(settings)
        for job in load_jobs(settings):
            self._job_changed(job)
        self._server = Server(
            agent_socket(here.runtime, settings), self._handlers(), self._clients_changed, _APART
        )
        self._watcher = threading.Thread(target=self._watch_disks, name="disks", daemon=True)

    def _handlers(self) -> dict[str, Handler]:
        desk, job, restores, worker = self._desk, self._session, self._restores, self._worker
        return {
            "hello": lambda ask: Hello(__version__, PROTOCOL_VERSION, os.getpid()),
            "overview": lambda ask: self.overview(ask.job),
            "folder": lambda ask: job(ask).folder(ask.read(PathRequest).path),
            "detail": lambda ask: job(ask).detail(ask.read(PathAtRequest)),
            "find": lambda ask: job(ask).find(ask.read(WordsRequest).words),
            "unlock": lambda ask: self.unlock(job(ask), ask.read(UnlockRequest)),
            "plan": lambda ask: restores.plan(job(ask), ask.read(PlanRequest)),
            "restore": lambda ask: restores.restore(job(ask), ask.read(NumberRequest).number),
            "undo": lambda ask: restores.undo(ask.read(WordsRequest).words),
            "pause": lambda ask: worker.pause(),
            "resume": lambda ask: worker.resume(),
            "stop": lambda ask: worker.stop(),
            "proposal": lambda ask: desk.proposal(),
            "disks": lambda ask: desk.disks(ask.read(PlaceQuestion)),
            "examine": lambda ask: desk.examine(ask.read(PlaceQuestion)),
            "same-disk": lambda ask: desk.same_disk(*msgspec.structs.astuple(ask.read(TwoRequest))),
            "begin": lambda ask: self.begin(ask.read(SetUpRequest)),
            "survey": lambda ask: self._survey.ask(ask.read(SurveyRequest), ask.job),
            "survey-folder": lambda ask: self._survey.inside(ask.read(PathRequest).path),
            "why": lambda ask: self.why(ask.read(WhyRequest), ask.job),
            "keep-coverage": lambda ask: self.keep_coverage(job(ask), ask.read(CoverageRequest)),
            "add-store": lambda ask: desk.add_store(job(ask), ask.read(NewStoreRequest)),
            "open-to-read": lambda ask: self.open_to_read(ask.read(NewStoreRequest)),
            "drop-store": lambda ask: desk.drop_store(job(ask), ask.read(WordsRequest).words),
            "store-use": lambda ask: self.use_stores(job(ask), ask.read(UseRequest).use),
            "look-into": lambda ask: self.look_into(job(ask), ask.read(WordsRequest).words),
            "slots": lambda ask: desk.slots(job(ask), ask.read(WordsRequest).words),
            "change-slots": lambda ask: desk.change_slots(job(ask), ask.read(SlotRequest)),
            "carry": lambda ask: self.carry(job(ask), ask.read(CarryRequest)),
            **self.upkeep.handlers(),
        }

    def _notify(self, method: str, value: object) -> None:
        self._server.notify(method, value)

    def _job_changed(self, job: Job) -> None:
        """Take in a job that was made or changed. What its session knew of passphrases is kept."""
        known = self._sessions.get(job.name)
        if known is not None:
            known.take_job(job)
        else:
            self._sessions[job.name] = Session(
                job,
                self._here,
                self._clock,
                self._disks,
                self._ring,
                self._typed,
                lambda: self._notify("history", job.name),
            )

    def _stay_on(self, on: bool) -> None:
        """Start the agent with every session from now on, or no longer; this one stays until the session
        ends, or goes with its windows."""
        if on:
            service.install(running=True)
        else:
            service.remove(running=True)
        self._while_used = not on
        self._clients_changed(self._server.count)

    def _reload(self) -> None:
        """Take in jobs that were made, changed or removed by other programs. Settings that cannot be read
        change nothing, and are said."""
        stamp = settings_stamp(self._settings)
        if stamp == self._stamp:
            return
        self._stamp = stamp
        try:
            jobs = load_jobs(self._settings)
        except PersonError as error:
            self._journal.add("trouble", "", error.what, (), "The jobs go on as they were.", error.advice)
            return
        for job in jobs:
            known = self._sessions.get(job.name)
            if known is None or known.job != job:
                self._job_changed(job)
        for name in [
            name
            for name, session in list(self._sessions.items())
            if not session.reading and name not in {job.name for job in jobs}
        ]:
            del self._sessions[name]
        self._notify("history", "")

    def _watch_disks(self) -> None:
        """Tell clients when a disk came or went."""
        before: dict[str, str] | None = None
        while not self._ended.is_set():
            now = {disk.id: disk.path for disk in self._disks.disks()}
            if before is not None and now != before:
                self._comings.went(set(before) - set(now))
                self._notify("disks", len(now))
                self.upkeep.keeper.poke()
            before = now
            self._disks.wait(_WATCH_SECONDS)

    def run(self) -> None:
        """Serve until ``end``."""
        self._watcher.start()
        self.upkeep.begin()
        self._server.serve()
        self._ended.set()
        self.upkeep.keeper.end()
        self._worker.stop()
        self._worker.wait()
        self._survey.end()
        self.upkeep.end()

    def end(self) -> None:
        """Stop serving; work at hand is stopped cleanly."""
        self._server.close()

    def _clients_changed(self, count: int) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        if self._while_used and count == 0:
            self._timer = threading.Timer(_LINGER_SECONDS, self._end_if_idle)
            self._timer.daemon = True
            self._timer.start()

    def _end_if_idle(self) -> None:
        if self._worker.current is None:
            self.end()
        else:
            self._clients_changed(0)

    def _called(self, name: str) -> Session | None:
        """The job of a name, or the one that had it before it was renamed."""
        sessions = list(self._sessions.values())
        return self._sessions.get(name) or next((one for one in sessions if name in one.job.former), None)

    def _session(self, ask: Asked) -> Session:
        """The job that a request means.

        Raises:
            PersonError: it names none, or there is none of that name.
        """
        session = self._called(ask.job)
        if session is None and not self._sessions:
            raise PersonError("There is no job on this machine yet", "Set one up first")
        if session is None:
            raise PersonError(
                f"There is no job {ask.job}" if ask.job else "No job is named",
                f"There are {', '.join(self._sessions)}",
            )
        return session

    def begin(self, wanted: SetUpRequest) -> MadeView:
        """Make a job as a set-up says, and begin its first snapshot."""
        made = self._desk.begin(wanted)
        self.upkeep.runs.start(self._sessions[made.job], Occasion.HAND)
        return made

    def overview(self, name: str = "") -> Overview:
        """Everything the window shows of a job before anything is chosen; of the first one there is, if there
        is none of that name."""
        if not self._sessions:
            return Overview("no-job", now=self._clock.now(), machine=self._here.machine.name)
        session = self._called(name) or next(iter(self._sessions.values()))
        job = session.job
        state = session.state()
        history, tide = session.history() if state in ("ready", "empty") else ("", [])
        return Overview(
            state=state,
            job=job.name,
            machine=session.machine.name,
            now=self._clock.now(),
            standing=None if session.reading else self.upkeep.standing(session),
            trouble=tuple(session.damage),
            stores=session.store_views(tide),
            store_use=job.store_use,
            rules=job.rules,
            jobs=tuple(self._sessions),
            reading=session.reading,
            history_read=session.read,
            covered=job.folders,
            home=job.home or home_folder(),
            tide=tuple(tide),
            history=history,
            pinned=self.upkeep.pinned(session) if tide else {},
            work=self._worker.current,
        )

    def _stay(self, coverage: Coverage, name: str) -> int | None:
        """Files of a job's newest snapshot that some rules would leave out; None where the store cannot be
        asked now."""
        session = self._sessions.get(name)
        try:
            return session.ruled_out(coverage) if session is not None else None
        except GoodTideError:
            return None

    def _kinds(self, name: str) -> Mapping[str, Kind]:
        """The kinds of files as a job extends them."""
        session = self._sessions.get(name)
        return extended(session.job.kinds if session is not None else {})

    def why(self, wanted: WhyRequest, job: str) -> WhyView:
        """Why a path is in or out."""
        return self._survey.why(
            wanted.folders, wanted.rules, wanted.path, wanted.home, self._clock.now(), job
        )

    def keep_coverage(self, session: Session, wanted: CoverageRequest) -> None:
        """Keep changed folders and rules of a job."""
        folders, _ = checked_folders(wanted.folders)
        job = session.job
        self._desk.change(msgspec.structs.replace(job, folders=folders, rules=wanted.rules))
        gone = [rule for rule in job.rules if rule not in wanted.rules]
        new = [rule for rule in wanted.rules if rule not in job.rules]
        detail = tuple([f"New rule: {rule}" for rule in new] + [f"Rule taken away: {rule}" for rule in gone])
        self._journal.add("good", job.name, "Coverage was changed", detail)

    def use_stores(self, session: Session, use: StoreUse) -> None:
        """Keep whether snapshots go to all stores or to one in turn."""
        self._desk.change(msgspec.structs.replace(session.job, store_use=use))

    def look_into(self, session: Session, folder: str) -> None:
        """Show history from another of the job's stores."""
        ref = next(
            (one for one in session.job.stores if folder in (one.path, str(session.folder_of(one)))), None
        )
        if ref is None:
            raise PersonError(f"The job has no store in {folder}", "Choose one of those there are")
        session.look_into(ref)

    def open_to_read(self, wanted: NewStoreRequest) -> str:
        """Open a store of any machine to look into it and restore from it. Each of its machines can then be
        chosen like a job; the name of one of them.

        Raises:
            GoodTideError: it cannot be opened, or holds no snapshot.
        """
        folder = Path(os.path.abspath(wanted.folder))
        store = open_counted(folder, wanted.passphrase, self._here.state, self._clock)
        if wanted.passphrase:
            self._typed[store.header.store] = wanted.passphrase
        machines = {snapshot.record.machine.id: snapshot.record.machine for snapshot in store.snapshots()[0]}
        if not machines:
            raise PersonError(f"The store in {folder} holds no snapshot", "Choose another one")
        for machine in machines.values():
            name = f"{machine.name} (only to read)"
            job = Job(name=name, folders=(), stores=(store_ref(self._disks, folder),), machine=machine)
            self._job_changed(job)
            self._sessions[name].reading = True
        return name

    def carry(self, session: Session, wanted: CarryRequest) -> None:
        """Begin to carry all snapshots from one of the job's stores to another."""
        refs = {str(session.folder_of(ref) or ref.path): ref for ref in session.job.stores}
        if wanted.source not in refs or wanted.target not in refs:
            raise PersonError("The job does not have both stores", "Add the other one first")
        source = session.openings.store(refs[wanted.source], Path(wanted.source))
        target = session.openings.store(refs[wanted.target], Path(wanted.target))

        def work(steering: Steering) -> Finished:
            report = carry(source, target, None, self._here.state, steering)
            words = (
                f"Carried {count_words(len(report.carried), 'snapshot')} over,"
                f" {size_words(report.stored_bytes)} stored; {report.already} were there already"
            )
            self._journal.add(
                "note" if report.damaged else "good",
                session.job.name,
                words,
                tuple(text for _, text in report.damaged),
            )
            return Finished("carry", words=words)

        self._worker.start("carry", work)

    def unlock(self, session: Session, wanted: UnlockRequest) -> None:
        """Open the store."""
        session.unlock(wanted.words, wanted.remember)


def run_agent(settings: Path | None, while_used: bool) -> int:
    """Run the agent until it is told to end. Returns the exit code."""
    settle_limits()
    here = this_workplace(settings)
    agent = Agent(here.settings, here, SystemClock(), while_used)

    def end(number: int, frame: FrameType | None) -> None:
        threading.Thread(target=agent.end).start()
        end_for_certain(_ENDING_SECONDS, 0)

    signal.signal(signal.SIGTERM, end)
    signal.signal(signal.SIGINT, end)
    agent.run()
    return 0
