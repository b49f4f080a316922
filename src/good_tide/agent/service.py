"""The agent: the one process that does long work for a person's session."""

from __future__ import annotations

import logging
import os
import signal
import threading
from collections.abc import Mapping
from pathlib import Path
from types import FrameType

from good_tide import __version__
from good_tide.agent.comparing_handlers import ComparingHandlers
from good_tide.agent.environment import Environment, system_environment
from good_tide.agent.folder_watching import FolderWatching
from good_tide.agent.handing_handlers import HandingHandlers
from good_tide.agent.health_handlers import HealthHandlers
from good_tide.agent.history_handlers import HistoryHandlers
from good_tide.agent.job_session import JobSession
from good_tide.agent.journal_handlers import JournalHandlers
from good_tide.agent.mount_handlers import MountHandlers
from good_tide.agent.notifier import Notifier
from good_tide.agent.passphrases import TypedPassphrases
from good_tide.agent.path_handlers import PathHandlers
from good_tide.agent.proving import Proving
from good_tide.agent.replacing_handlers import ReplacingHandlers
from good_tide.agent.reports import Reports
from good_tide.agent.restore_handlers import RestoreHandlers
from good_tide.agent.runs import Runs
from good_tide.agent.schedule_handlers import ScheduleHandlers
from good_tide.agent.scheduler import Scheduler
from good_tide.agent.server_handlers import ServerHandlers
from good_tide.agent.sessions import Sessions
from good_tide.agent.setup_handlers import SetUpHandlers
from good_tide.agent.store_handlers import RoomHandlers, StoreHandlers
from good_tide.agent.survey_handlers import SurveyHandlers
from good_tide.agent.upkeep import Upkeep
from good_tide.agent.version_handlers import VersionHandlers
from good_tide.agent.worker import Worker
from good_tide.core.clock import Clock, SystemClock
from good_tide.core.coverage import Coverage
from good_tide.core.errors import GoodTideError
from good_tide.core.identifiers import JobId
from good_tide.core.planning import Occasion
from good_tide.core.settings import Job
from good_tide.lines.client import patience
from good_tide.operations.context import open_context
from good_tide.operations.jobs.changing import change_coverage, change_kinds
from good_tide.operations.records.disk_absences import DiskAbsences
from good_tide.operations.restore.restoring import note_cut_off
from good_tide.operations.schedule.run import cut_off_runs
from good_tide.operations.workplace import Workplace, load_jobs, this_workplace
from good_tide.protocol.agent_calls import (
    AgentFacts,
    DisksChanged,
    Hello,
    HistoryChanged,
    PauseWork,
    ResumeWork,
    StayRunning,
    StopWork,
    TakeItEasy,
)
from good_tide.protocol.contract import PROTOCOL_VERSION, Handler, Note
from good_tide.protocol.coverage_calls import KeepCoverage, KeepKinds
from good_tide.protocol.server import Server
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.starting import show_window
from good_tide.system import service
from good_tide.system.disk_choice import disks_for
from good_tide.system.keyrings import KeyRing
from good_tide.system.limits import exit_after, set_process_limits
from good_tide.system.system_log import to_system_log
from good_tide.viewing.apart import Viewer

_log = logging.getLogger(__name__)

_REST_SECONDS = 1.0
"""So long an agent that a window began looks after that window first."""
_WATCH_SECONDS = 15.0
"""The system tells at once when a disk is mounted or goes; so often the agent looks besides."""
_ENDING_SECONDS = 20.0
"""How long the agent may take to end when it is told to; what a disk that hangs holds up is not waited for
any longer."""
_LINGER_SECONDS = 20.0
"""How long an agent started by a window stays after the last window was closed."""


class Agent:
    """Puts together what answers the window's questions and what looks after itself, and serves until it is
    ended.

    :param while_used: end when no window is connected any more and nothing is being done.
    """

    def __init__(
        self,
        here: Workplace,
        clock: Clock,
        while_used: bool = False,
        environment: Environment | None = None,
        ring: KeyRing | None = None,
    ) -> None:
        settings = here.settings
        environment = environment or system_environment(
            disks_for(settings), lambda job, view: show_window(settings, job, view)
        )
        self.context = open_context(here, clock, environment.disks, ring, to_system_log)
        self._while_used = while_used
        self._timer: threading.Timer | None = None
        self._timing = threading.Lock()
        self._ended = threading.Event()
        self._typed = TypedPassphrases()
        self.sessions = Sessions(self._session)
        self._worker = Worker(self._tell)
        self._viewer = Viewer()
        self._servers = ServerHandlers(self.context, environment.announced)
        self._versions = VersionHandlers(self.context, self.sessions, self._viewer, environment.open_with)
        self._absences = DiskAbsences(here.state, clock)
        own = (str(here.state), str(here.cache), str(here.holdings))
        self._watching = FolderWatching(clock, self.context.journal, own, lambda: self.scheduler.poke())
        notifier = Notifier(environment.notices, self.context.journal, environment.show)
        self.runs = Runs(
            self.context, self._worker, notifier, environment.power, self._watching.touched, self._ran
        )
        self.reports = Reports(self.context)
        self.scheduler = Scheduler(
            self.context,
            self.sessions,
            environment.surroundings,
            self._watching,
            self.runs.start,
            self._looked,
            lambda: self.proving.look(),
        )
        self.schedule = ScheduleHandlers(
            self.context, environment, self.sessions, self._worker, self.runs, self.scheduler, self._watching
        )
        self.upkeep = Upkeep(
            self.context, self.sessions, notifier, self.reports, self.schedule.standings, self._tell
        )
        self.proving = Proving(self.context, self.sessions, self._worker, environment.surroundings)
        self.history = HistoryHandlers(self.context, self.sessions, self._worker, self.schedule)
        self.stores = StoreHandlers(
            self.context, self.sessions, self._typed, self._worker, self.scheduler.poke
        )
        self.journal = JournalHandlers(self.context, self.sessions, self.schedule.standing)
        self._mounts = MountHandlers(self.context, self.sessions, self._typed)
        self._survey = SurveyHandlers(clock, self._stay, self._kinds)
        for job in load_jobs(settings):
            self.sessions.take(job)
        socket = agent_socket(here.runtime, settings)
        self._server = Server(socket, self._handlers(), self._clients_changed, self._survey.gone)
        self._disk_watch = threading.Thread(target=self._watch_disks, name="disks", daemon=True)

    def _handlers(self) -> tuple[Handler, ...]:
        context, sessions, worker = self.context, self.sessions, self._worker
        facts = AgentFacts(__version__, PROTOCOL_VERSION, os.getpid())
        return (
            Hello.by(lambda wanted: facts),
            PauseWork.by(lambda wanted: worker.pause()),
            ResumeWork.by(lambda wanted: worker.resume()),
            StopWork.by(lambda wanted: worker.stop()),
            TakeItEasy.by(lambda wanted: worker.take_it_easy(wanted.on)),
            StayRunning.by(self.stay_running),
            KeepCoverage.by(self.keep_coverage),
            KeepKinds.by(self.keep_kinds),
            *self.history.handlers(),
            *ComparingHandlers(context, sessions).handlers(),
            *self._versions.handlers(),
            *RestoreHandlers(context, sessions, worker).handlers(),
            *self._mounts.handlers(),
            *PathHandlers(context, sessions).handlers(),
            *HandingHandlers(context, sessions, worker).handlers(),
            *self._survey.handlers(),
            *self._servers.handlers(),
            *SetUpHandlers(context, sessions, self._typed, self._absences, self._begin_first).handlers(),
            *self.stores.handlers(),
            *HealthHandlers(context, sessions, worker).handlers(),
            *ReplacingHandlers(context, sessions, self._typed, worker).handlers(),
            *RoomHandlers(context, sessions, worker, self._tell).handlers(),
            *self.schedule.handlers(),
            *self.journal.handlers(),
        )

    def _tell(self, note: Note) -> None:
        self._server.tell(note)

    def _session(self, job: Job, reading: bool) -> JobSession:
        caught_up = HistoryChanged(job.id)
        return JobSession(self.context, job, self._typed, lambda: self._tell(caught_up), reading)

    def _begin_first(self, session: JobSession) -> None:
        self.runs.start(session, Occasion.HAND)

    def _ran(self, session: JobSession, began: int, well: bool) -> None:
        if well:
            self._watching.taken_in(session.job.id, began)
        session.choose_present()
        self.scheduler.poke()

    def _looked(self) -> None:
        self.runs.look_for_hangs()
        self.upkeep.look()

    def stay_running(self, wanted: StayRunning) -> None:
        """Start the agent with every session from now on, or no longer; this one stays until the session
        ends, or goes with its windows."""
        if wanted.on:
            service.install(running=True)
        else:
            service.remove(running=True)
        self._while_used = not wanted.on
        self._clients_changed(self._server.count)

    def _watch_disks(self) -> None:
        """Tell clients when a disk came or went."""
        before: dict[str, str] | None = None
        while not self._ended.is_set():
            now = {disk.id: disk.path for disk in self.context.disks.disks()}
            if before is not None and now != before:
                came, went = len(set(now) - set(before)), len(set(before) - set(now))
                _log.info("%d disks came, %d went", came, went)
                self._absences.went(set(before) - set(now))
                self._tell(DisksChanged())
                self.scheduler.poke()
            before = now
            self.context.disks.wait(_WATCH_SECONDS)

    def run(self) -> None:
        """Serve until ``end``."""
        patience.usual = False  # whoever looks is told at once; work waits
        self._disk_watch.start()
        self._clients_changed(self._server.count)  # whoever began it may never come
        self.take_notice()
        if self._while_used:
            self.history.begin_ahead()
        self.scheduler.begin(_REST_SECONDS if self._while_used else 0.0)
        self._server.serve()
        self.close()

    def take_notice(self) -> None:
        """Note what an agent before this one left unfinished."""
        cut_off_runs(self.context, [session.job for session in self.sessions.own()])
        note_cut_off(self.context)

    def close(self) -> None:
        """Begin nothing any more, and wait for what is being done."""
        self._ended.set()
        self.scheduler.end()
        self._worker.stop()
        self._worker.wait()
        self._survey.end()
        self._mounts.close()
        self._watching.end()
        self.reports.wait()
        self.context.journal.close()

    def end(self) -> None:
        """Stop serving; work at hand is stopped cleanly."""
        self._server.close()
        self._viewer.close()

    def _clients_changed(self, count: int) -> None:
        with self._timing:
            if self._timer is not None:
                self._timer.cancel()
                self._timer = None
            if self._while_used and count == 0:
                self._timer = threading.Timer(_LINGER_SECONDS, self._end_if_idle)
                self._timer.daemon = True
                self._timer.start()

    def _end_if_idle(self) -> None:
        if not self._worker.occupied:
            self.end()
        else:
            self._clients_changed(0)

    def _stay(self, coverage: Coverage, job: JobId) -> int | None:
        """Files of a job's newest snapshot that some rules would leave out; None where the store cannot be
        asked now."""
        session = self.sessions.find(job)
        try:
            return session.ruled_out(coverage) if session is not None else None
        except GoodTideError:
            return None

    def _kinds(self, job: JobId) -> Mapping[str, tuple[str, ...]]:
        """What a job adds to the kinds of files."""
        session = self.sessions.find(job)
        return session.job.kinds if session is not None else {}

    def keep_coverage(self, wanted: KeepCoverage) -> None:
        """Keep changed folders and rules of a job."""
        job = self.sessions.of(wanted.job).job
        self.sessions.take(change_coverage(self.context, job, wanted.folders, wanted.rules))

    def keep_kinds(self, wanted: KeepKinds) -> None:
        """Keep what a job adds to the kinds of files."""
        job = self.sessions.of(wanted.job).job
        self.sessions.take(change_kinds(self.context, job, wanted.kinds))


def run_agent(settings: Path | None, while_used: bool) -> int:
    """Run the agent until it is told to end. Returns the exit code."""
    set_process_limits()
    here = this_workplace(settings)
    agent = Agent(here, SystemClock(), while_used)

    def end(number: int, frame: FrameType | None) -> None:
        threading.Thread(target=agent.end).start()
        exit_after(_ENDING_SECONDS, 0)

    signal.signal(signal.SIGTERM, end)
    signal.signal(signal.SIGINT, end)
    agent.run()
    return 0
