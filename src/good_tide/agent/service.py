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
from good_tide.operations.carrying import carry
from good_tide.operations.comings import Comings
from good_tide.operations.disks import disks_for, store_ref
from good_tide.operations.jobs import checked_folders, open_counted
from good_tide.operations.selecting import home_folder
from good_tide.operations.workplace import Workplace, load_jobs, settings_stamp, this_workplace
from good_tide.protocol.messages import (
    PROTOCOL_VERSION,
    Detail,
    Finished,
    FolderView,
    Found,
    Hello,
    MadeView,
    Overview,
    WhyView,
)
from good_tide.protocol.server import Handler, Server
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.starting import show_window
from good_tide.system import service
from good_tide.system.keyrings import DesktopKeyRing, KeyRing
from good_tide.system.limits import end_for_certain, settle_limits

_WATCH_SECONDS = 15.0
"""The system tells at once when a disk is mounted or goes; so often the agent looks besides."""
_APART = frozenset((
    "disks", "examine", "begin", "add-store", "open-to-read", "change-slots", "eject", "fleet", "room", "stay", "report", "export-journal",
    "held", "plan-release", "plan-purge", "keep-mail-server", "try-mail-server",
))  # fmt: skip
"""Requests that touch disks which may hang, stretch passphrases, or ask servers."""
_ENDING_SECONDS = 20.0
"""How long the agent may take to end when it is told to; what a disk that hangs holds up is not waited for any longer."""
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
        around = around or system_around(disks_for(settings), lambda job, place: show_window(settings, job, place))
        self._disks, self._ring = around.disks, ring or DesktopKeyRing()
        self._sessions: dict[str, Session] = {}
        self._typed: dict[str, str] = {}
        self._current = ""
        self._timer: threading.Timer | None = None
        self._ended = threading.Event()
        self._worker = Worker(self._notify)
        self._restores = RestoreDesk(self._worker, clock)
        self.upkeep = Upkeep(
            here, clock, around, self._ring, self._worker, self._sessions, self._job, lambda job: self._desk.change(job), self._notify, self._reload, self._stay_on
        )  # fmt: skip
        self._journal = self.upkeep.journal
        self._survey = SurveyDesk(self._notify, clock, self._stay, self._kinds)
        self._comings = Comings(here.state, clock)
        self._desk = SetUpDesk(settings, here, clock, self._disks, self._ring, self._typed, self._journal, self._comings, self._job_changed)
        self._stamp = settings_stamp(settings)
        for job in load_jobs(settings):
            self._job_changed(job, current=not self._current)
        self._server = Server(agent_socket(here.runtime, settings), self._handlers(), self._clients_changed, _APART)
        self._watcher = threading.Thread(target=self._watch_disks, name="disks", daemon=True)

    def _handlers(self) -> dict[str, Handler]:
        decode, desk, job, restores = msgspec.json.decode, self._desk, self._job, self._restores
        return {
            "hello": lambda raw: Hello(__version__, PROTOCOL_VERSION, os.getpid()),
            "overview": lambda raw: self.overview(),
            "folder": lambda raw: self.folder(decode(raw, type=PathRequest).path),
            "detail": lambda raw: self.detail(decode(raw, type=PathAtRequest)),
            "find": lambda raw: self.find(decode(raw, type=WordsRequest).words),
            "unlock": lambda raw: self.unlock(decode(raw, type=UnlockRequest)),
            "plan": lambda raw: restores.plan(job(), decode(raw, type=PlanRequest)),
            "restore": lambda raw: restores.restore(job(), decode(raw, type=NumberRequest).number),
            "undo": lambda raw: restores.undo(decode(raw, type=WordsRequest).words),
            "pause": lambda raw: self._worker.pause(),
            "resume": lambda raw: self._worker.resume(),
            "stop": lambda raw: self._worker.stop(),
            "choose-job": lambda raw: self.choose_job(decode(raw, type=WordsRequest).words),
            "proposal": lambda raw: desk.proposal(),
            "disks": lambda raw: desk.disks(decode(raw, type=PlaceQuestion)),
            "examine": lambda raw: desk.examine(decode(raw, type=PlaceQuestion)),
            "same-disk": lambda raw: desk.same_disk(*msgspec.structs.astuple(decode(raw, type=TwoRequest))),
            "begin": lambda raw: self.begin(decode(raw, type=SetUpRequest)),
            "survey": lambda raw: self._survey.ask(decode(raw, type=SurveyRequest)),
            "survey-folder": lambda raw: self._survey.inside(decode(raw, type=PathRequest).path),
            "why": lambda raw: self.why(decode(raw, type=WhyRequest)),
            "keep-coverage": lambda raw: self.keep_coverage(decode(raw, type=CoverageRequest)),
            "add-store": lambda raw: desk.add_store(job(), decode(raw, type=NewStoreRequest)),
            "open-to-read": lambda raw: self.open_to_read(decode(raw, type=NewStoreRequest)),
            "drop-store": lambda raw: desk.drop_store(job(), decode(raw, type=WordsRequest).words),
            "store-use": lambda raw: self.use_stores(decode(raw, type=UseRequest).use),
            "look-into": lambda raw: self.look_into(decode(raw, type=WordsRequest).words),
            "slots": lambda raw: desk.slots(job(), decode(raw, type=WordsRequest).words),
            "change-slots": lambda raw: desk.change_slots(job(), decode(raw, type=SlotRequest)),
            "carry": lambda raw: self.carry(decode(raw, type=CarryRequest)),
            **self.upkeep.handlers(),
        }

    def _notify(self, method: str, value: object) -> None:
        self._server.notify(method, value)

    def _job_changed(self, job: Job, current: bool = True) -> None:
        """Take in a job that was made or changed. What its session knew of passphrases is kept."""
        known = self._sessions.get(job.name)
        if known is not None:
            known.take_job(job)
        else:
            self._sessions[job.name] = Session(
                job, self._here, self._clock, self._disks, self._ring, self._typed, lambda: self._notify("history", job.name)
            )
        if current:
            self._current = job.name

    def _stay_on(self, on: bool) -> None:
        """Start the agent with every session from now on, or no longer; this one stays until the session ends, or goes with its windows."""
        if on:
            service.install(running=True)
        else:
            service.remove(running=True)
        self._while_used = not on
        self._clients_changed(self._server.count)

    def _reload(self) -> None:
        """Take in jobs that were made, changed or removed by other programs. Settings that cannot be read change nothing, and are said."""
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
                self._job_changed(job, current=not self._current)
        for name in [name for name, session in self._sessions.items() if not session.reading and name not in {job.name for job in jobs}]:
            del self._sessions[name]
        if self._current not in self._sessions:
            self._current = next(iter(self._sessions), "")
        self._notify("history", self._current)

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

    def _job(self) -> Session:
        session = self._sessions.get(self._current)
        if session is None:
            raise PersonError("There is no job on this machine yet", "Set one up first")
        return session

    def begin(self, wanted: SetUpRequest) -> MadeView:
        """Make a job as a set-up says, and begin its first snapshot."""
        made = self._desk.begin(wanted)
        self.upkeep.runs.start(self._sessions[made.job], Occasion.HAND)
        return made

    def choose_job(self, name: str) -> None:
        """Make another job the one that is shown.

        Raises:
            PersonError: there is none of that name.
        """
        if name not in self._sessions:
            raise PersonError(f"There is no job {name}", "Choose one of those there are")
        self._current = name

    def overview(self) -> Overview:
        """Everything the window shows before anything is chosen."""
        if not self._sessions:
            return Overview("no-job", now=self._clock.now(), machine=self._here.machine.name)
        session = self._job()
        job = session.job
        state = session.state()
        tide = session.tide() if state in ("ready", "empty") else []
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
            pinned=self.upkeep.pinned() if tide else {},
            work=self._worker.current,
        )

    def _stay(self, coverage: Coverage) -> int | None:
        """Files of the newest snapshot that some rules would leave out; None where the store cannot be asked now."""
        try:
            return self._job().ruled_out(coverage)
        except GoodTideError:
            return None

    def _kinds(self) -> Mapping[str, Kind]:
        """The kinds of files as the job that is shown extends them."""
        session = self._sessions.get(self._current)
        return extended(session.job.kinds if session is not None else {})

    def why(self, wanted: WhyRequest) -> WhyView:
        """Why a path is in or out."""
        return self._survey.why(wanted.folders, wanted.rules, wanted.path, wanted.home, self._clock.now())

    def keep_coverage(self, wanted: CoverageRequest) -> None:
        """Keep changed folders and rules of the job."""
        folders, _ = checked_folders(wanted.folders)
        job = self._job().job
        self._desk.change(msgspec.structs.replace(job, folders=folders, rules=wanted.rules))
        gone = [rule for rule in job.rules if rule not in wanted.rules]
        new = [rule for rule in wanted.rules if rule not in job.rules]
        detail = tuple([f"New rule: {rule}" for rule in new] + [f"Rule taken away: {rule}" for rule in gone])
        self._journal.add("good", job.name, "Coverage was changed", detail)

    def use_stores(self, use: StoreUse) -> None:
        """Keep whether snapshots go to all stores or to one in turn."""
        self._desk.change(msgspec.structs.replace(self._job().job, store_use=use))

    def look_into(self, folder: str) -> None:
        """Show history from another of the job's stores."""
        session = self._job()
        ref = next((one for one in session.job.stores if folder in (one.path, str(session.folder_of(one)))), None)
        if ref is None:
            raise PersonError(f"The job has no store in {folder}", "Choose one of those there are")
        session.look_into(ref)

    def open_to_read(self, wanted: NewStoreRequest) -> None:
        """Open a store of any machine to look into it and restore from it. Each of its machines can then be chosen like a job.

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

    def carry(self, wanted: CarryRequest) -> None:
        """Begin to carry all snapshots from one of the job's stores to another."""
        session = self._job()
        refs = {str(session.folder_of(ref) or ref.path): ref for ref in session.job.stores}
        if wanted.source not in refs or wanted.target not in refs:
            raise PersonError("The job does not have both stores", "Add the other one first")
        source = session.openings.store(refs[wanted.source], Path(wanted.source))
        target = session.openings.store(refs[wanted.target], Path(wanted.target))

        def work(steering: Steering) -> Finished:
            report = carry(source, target, None, self._here.state, steering)
            words = f"Carried {count_words(len(report.carried), 'snapshot')} over, {size_words(report.stored_bytes)} stored; {report.already} were there already"
            self._journal.add("note" if report.damaged else "good", session.job.name, words, tuple(text for _, text in report.damaged))
            return Finished("carry", words=words)

        self._worker.start("carry", work)

    def folder(self, path: bytes) -> FolderView:
        """Lifelines of a folder."""
        return self._job().folder(path)

    def detail(self, wanted: PathAtRequest) -> Detail:
        """One version."""
        return self._job().detail(wanted.path, wanted.seq)

    def find(self, words: str) -> list[Found]:
        """Search by name in all of history."""
        return self._job().find(words)

    def unlock(self, wanted: UnlockRequest) -> None:
        """Open the store."""
        self._job().unlock(wanted.words, wanted.remember)


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
