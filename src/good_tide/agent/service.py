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
from good_tide.agent.work import Worker
from good_tide.core.clock import Clock, SystemClock
from good_tide.core.coverage import Coverage
from good_tide.core.errors import GoodTideError, PersonError
from good_tide.core.kinds import Kind, extended
from good_tide.core.progress import Steering
from good_tide.core.settings import Job, StoreUse
from good_tide.core.words import count_words, size_words
from good_tide.operations.carrying import carry
from good_tide.operations.comings import Comings
from good_tide.operations.disks import disks_for, store_ref
from good_tide.operations.jobs import Taken, checked_folders, open_counted, run_job
from good_tide.operations.noting import Notes
from good_tide.operations.selecting import home_folder
from good_tide.operations.workplace import Workplace, load_jobs, this_workplace
from good_tide.protocol.messages import (
    PROTOCOL_VERSION,
    Detail,
    Finished,
    FolderView,
    Found,
    Hello,
    JournalEntry,
    Overview,
    WhyView,
)
from good_tide.protocol.server import Handler, Server
from good_tide.protocol.sockets import agent_socket
from good_tide.system.disks import Disks
from good_tide.system.keyrings import DesktopKeyRing, KeyRing

_WATCH_SECONDS = 5.0
_APART = frozenset(("disks", "examine", "begin", "add-store", "open-to-read", "change-slots"))
"""Requests that touch disks which may hang, or stretch passphrases."""
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
        disks: Disks | None = None,
        ring: KeyRing | None = None,
    ) -> None:
        self._settings, self._here, self._clock, self._while_used = settings, here, clock, while_used
        self._disks, self._ring = disks or disks_for(settings), ring or DesktopKeyRing()
        self._sessions: dict[str, Session] = {}
        self._typed: dict[str, str] = {}
        self._current = ""
        self._timer: threading.Timer | None = None
        self._ended = threading.Event()
        self._worker = Worker(self._notify)
        self._restores = RestoreDesk(self._worker, clock)
        self._notes = Notes(here.state, clock)
        self._survey = SurveyDesk(self._notify, clock, self._stay, self._kinds)
        self._comings = Comings(here.state, clock)
        self._desk = SetUpDesk(settings, here, clock, self._disks, self._ring, self._typed, self._notes, self._comings, self._job_changed)
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
            "journal": lambda raw: self.journal(),
            "unlock": lambda raw: self.unlock(decode(raw, type=UnlockRequest)),
            "plan": lambda raw: restores.plan(job(), decode(raw, type=PlanRequest)),
            "restore": lambda raw: restores.restore(job(), decode(raw, type=NumberRequest).number),
            "undo": lambda raw: restores.undo(decode(raw, type=WordsRequest).words),
            "snapshot": lambda raw: self.snapshot(),
            "pause": lambda raw: self._worker.pause(),
            "resume": lambda raw: self._worker.resume(),
            "stop": lambda raw: self._worker.stop(),
            "choose-job": lambda raw: self.choose_job(decode(raw, type=WordsRequest).words),
            "proposal": lambda raw: desk.proposal(),
            "disks": lambda raw: desk.disks(decode(raw, type=PlaceQuestion)),
            "examine": lambda raw: desk.examine(decode(raw, type=PlaceQuestion)),
            "same-disk": lambda raw: desk.same_disk(*msgspec.structs.astuple(decode(raw, type=TwoRequest))),
            "begin": lambda raw: desk.begin(decode(raw, type=SetUpRequest)),
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

    def _watch_disks(self) -> None:
        """Tell clients when a disk came or went."""
        before: dict[str, str] | None = None
        while not self._ended.is_set():
            now = {disk.id: disk.path for disk in self._disks.disks()}
            if before is not None and now != before:
                self._comings.went(set(before) - set(now))
                self._notify("disks", len(now))
            before = now
            self._disks.wait(_WATCH_SECONDS)

    def run(self) -> None:
        """Serve until ``end``."""
        self._watcher.start()
        self._server.serve()
        self._ended.set()
        self._worker.stop()
        self._worker.wait()
        self._survey.end()

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
            every_minutes=job.every_minutes,
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
        self._notes.add("good", job.name, "Coverage was changed", detail)

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
        source = session.open_ref(refs[wanted.source], Path(wanted.source))
        target = session.open_ref(refs[wanted.target], Path(wanted.target))

        def work(steering: Steering) -> Finished:
            report = carry(source, target, None, self._here.state, steering)
            words = f"Carried {count_words(len(report.carried), 'snapshot')} over, {size_words(report.stored_bytes)} stored; {report.already} were there already"
            self._notes.add("note" if report.damaged else "good", session.job.name, words, tuple(text for _, text in report.damaged))
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

    def journal(self) -> list[JournalEntry]:
        """What happened, newest first: runs, and what was noted beside them."""
        session = self._job()
        noted = [JournalEntry(note.time, note.level, note.what, note.detail) for note in self._notes.all(session.job.name)]
        return sorted([*session.journal(), *noted], key=lambda entry: -entry.time)

    def unlock(self, wanted: UnlockRequest) -> None:
        """Open the store."""
        self._job().unlock(wanted.words, wanted.remember)

    def snapshot(self) -> None:
        """Begin a snapshot of the job's folders."""
        if self._job().reading:
            raise PersonError("This store was opened only to read", "Choose a job of this machine first")
        self._job().store()
        self._worker.start("snapshot", self._snapshot)

    def _snapshot(self, steering: Steering) -> Finished:
        session = self._job()
        taken = run_job(
            session.job, self._here.machine, session.open_ref, self._disks, self._clock, steering, self._here.state, self._here.cache
        )
        session.choose_present()
        session.sync()
        return self._finished(session.job, taken)

    def _finished(self, job: Job, taken: list[Taken]) -> Finished:
        """What became of a job's snapshot, in words. A store that failed beside others is said and noted."""
        failed = [(one.ref.name, one.error) for one in taken if one.error is not None]
        for name, error in failed:
            self._notes.add("trouble", job.name, f"No snapshot into {name}", (str(error),))
        done = [one.snapshot for one in taken if one.snapshot is not None]
        if not done:
            return Finished("snapshot", error="; ".join(f"{name}: {error}" for name, error in failed))
        tally = done[0].record.tally
        words = f"Snapshot taken: {count_words(tally.changed_files, 'changed file')}, {size_words(tally.new_bytes)} new"
        if len(done) > 1:
            words += f", into {count_words(len(done), 'store')}"
        if done[0].gaps:
            words += f"; {count_words(done[0].gaps, 'file')} could not be read"
        if failed:
            words += "; not into " + ", ".join(f"{name} ({error})" for name, error in failed)
        return Finished("snapshot", words=words)


def run_agent(settings: Path | None, while_used: bool) -> int:
    """Run the agent until it is told to end. Returns the exit code."""
    here = this_workplace()
    agent = Agent(settings or here.settings, here, SystemClock(), while_used)

    def end(number: int, frame: FrameType | None) -> None:
        threading.Thread(target=agent.end).start()

    signal.signal(signal.SIGTERM, end)
    signal.signal(signal.SIGINT, end)
    agent.run()
    return 0
